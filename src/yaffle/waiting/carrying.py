"""Packets of connections that go on, written for the run that comes next."""

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Bools, Int64s
from yaffle.capture.pcapng_writer import Kept, write_selection
from yaffle.ledger.fields import CLOSINGS
from yaffle.room import mapped_file
from yaffle.waiting.held_files import NEXT

_SILENT_NS = 600 * 10**9  # A connection that was silent for longer begins anew when it speaks again.
_PATIENCE_NS = 30 * 10**9
_UDP = 17
_PORTS = (53, 67, 68, 546, 547, 1812, 1813, 5353)
_MOST, _MOST_OF_ONE = 600_000, 50_000  # packets that are carried, of all and of one connection


def carry(analysis: Analysis, folder: Path) -> bool:
    """Writes NEXT; whether there was anything to be carried."""
    rows = carried_rows(analysis)
    if not rows.size:
        return False
    capture = analysis.capture
    packets = capture.packets
    faces, place = [], {}
    for number in np.unique(packets.source[rows]).tolist():
        for link, face in enumerate(capture.sources[number].interfaces):
            known = (face.name, face.link_type, face.snap_bytes)
            if known not in faces:
                faces.append(known)
            place[(number, link)] = faces.index(known)

    def chosen() -> Iterator[Kept]:
        files = {n: mapped_file(Path(capture.sources[n].path)) for n in np.unique(packets.source[rows]).tolist()}
        columns = (packets.source, packets.link, packets.position, packets.captured_bytes)
        told = zip(*(c[rows].tolist() for c in (*columns, packets.time_ns, packets.wire_bytes)), strict=True)
        for source, link, at, size, time_ns, wire in told:
            yield Kept(time_ns, wire, bytes(files[source][at : at + size]), place[(source, link)])

    names = {**analysis.lookups.resolved, **capture.names}
    return write_selection(folder / NEXT, faces, chosen(), names=names) > 0


def carried_rows(analysis: Analysis) -> Int64s:
    """Packets of TCP connections that have not ended, in order of time: those that spoke last first, until it is much;
    of long ones the exchanges at their end.
    """
    capture, account = analysis.capture, analysis.account
    packets = capture.packets
    if not account.flow.size:
        return np.empty(0, np.int64)
    last_ns = account.fact("last_ns")
    alive = account.fact("closing") == CLOSINGS.index("open")
    alive &= last_ns >= int(packets.time_ns.max()) - _SILENT_NS
    count = np.bincount(packets.flow[packets.flow >= 0], minlength=capture.conversations.point.size)[account.flow]
    chosen = np.flatnonzero(alive)
    chosen = chosen[np.argsort(-last_ns[chosen], kind="stable")]
    chosen = chosen[np.cumsum(np.minimum(count[chosen], _MOST_OF_ONE)) <= _MOST]
    from_ns = np.full(capture.conversations.point.size + 1, np.iinfo(np.int64).max)
    from_ns[account.flow[chosen]] = 0
    for c in chosen[count[chosen] > _MOST_OF_ONE].tolist():
        from_ns[account.flow[c]] = _later_start(analysis, c)
    rows = np.flatnonzero((packets.time_ns >= from_ns[packets.flow]) | _questions(analysis))
    return rows[np.argsort(packets.time_ns[rows], kind="stable")]


def _questions(analysis: Analysis) -> Bools:
    """Mask of packets of look-ups and the like that may still be answered, or that connections still wait for."""
    packets, flows = analysis.capture.packets, analysis.capture.conversations
    asked = np.isin(flows.a_port, _PORTS) | np.isin(flows.b_port, _PORTS)
    asked = np.append(asked & (flows.protocol == _UDP), False)
    late = packets.time_ns >= int(packets.time_ns.max()) - _PATIENCE_NS
    return np.asarray(late & asked[packets.flow])


def _later_start(analysis: Analysis, connection: int) -> int:
    """The moment from which on a long connection is carried: where an exchange begins, if one does late enough."""
    packets, account = analysis.capture.packets, analysis.account
    times = np.sort(packets.time_ns[packets.flow == account.flow[connection]])
    late = int(times[-_MOST_OF_ONE])
    begins = account.of_exchange("first_ns")[account.of_exchange("connection") == connection]
    return int(begins[begins >= late].min()) if (begins >= late).any() else late
