"""How the collector of a history is doing."""

import fcntl
import json
from pathlib import Path
from typing import Any

from yaffle.collector.supervisor import STOPPED
from yaffle.errors import YaffleError
from yaffle.history.layout import is_history
from yaffle.history.mirror import mirror_at

FORMAT, VERSION, STATUS = "yaffle-status", 1, "collector.json"
_NOBODY = "no collector is running"


def status_of(folder: Path) -> dict[str, Any]:
    """What a collector said last of its tasks; where none is running they are stopped. Raises YaffleError."""
    if not is_history(folder):
        raise YaffleError(f"{folder}: this is no history")
    if (mirror := mirror_at(folder)) is not None:
        elsewhere = f"{mirror.url}: how its collectors are doing is told where they run"
        return {
            "format": FORMAT, "version": VERSION, "trouble": elsewhere, "config": "", "tasks": [], "watches": [],
        }  # fmt: skip
    path = folder / STATUS
    try:
        told = json.loads(path.read_text(encoding="utf-8")) if path.exists() else {"tasks": []}
        tasks = [{key: task[key] for key in ("task", "address", "state", "why", "since_ns")} for task in told["tasks"]]
        watches = [
            {key: one[key] for key in ("watch", "subject", "state", "since_ns")} for one in told.get("watches", [])
        ]
        trouble, config = str(told.get("trouble", "")), str(told.get("config", ""))
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise YaffleError(f"{path}: cannot be read ({error})") from error
    if not _is_written(folder):
        tasks, trouble = [{**task, "state": STOPPED, "why": _NOBODY} for task in tasks], trouble or _NOBODY
    return {
        "format": FORMAT, "version": VERSION, "trouble": trouble, "config": config, "tasks": tasks, "watches": watches,
    }  # fmt: skip


def _is_written(folder: Path) -> bool:
    """Whether somebody is writing the history."""
    try:
        with (folder / "lock").open("r+") as held:
            fcntl.flock(held, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except OSError:
        return False
    return False
