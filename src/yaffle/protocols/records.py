"""Records whose insides cannot be read: both sides put in order of time, and turns of them taken for exchanges."""

from dataclasses import dataclass

from yaffle.protocols.message import Pair


@dataclass(slots=True)
class Record:
    """One record of a stream. `body` only where it can be read."""

    kind: int
    at: int
    end: int
    body: bytes = b""


Flow = list[tuple[int, Record]]  # (side, record)
Order = list[tuple[int, int]]  # (side, place behind the last byte) of each segment, in order of time


def in_time(asked: list[Record], told: list[Record], order: Order) -> Flow:
    """Records of both sides in order of when their first bytes passed."""
    flow: Flow = []
    queues, at = ([*asked], [*told]), [0, 0]
    ends = [0, 0]
    for side, end in order:
        ends[side] = max(ends[side], end)
        queue = queues[side]
        while at[side] < len(queue) and queue[at[side]].at < ends[side]:
            flow.append((side, queue[at[side]]))
            at[side] += 1
    return flow


def turns(flow: Flow, label: str) -> list[Pair]:
    """What the client sent until the server spoke, with what came back until the client spoke again."""
    found: list[Pair] = []
    for side, record in flow:
        if side == 0:
            if not found or found[-1].answer >= 0:
                found.append(Pair(record.at, record.end, label=label, outcome="unanswered"))
            found[-1].request_end = record.end
        elif found:
            if found[-1].answer < 0:
                found[-1].answer, found[-1].outcome = record.at, "answered"
            found[-1].answer_end = record.end
    return found
