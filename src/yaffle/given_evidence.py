"""What a command was given as a place of this machine: a path as it is, a case or a history of a store fetched."""

from pathlib import Path

from yaffle.progress import Progress, go_on
from yaffle.terminal import progress_bar


def given_in_terminal(text: str) -> Path:
    """The same for a command, which shows how far it is. Raises YaffleError."""
    bar, step = progress_bar()
    with bar:
        return given(text, step)


def given(text: str, progress: Progress = go_on) -> Path:
    """A path, or an address of a store; of a history what is asked for is fetched when it is. Raises YaffleError;
    Cancelled when `progress` says so.
    """
    from yaffle.file_store import is_url

    if not is_url(text):
        return Path(text)
    from yaffle.case.folder import SUFFIX
    from yaffle.case.stored import case_here
    from yaffle.errors import CaseError
    from yaffle.history.mirror import is_stored, mirrored

    if text.rstrip("/").endswith(SUFFIX):
        return case_here(text, progress)
    if not is_stored(text):
        raise CaseError(
            f"{text}: of a store, cases ({SUFFIX}) and histories are opened, and this is neither; captures are analyzed"
            " there first (yaffle analyse --case)"
        )
    return mirrored(text, progress=progress)
