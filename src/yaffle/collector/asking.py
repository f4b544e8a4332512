"""What people ask a running collector to do: a file each, which it takes away when it is done."""

from pathlib import Path
from uuid import uuid4

from yaffle.collector.status import status_of
from yaffle.errors import YaffleError
from yaffle.history.parts import write_json

ASKED = "asked"  # a folder in the history


def ask_collector(history: Path, watch: str, subject: str = "", words: str = "") -> None:
    """Asks to acknowledge what a watch raised. Raises YaffleError where nothing of it is raised, or nobody collects."""
    told = status_of(history)
    if not any(one["state"] == "running" for one in told["tasks"]):
        raise YaffleError(f"{history}: no collector is running that could be asked")
    raised = [one for one in told["watches"] if one["watch"] == watch and subject in ("", one["subject"])]
    if not any(one["state"] in ("raised", "clearing", "unknown") for one in raised):
        raise YaffleError(f"{watch}{f', {subject}' if subject else ''}: nothing of it is raised")
    try:
        write_json(history / ASKED / f"{uuid4().hex}.json", {"watch": watch, "subject": subject, "words": words})
    except OSError as error:
        raise YaffleError(f"{history}: cannot be written ({error.strerror or error})") from error
