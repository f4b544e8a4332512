"""The files of a ring that are worked on, held so that the ring's bound does not take them away before they were read.

They lie as further names of the same files in a folder inside the ring, with what goes on from files before.
"""

import json
import os
from contextlib import suppress
from dataclasses import asdict, dataclass
from pathlib import Path

from yaffle.capture.ring_folder import files_of

FOLDER = ".waits"
_STATE, _CARRIED, _NEXT = "state.json", "carried.pcapng", "next.pcapng"


@dataclass(frozen=True)
class State:
    """Where accounting stands: which run it is, and the file with which the run begins."""

    run: int
    first: str  # name of a file of the ring; empty: the oldest there is
    carried: bool = False  # whether connections go on from files before


class HeldFiles:
    """Of one ring."""

    def __init__(self, ring: Path) -> None:
        self.ring, self.folder = ring, ring / FOLDER
        self.folder.mkdir(parents=True, exist_ok=True)
        self.names: list[str] = []

    @property
    def carried(self) -> Path:
        """Packets of connections that go on from files before."""
        return self.folder / _CARRIED

    def state(self) -> State | None:
        """As it was left; None where nothing was, or it cannot be used."""
        try:
            told = json.loads((self.folder / _STATE).read_text())
            state = State(int(told["run"]), str(told["first"]), bool(told["carried"]))
        except (OSError, ValueError, KeyError, TypeError):
            return None
        return state if self.carried.exists() or not state.carried else None

    def turn(self, state: State) -> None:
        """Another run begins; held files are let go. What is carried lies as `next.pcapng` by then."""
        fresh = self.folder / _NEXT
        if state.carried:  # Killed between the two renames, the former run finds more carried than it had: all known.
            fresh.replace(self.carried)
        part = self.folder / "state.part"
        part.write_text(json.dumps(asdict(state)))
        part.replace(self.folder / _STATE)
        for path in self.folder.glob("*.pcapng"):
            if path.name != _CARRIED:
                path.unlink(missing_ok=True)
        self.names = []

    def still_held(self, state: State) -> list[Path]:
        """Files of a run that a former process held; others are let go."""
        held = sorted(path for path in self.folder.glob("*.pcapng") if path.name not in (_CARRIED, _NEXT))
        kept = [path for path in held if state.first and path.name >= state.first]
        for path in held:
            if path not in kept:
                path.unlink()
        self.names = [path.name for path in kept]
        return kept

    def newer(self, state: State) -> list[str]:
        """Names of the ring's files that are not held yet, the oldest first."""
        last = self.names[-1] if self.names else ""
        return [p.name for p in files_of(self.ring) if p.name > last and p.name >= state.first]

    def hold(self, name: str) -> Path | None:
        """Holds a file of the ring; None where it went meanwhile."""
        path = self.folder / name
        with suppress(FileExistsError):
            try:
                os.link(self.ring / name, path)
            except FileNotFoundError:
                return None
        self.names.append(name)
        return path
