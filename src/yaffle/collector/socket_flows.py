"""What this host's TCP sockets carried from one look to the next, as flow records with what its kernel measured.

A connection gives a record for each direction that carried something. Octets are those of the payload, repeats among
them, as the kernel counts them (tcp(7), RFC 4898), the end of a stream that came being one more; segments are counted
as on the wire. Of what was sent the kernel
also tells repeats, timeouts and round trips, and for how long something was under way (`busy`): of that, so long the
receiver's window or the sender's own buffer was what held it up, the rest is the network's. It does so in steps of
its clock's tick, 1 to 10 ms.
"""

import numpy as np

from yaffle.arrays import Array, Bools, Int64s, Structs, Uint64s
from yaffle.collector.sock_diag import LISTEN, SENT_KNOWN, SOCKET, TIMEOUTS_KNOWN
from yaffle.records.flow_table import SOCKETS, Exporter, FlowRecords, empty_flows

_V6, _TCP = 10, 6
_MAPPED = 0xFFFF  # ::ffff:a.b.c.d: version 4 on a socket of both versions (RFC 4291)
_NO_FLOOR = 0xFFFFFFFF
_TIMEOUTS_WRAP = 0xFFFF
_US = 1000
_COUNTS = (
    "retransmissions", "timeouts", "busy_us", "receiver_limited_us", "sender_limited_us", "sent", "acknowledged",
    "received", "segments_out", "segments_in",
)  # fmt: skip


def ends_of(words: Array, wide: Bools) -> tuple[Uint64s, Uint64s, Bools]:
    """Addresses as everywhere: (high half, low half, version 6 or not). words: (n, 4) as they came; wide: (n,)."""
    told = words.astype(np.uint64)
    shift = np.uint64(32)
    mapped = wide & (told[:, 0] == 0) & (told[:, 1] == 0) & (told[:, 2] == _MAPPED)
    high = np.where(wide & ~mapped, told[:, 0] << shift | told[:, 1], np.uint64(0))
    low = np.where(wide, np.where(mapped, told[:, 3], told[:, 2] << shift | told[:, 3]), told[:, 0])
    return high, low, wide & ~mapped


class SocketFlows:
    """One host's sockets from look to look."""

    def __init__(self, device: str) -> None:
        self.exporter = Exporter(device, 0, SOCKETS)
        self._before: Array | None = None  # as they were at the last look, by cookie
        self._looked_ns = 0
        self.vanished = 0  # sockets that went without a word, and with them what they carried last

    def seen(self, held: Structs, ended: Structs, now_ns: int) -> FlowRecords:
        """Records since the last look; of the first look none: what was before it, nobody knows since when.

        held, ended: SOCKET, as the kernel told them, those that ended since the last look apart.
        """
        ended = ended[(ended["beside"]["transport"] == _TCP) & (ended["head"]["state"] != LISTEN)]
        good = (held["head"]["state"] != LISTEN) & (held["beside"]["known"] > 0)
        place = np.flatnonzero(good & ~np.isin(held["head"]["cookie"], ended["head"]["cookie"]))
        held = held[place[np.argsort(held["head"]["cookie"][place])]]
        before, first_ns = self._before, self._looked_ns
        self._before, self._looked_ns = held, now_ns
        if before is None:
            return FlowRecords(exporters=[self.exporter])
        now = np.concatenate([held, ended]) if ended.size else held
        self.vanished += int((~np.isin(before["head"]["cookie"], now["head"]["cookie"])).sum())
        rows = _records(now, before, min(first_ns, now_ns), now_ns)
        self.exporter.records += rows.size
        self.exporter.flow_records += rows.size
        return FlowRecords(rows, [self.exporter])


def _places(before: Structs, cookie: Uint64s) -> tuple[Int64s, Bools]:
    """(where each cookie stands in `before`, whether it does). before: not empty, by cookie."""
    place = np.minimum(np.searchsorted(before["head"]["cookie"], cookie), before.size - 1)
    return place, before["head"]["cookie"][place] == cookie


def _records(now: Structs, before: Structs, first_ns: int, now_ns: int) -> Structs:
    """before: as it was at the look before, by cookie; what is new began from nothing."""
    if not before.size:
        before = np.zeros(1, SOCKET)
    place, old = _places(before, now["head"]["cookie"])
    head, known = now["head"], now["beside"]["known"]
    former = {name: before["head"][name][place] for name in ("other_port", "other")}
    port = np.where(head["other_port"] > 0, head["other_port"], np.where(old, former["other_port"], 0))
    far = np.where((head["other_port"] > 0)[:, None], head["other"], former["other"])
    info = {name: now["info"][name].astype(np.int64) for name in _COUNTS}
    rise = {name: info[name] - np.where(old, before["info"][name][place].astype(np.int64), 0) for name in _COUNTS}
    rise["timeouts"] &= _TIMEOUTS_WRAP
    rise = {name: np.maximum(0, values) for name, values in rise.items()}
    own, other = ends_of(head["own"], head["family"] == _V6), ends_of(far, head["family"] == _V6)
    within = (own[0] == other[0]) & (own[1] == other[1])  # Its other end is a socket here, too, and tells its own.
    wanted = port > 0  # Whose other end was never told: of an opening that failed.
    there = np.flatnonzero(wanted & (rise["segments_out"] > 0))
    back = np.flatnonzero(wanted & ~within & (rise["segments_in"] > 0))
    sent, come = empty_flows(there.size), empty_flows(back.size)
    for rows, member, (near, away) in ((sent, there, ("src", "dst")), (come, back, ("dst", "src"))):
        rows["protocol"], rows["transport"], rows["exporter"] = SOCKETS, _TCP, 0
        for k, half in enumerate(("hi", "lo")):
            rows[f"{near}_{half}"], rows[f"{away}_{half}"] = own[k][member], other[k][member]
        rows["ipv6"] = own[2][member]
        rows[f"{near}_port"], rows[f"{away}_port"] = head["own_port"][member], port[member]
        rows["dscp"] = now["beside"]["traffic_class"][member] >> 2
        rows["first_ns"], rows["last_ns"], rows["arrived_ns"] = first_ns, now_ns, now_ns
    sent["packets"], come["packets"] = rise["segments_out"][there], rise["segments_in"][back]
    sent["octets"] = np.where(known >= SENT_KNOWN, rise["sent"], rise["acknowledged"])[there]
    come["octets"] = rise["received"][back]
    come["dscp"] = 0
    sent["retransmissions"] = rise["retransmissions"][there]
    sent["timeouts"] = np.where(known >= TIMEOUTS_KNOWN, rise["timeouts"], -1)[there]
    for name in ("busy", "receiver_limited", "sender_limited"):
        sent[f"{name}_ns"] = rise[f"{name}_us"][there] * _US
    trip, floor = (now["info"][name].astype(np.int64)[there] for name in ("round_trip_us", "floor_us"))
    sent["round_trip_ns"] = np.where(trip > 0, trip * _US, -1)
    sent["floor_ns"] = np.where((floor > 0) & (floor != _NO_FLOOR), floor * _US, -1)
    return np.concatenate([sent, come])
