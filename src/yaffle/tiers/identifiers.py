"""Identifiers that stand in clear in requests: what a host hands on, it was handed.

Nothing is known of their names. Any run of letters, figures, dashes and underscores that is long enough and holds a
figure is one, so that identifiers of W3C Trace Context, request identifiers of any header and those in comments of
statements are found alike. Runs that many requests carry (cookies, names of programs) tell nothing and count little.
"""

import numpy as np

from yaffle.arrays import Array, Int32s, Int64s, Uint8s, Uint64s, Uint64s2
from yaffle.capture.packets import Columns
from yaffle.capture.payload import Payload
from yaffle.kernels import helper, int64, kernel, uint64

TOKENS = 6  # identifiers of one request that are kept
_SHORTEST = 12  # bytes; a span's identifier in Trace Context has 16, a request's seldom less
_LONGEST = 80
_REACH = 4096  # bytes of a request's first packet that are read
_SEED, _PRIME = uint64(0xCBF29CE484222325), uint64(0x100000001B3)  # Fowler, Noll and Vo's hash, 64 bit
_DASH = 45


def _run_octets() -> Array:
    """Whether each octet may stand in an identifier."""
    found = np.zeros(256, np.bool_)
    found[list(b"0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz-_")] = True
    return found


_IN_RUN = _run_octets()


@helper
def _take(octets: Uint8s, begin: int, end: int, out: Uint64s, count: int) -> int:
    """Keeps a run that may be an identifier; how many there are then."""
    if end - begin < _SHORTEST or end - begin > _LONGEST or count >= out.size:
        return count
    figures, mixed = 0, _SEED
    for k in range(begin, end):
        figures += 48 <= octets[k] <= 57
        mixed = (mixed ^ uint64(octets[k])) * _PRIME
    if figures < 2:
        return count
    for k in range(count):
        if out[k] == mixed:
            return count
    out[count] = mixed
    return count + 1


@helper
def _take_run(octets: Uint8s, begin: int, end: int, out: Uint64s) -> None:
    """Keeps what dashes part in a run, and the run."""
    part = begin
    count = 0
    while count < out.size and out[count] != 0:
        count += 1
    for k in range(begin, end + 1):
        if k == end or octets[k] == _DASH:
            count = _take(octets, part, k, out, count)
            part = k + 1
    _take(octets, begin, end, out, count)


@helper
def _read(octets: Uint8s, begin: int, end: int, out: Uint64s) -> None:
    """Identifiers of a request of which the bytes from begin to before end are there: the runs, and what their dashes
    part. Looked at first is where a run that begins here would end that is just long enough.
    """
    k = begin
    while k + _SHORTEST <= end:
        last = k + _SHORTEST - 1
        while last >= k and _IN_RUN[octets[last]]:
            last -= 1
        if last >= k:
            k = last + 1
            continue
        stop = k + _SHORTEST
        while stop < end and _IN_RUN[octets[stop]]:
            stop += 1
        _take_run(octets, k, stop, out)
        k = stop + 1


@kernel
def _read_all(octets: Uint8s, source: int, rows: Int64s, packets: Columns, out: Uint64s2) -> None:
    """Identifiers of the requests that packets of a source begin. rows: of packets, -1 for none; out: nil at first."""
    for x in range(rows.size):
        row = rows[x]
        if row < 0 or packets.source[row] != source:
            continue
        skip = int64(packets.payload_at[row])
        size = min(int64(packets.head[row].payload), int64(packets.captured_bytes[row]) - skip)
        begin = packets.position[row] + skip
        if size > 0 and begin + size <= octets.size:
            _read(octets, begin, begin + min(size, _REACH), out[x])


@kernel
def _first_packets(
    connection: Int64s, first_ns: Int64s, starts: Int64s, order: Int32s, packets: Columns, out: Int64s
) -> None:
    """The packet that began each exchange, -1 where there is none: the first of its connection's client with payload
    that did not come before. Exchanges of one connection stand in order of time.
    """
    k, last = int64(0), int64(-1)
    for x in range(connection.size):
        c = connection[x]
        if c != last:
            k, last = starts[c], c
        while k < starts[c + 1] and (
            packets.time_ns[order[k]] < first_ns[x]
            or packets.direction[order[k]] != 0
            or packets.head[order[k]].payload == 0
        ):
            k += 1
        out[x] = order[k] if k < starts[c + 1] and packets.time_ns[order[k]] == first_ns[x] else -1


def identifiers(payload: Payload, connection: Int64s, first_ns: Int64s, starts: Int64s, order: Int32s) -> Uint64s2:
    """Those of exchanges, uint64 (n, TOKENS), 0 where there are no more."""
    packets = payload.packets
    row = np.empty(connection.size, np.int64)
    _first_packets(connection, first_ns, starts, order, packets, row)
    found = np.zeros((connection.size, TOKENS), np.uint64)
    for number, source in enumerate(payload.sources):
        if source is not None:
            _read_all(np.asarray(source), number, row, packets, found)
    return found
