"""Questions of names with their repeats and answers, from numbers that tell the questions apart."""

import numpy as np

from yaffle.arrays import Bools, Int64s, Structs
from yaffle.kernels import int64, kernel

PATIENCE_NS = 6_000_000_000  # Resolvers ask again after one to five seconds.
SAME_ID_NS = 30_000_000_000
PAIR = np.dtype([("question", np.int64), ("answer", np.int64), ("tries", np.int64), ("latest_ns", np.int64)])
NamePairs = Structs  # of PAIR


@kernel
def _pair(
    t: Int64s,
    read: Bools,
    answers: Bools,
    by_id: Int64s,
    by_name: Int64s,
    open_id: Int64s,
    open_name: Int64s,
    out: NamePairs,
) -> int:
    """Fills `out`; gives how many look-ups there are. open_id, open_name: the latest look-up of each number, -1 at
    first.
    """
    count = 0
    for k in range(t.size):
        if not read[k]:
            continue
        one = open_id[by_id[k]]
        if answers[k]:
            if one >= 0 and out[one].answer < 0:
                out[one].answer = k
            continue
        if one < 0 or t[k] - out[one].latest_ns > SAME_ID_NS or out[one].answer >= 0:
            one = open_name[by_name[k]]
            if one >= 0 and (out[one].answer >= 0 or t[k] - out[one].latest_ns > PATIENCE_NS):
                one = int64(-1)
        if one < 0:
            one = int64(count)
            count += 1
            out[one].question, out[one].answer, out[one].tries = k, -1, 0
        out[one].tries += 1
        out[one].latest_ns = t[k]
        open_id[by_id[k]] = open_name[by_name[k]] = one
    return count


def pair_names(t: Int64s, read: Bools, answers: Bools, by_id: Int64s, by_name: Int64s) -> NamePairs:
    """Look-ups of messages in order of time, as rows of PAIR; answer: -1 where none came.

    read: whether it is a message at all; by_id, by_name: small numbers, equal for the same identifier of the same asker
    and for the same name and type of the same asker.
    """
    out = np.zeros(t.size, PAIR)
    rooms = [np.full(int(numbers.max(initial=-1)) + 1, -1, np.int64) for numbers in (by_id, by_name)]
    count: int = _pair(np.ascontiguousarray(t), read, answers, by_id, by_name, rooms[0], rooms[1], out)
    return out[:count]
