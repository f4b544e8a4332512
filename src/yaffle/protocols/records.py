"""Records whose insides cannot be read: both sides put in order of time, and turns of them taken for exchanges."""

from collections import deque
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from yaffle.protocols.message import Pair


@dataclass(slots=True)
class Record:
    """One record of a stream. `body` only where it can be read."""

    kind: int
    at: int
    end: int
    body: bytes = b""
    broken_off: bool = False  # shorter than it says


Order = Sequence[tuple[int, int]]  # (side, place behind the last byte) of each segment, in order of time


class InTime:
    """Records of both sides put in order of when their first bytes passed, as they come."""

    def __init__(self) -> None:
        self._queues: tuple[deque[Record], deque[Record]] = (deque(), deque())
        self._order: deque[tuple[int, int]] = deque()
        self._ends = [0, 0]

    def take(self, side: int, records: Iterable[Record]) -> None:
        """Records of one side, in their order."""
        self._queues[side].extend(records)

    def passed(self, order: Order, unread: tuple[int, int] | None) -> list[tuple[int, Record]]:
        """What passed next. order: segments that came since. unread: the place of each side behind which records may
        still begin; None where there are no more.
        """
        self._order.extend(order)
        flow: list[tuple[int, Record]] = []
        while self._order:
            side, end = self._order[0]
            self._ends[side] = max(self._ends[side], end)
            queue = self._queues[side]
            while queue and queue[0].at < self._ends[side]:
                flow.append((side, queue.popleft()))
            if unread is not None and unread[side] < self._ends[side]:
                break  # A record begins there that is not whole yet.
            self._order.popleft()
        return flow


class Turns:
    """What the client sent until the server spoke, with what came back until the client spoke again."""

    def __init__(self) -> None:
        self.open: Pair | None = None

    def take(self, side: int, record: Record, label: str) -> Pair | None:
        """The next record; gives the turn that it ends."""
        last = self.open
        if side == 0:
            if last is None or last.answer >= 0:
                self.open = Pair(record.at, record.end, label=label, outcome="unanswered")
                return last
            last.request_end = record.end
        elif last is not None:
            if last.answer < 0:
                last.answer, last.outcome = record.at, "answered"
            last.answer_end, last.broken_off = record.end, record.broken_off
        return None
