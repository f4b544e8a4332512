"""Exchanges by turns: bytes from the client, then bytes from the server, until the client sends new bytes again.

Works for any protocol, encrypted or not, in which a side answers the other. Bytes that the server sends before it was
asked anything belong to no exchange. A turn without an answer is one only where it was waited for (ledger.parting).
"""

import numpy as np

from yaffle.arrays import Struct, Structs
from yaffle.capture.packets import ACK, SYN
from yaffle.kernels import int64, kernel
from yaffle.transport import kinds
from yaffle.transport.kinds import probes
from yaffle.transport.segments import Segments

# One row an exchange: indices into the connection's segments. answer is -1 where none was seen; stop is one past the
# last.
# kind: as in protocols.message; message: number of its label, -1 where it was told by turns of bytes.
TURN = np.dtype(
    [
        (name, np.int64)
        for name in (
            "first",
            "answer",
            "stop",
            "request_end",
            "response_end",
            "request_bytes",
            "response_bytes",
            "kind",
            "message",
        )
    ]
)
UNENDED = 1 << 62  # response_end of an answer that broke off before it was whole
TurnRows = Structs  # of TURN
TurnRow = Struct  # one of them


def empty_turns(capacity: int) -> TurnRows:
    """Room for as many exchanges as a connection has packets."""
    return np.empty(capacity, TURN)


@kernel
def find_turns(g: Segments, turns: TurnRows) -> int:
    """Fills `turns` and returns how many there are. Repeats and copies do not begin a turn."""
    n = g.size
    count = 0
    asked = int64(-(1 << 62))  # highest byte of the client so far
    told = int64(-(1 << 62))  # highest byte of the server so far
    open_turn = False
    for i in range(n):
        size = g[i].n
        base = g[i].kind & kinds.KIND_MASK
        if size == 0 or base == kinds.COPY or base == kinds.RESET or probes(g[i].kind) or g[i].flags & SYN:
            continue
        end = g[i].s + size
        if g[i].d == 0:
            if end <= asked:
                continue
            fresh = end - max(asked, g[i].s)
            if not open_turn or turns[count - 1].answer >= 0:
                if open_turn:
                    turns[count - 1].stop = i
                turns[count].first = i
                turns[count].answer = -1
                turns[count].stop = n
                turns[count].request_bytes = 0
                turns[count].response_bytes = 0
                turns[count].response_end = told
                turns[count].kind = 0
                turns[count].message = -1
                count += 1
                open_turn = True
            turns[count - 1].request_bytes += fresh
            turns[count - 1].request_end = end
            asked = end
        else:
            if open_turn and turns[count - 1].answer >= 0 and end > told and g[i].flags & ACK and g[i].a > asked:
                turns[count - 1].stop = i  # It answers what the capture missed: another exchange, which cannot be told.
                open_turn = False
                asked = g[i].a
            if open_turn:
                if turns[count - 1].answer < 0 and end > told:
                    turns[count - 1].answer = i
                if end > told:
                    turns[count - 1].response_bytes += end - max(told, g[i].s)
                    turns[count - 1].response_end = end
            told = max(told, end)
    return count
