"""Messages as they are found, connection by connection in any order."""

from collections.abc import Sequence

import numpy as np

from yaffle.arrays import Array, Int64s
from yaffle.exchanges.messages import Messages
from yaffle.exchanges.reading import Told
from yaffle.exchanges.turns import TURN, TurnRows
from yaffle.texts import Texts

_MANY = 64  # Texts of one connection that are worth it to be joined as they are.


class Gathering:
    """What was found of some connections."""

    def __init__(self, begin: int, end: int) -> None:
        self._begin, self._end = begin, end
        self._rows: dict[int, tuple[Array, Sequence[str], Sequence[str]]] = {}
        self.protocol: dict[int, str] = {}
        self._host: dict[int, str] = {}
        self._note: dict[int, str] = {}
        self._values: dict[int, Sequence[tuple[str, ...]]] = {}

    def take(self, c: int, told: Told) -> None:
        """A connection from the plain way."""
        self.add(c, told.protocol, told.rows, told.label, told.outcome, told.host, told.note)
        if any(told.values):
            self._values[c] = told.values

    def add(
        self,
        c: int,
        protocol: str,
        rows: TurnRows,
        label: Sequence[str],
        outcome: Sequence[str],
        host: str,
        note: str = "",
    ) -> None:
        """A connection with its rows and texts."""
        self.protocol[c] = protocol
        self._rows[c] = (rows, label, outcome)
        if note:
            self._note[c] = note
        if host:
            self._host[c] = host

    def take_over(self, former: Messages, rows: Int64s) -> None:
        """Connections that a former reading decoded. rows: of each connection the former one, -1 without."""
        for c in (np.flatnonzero(rows[self._begin : self._end] >= 0) + self._begin).tolist():
            was = int(rows[c])
            if was not in former.protocol:
                continue
            own = slice(int(former.starts[was]), int(former.starts[was + 1]))
            told = former.turns[own], former.label[own], former.outcome[own]
            self.add(c, former.protocol[was], *told, former.host.get(was, ""), former.note.get(was, ""))
            values = [former.values.get(m, ()) for m in range(own.start, own.stop)] if former.values else []
            if any(values):
                self._values[c] = values

    def messages(self) -> Messages:
        """All of them, in order of connections; `starts` and `turns` count from the first of these connections."""
        order = sorted(self._rows)
        counts = np.zeros(self._end - self._begin, np.int64)
        places = np.array(order, np.int64) - self._begin
        counts[places] = [self._rows[c][0].size for c in order]
        turns = np.zeros(int(counts.sum()), TURN)
        for c, at in zip(
            order, (np.cumsum(counts) - counts)[places].tolist(), strict=True
        ):  # Joining so many tables of records would compare their columns each time.
            turns[at : at + self._rows[c][0].size] = self._rows[c][0]
        turns["message"] = np.arange(turns.size)
        starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
        return Messages(
            starts,
            turns,
            _texts([self._rows[c][1] for c in order]),
            _texts([self._rows[c][2] for c in order]),
            self.protocol,
            self._host,
            self._note,
            {
                int(starts[c - self._begin]) + k: held
                for c, every in self._values.items()
                for k, held in enumerate(every)
                if held
            },
        )


def _texts(parts: list[Sequence[str]]) -> Texts:
    """Texts of many connections, one after another: few of one as strings, many as they are held."""
    found: list[Texts] = []
    loose: list[str] = []
    for part in parts:
        if isinstance(part, Texts) and len(part) >= _MANY:
            found += [Texts.of(loose), part]
            loose = []
        else:
            loose.extend(part)
    return Texts.joined([*found, Texts.of(loose)])
