"""Whose socket is whose: by its inode the process, its program and its unit, as far as this user may see them
(proc(5)).
"""

import os
import re
from dataclasses import dataclass
from pathlib import Path

_SOCKET = re.compile(r"^socket:\[(\d+)\]$")
_UNIT = re.compile(r"([^/]+\.(?:service|scope))")


@dataclass(frozen=True)
class Owner:
    """A process."""

    process: int
    program: str
    unit: str


def owners(proc: Path = Path("/proc")) -> dict[int, Owner]:
    """Owners by the inode of their sockets; processes that may not be looked into are left out."""
    found: dict[int, Owner] = {}
    for entry in os.scandir(proc):
        if not entry.name.isdigit():
            continue
        own: Owner | None = None
        try:
            for handle in os.scandir(f"{entry.path}/fd"):
                if told := _SOCKET.match(os.readlink(handle.path)):
                    own = own or _owner(Path(entry.path))
                    found[int(told[1])] = own
        except OSError:  # Not ours to look into, or gone meanwhile.
            continue
    return found


def _owner(process: Path) -> Owner:
    groups = (process / "cgroup").read_text()
    unit = _UNIT.findall(groups)
    return Owner(int(process.name), (process / "comm").read_text().strip(), unit[-1] if unit else "")
