"""Errors that every layer may raise. Their text says where, what was found, what was expected, by which rule."""


class YaffleError(Exception):
    """Something the user can understand and act upon; shown as one line, never as a traceback."""


class FormatError(YaffleError, ValueError):
    """Bytes break the format they claim. Callers read `at`, an offset in bytes; they never parse the text."""

    def __init__(self, what: str, *, at: int, found: object, expected: object, rule: str) -> None:
        super().__init__(f"byte {at}: {what} is {found}, expected {expected} ({rule})")
        self.at = at


class TruncatedError(FormatError):
    """The bytes end inside a structure: in a file that is still growing, worth trying again."""


class CaseError(YaffleError):
    """A case folder is missing, broken or of a later version."""


class Cancelled(YaffleError):  # noqa: N818  (not an error of anyone)
    """The user told long work to stop."""

    def __init__(self) -> None:
        super().__init__("stopped on request")
