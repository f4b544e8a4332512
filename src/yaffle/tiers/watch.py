"""Who is told how far the links are, and can stop them."""


class Watch:
    """Who looks on while calls are weighed; this one lets everything pass."""

    def begin(self, work: int) -> None:
        """About so many possible owners will be weighed; more where much is in doubt."""

    def went(self, work: int) -> None:
        """So many were. May be called by several threads; raises Cancelled where it shall not go on."""
