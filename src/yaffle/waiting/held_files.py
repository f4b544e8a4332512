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
NEXT = "next.pcapng"  # what is carried into a run that has not begun
_STATE, _CARRIED = "state.json", "carried-{}.pcapng"


@dataclass(frozen=True)
class State:
    """Where accounting stands: which run it is, and the file with which the run begins."""

    run: int
    first: str  # name of a file of the ring; empty: the oldest there is
    carried: bool = False  # whether connections go on from files before
    since_ns: int = 0  # minutes before are not told: a run before said what there was to say


class HeldFiles:
    """Of one ring."""

    def __init__(self, ring: Path) -> None:
        self.ring, self.folder = ring, ring / FOLDER
        self.folder.mkdir(parents=True, exist_ok=True)
        self.names: list[str] = []

    def carried(self, state: State) -> Path:
        """Packets of connections that go on from files before a run."""
        return self.folder / _CARRIED.format(state.run)

    def state(self) -> State | None:
        """As it was left; None where nothing was, or it cannot be used."""
        try:
            told = json.loads((self.folder / _STATE).read_text())
            state = State(int(told["run"]), str(told["first"]), bool(told["carried"]), int(told["since_ns"]))
        except (OSError, ValueError, KeyError, TypeError):
            return None
        return state if self.carried(state).exists() or not state.carried else None

    def turn(self, state: State) -> None:
        """Another run begins, with one rename; held files are let go. What is carried lies as NEXT by then."""
        if state.carried:
            (self.folder / NEXT).replace(self.carried(state))
        part = self.folder / "state.part"
        part.write_text(json.dumps(asdict(state)))
        part.replace(self.folder / _STATE)
        self._keep({self.carried(state).name})
        self.names = []

    def still_held(self, state: State) -> list[Path]:
        """Files of a run that a former process held; others are let go."""
        own = self.carried(state).name
        held = [path for path in sorted(self.folder.glob("*.pcapng")) if state.first and path.name >= state.first]
        kept = [path for path in held if not path.name.startswith(_CARRIED.partition("{")[0])]
        self.names = [path.name for path in kept]
        self._keep({own, *self.names})
        return kept

    def _keep(self, names: set[str]) -> None:
        for path in self.folder.glob("*.pcapng"):
            if path.name not in names:
                path.unlink(missing_ok=True)

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
