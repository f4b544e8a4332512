"""Records of one template as rows of the flow table, all at once."""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Bools, Int64s, Structs, Uint8s2
from yaffle.records import elements as e
from yaffle.records.flow_table import IPFIX, V5, Exporter, empty_flows
from yaffle.records.options import ALL
from yaffle.records.templates import Template, numbers, table

_RELATIVE = 1 << 61  # Times that are still to be tied to a boot lie above this.
_CLOCK_OFF_NS = 500_000_000  # From so far on an exporter's clock is taken to be wrong.
_SCALES = ((e.FIRST_S, e.LAST_S, 10**9), (e.FIRST_MS, e.LAST_MS, 10**6))
_SIMPLE = (
    ("packets", e.PACKETS), ("octets", e.OCTETS), ("transport", e.PROTOCOL), ("src_port", e.SRC_PORT),
    ("dst_port", e.DST_PORT), ("ingress", e.IN), ("egress", e.OUT),
    ("direction", e.DIRECTION), ("application", e.APPLICATION), ("next_hop", e.NEXT_HOP4), ("flags", e.FLAGS),
    ("highest_ttl", e.HIGHEST_TTL),
    ("retransmissions", e.RETRANSMISSIONS), ("timeouts", e.TIMEOUTS), ("busy_ns", e.BUSY_NS),
    ("receiver_limited_ns", e.RECEIVER_LIMITED_NS), ("sender_limited_ns", e.SENDER_LIMITED_NS),
    ("round_trip_ns", e.ROUND_TRIP_NS), ("floor_ns", e.FLOOR_NS),
)  # fmt: skip
_AFTER_ARRIVAL_NS = 200_000_000
_WRAP_MS = 1 << 32
_EPOCH_1900_S = 2_208_988_800
_LONGEST = 200


class Chunk(NamedTuple):
    """Records of one set: fixed fields one record behind the other, the other fields by their place in the template."""

    data: bytes
    records: int
    others: Sequence[dict[int, bytes]]
    arrived_ns: int
    uptime_ms: int  # of the exporter when it sent them; -1 unknown
    boot: int


def flows(
    template: Template, chunks: Sequence[Chunk], protocol: int, exporter: int
) -> tuple[Structs, dict[int, dict[str, int | str]]]:
    """(rows of FLOW, elements of enterprises by row).

    Times that count from a boot are tied to it later, by settle_times.
    """
    counts = np.array([c.records for c in chunks])
    raw = table(b"".join([c.data for c in chunks]), int(counts.sum()), template.fixed_size)
    rows = empty_flows(raw.shape[0])
    rows["exporter"], rows["protocol"] = exporter, protocol
    rows["arrived_ns"] = np.repeat([c.arrived_ns for c in chunks], counts)
    places = template.places
    for name, meaning in _SIMPLE:
        if meaning in places:
            rows[name] = numbers(raw, places[meaning])
    _addresses(rows, raw, places)
    if e.TOS in places:
        rows["dscp"] = numbers(raw, places[e.TOS]) >> 2
    if e.DSCP in places:
        rows["dscp"] = numbers(raw, places[e.DSCP])
    if e.POST_TOS in places:
        rows["post_dscp"] = numbers(raw, places[e.POST_TOS]) >> 2
    _icmp(rows, raw, places)
    uptime = np.repeat([c.uptime_ms for c in chunks], counts)
    boot = np.repeat([c.boot for c in chunks], counts)
    _times(rows, raw, places, uptime, boot)
    sampler = places.get(e.SAMPLER, places.get(e.SELECTOR))
    rows["sampling"] = -1 - numbers(raw, sampler) if sampler is not None else 0
    if e.INTERVAL in places:
        rows["sampling"] = np.maximum(1, numbers(raw, places[e.INTERVAL]))
    return rows, _own(template, [o for c in chunks for o in c.others])


def _addresses(rows: Structs, raw: Uint8s2, places: dict[int, tuple[int, int]]) -> None:
    for end, four, six in (("src", e.SRC4, e.SRC6), ("dst", e.DST4, e.DST6)):
        if six in places and places[six][1] == 16:
            at = places[six][0]
            rows[f"{end}_hi"] = numbers(raw, (at, 8)).view(np.uint64)
            rows[f"{end}_lo"] = numbers(raw, (at + 8, 8)).view(np.uint64)
            rows["ipv6"] = 1
        if four in places:
            own = numbers(raw, places[four]).view(np.uint64)
            use = own != 0 if six in places else np.ones(own.size, bool)
            rows[f"{end}_lo"][use] = own[use]
            rows[f"{end}_hi"][use] = 0
            rows["ipv6"][use] = 0


def _icmp(rows: Structs, raw: Uint8s2, places: dict[int, tuple[int, int]]) -> None:
    """Type and code of ICMP stand where the destination port would."""
    icmp = (rows["transport"] == 1) | (rows["transport"] == 58)
    if e.ICMP in places:
        rows["dst_port"][icmp] = numbers(raw, places[e.ICMP])[icmp]
    elif e.ICMP_TYPE in places:
        code = numbers(raw, places[e.ICMP_CODE]) if e.ICMP_CODE in places else np.zeros(rows.size, np.int64)
        rows["dst_port"][icmp] = (numbers(raw, places[e.ICMP_TYPE]) << 8 | code)[icmp]


def _times(rows: Structs, raw: Uint8s2, places: dict[int, tuple[int, int]], uptime: Int64s, boot: Int64s) -> None:
    for first, last, scale in _SCALES:
        if first in places and last in places:
            rows["first_ns"], rows["last_ns"] = numbers(raw, places[first]) * scale, numbers(raw, places[last]) * scale
    for first, last in ((e.FIRST_US, e.LAST_US), (e.FIRST_NS, e.LAST_NS)):
        if first in places and last in places:
            for name, meaning in (("first_ns", first), ("last_ns", last)):
                at, size = places[meaning]
                if size == 8:  # Seconds since 1900 and a fraction of 2^32 (RFC 7011 section 6.1.9).
                    seconds, part = numbers(raw, (at, 4)) - _EPOCH_1900_S, numbers(raw, (at + 4, 4))
                    rows[name] = seconds * 10**9 + (part * 10**9 >> 32)
    if (
        e.FIRST_DELTA in places and e.LAST_DELTA in places
    ):  # Microseconds before the message was sent, and so before it came.
        for name, meaning in (("first_ns", e.FIRST_DELTA), ("last_ns", e.LAST_DELTA)):
            rows[name] = rows["arrived_ns"] - numbers(raw, places[meaning]) * 1000
    if e.FIRST_UP in places and e.LAST_UP in places and e.BOOTED_MS in places:
        for name, meaning in (("first_ns", e.FIRST_UP), ("last_ns", e.LAST_UP)):
            told_ms = numbers(raw, places[e.BOOTED_MS]) + numbers(raw, places[meaning])
            late_ms = rows["arrived_ns"] // 1_000_000 - told_ms
            rows[name] = (
                told_ms + (late_ms + _WRAP_MS // 2) // _WRAP_MS * _WRAP_MS
            ) * 1_000_000  # Uptimes wrap after 49.7 days.
    elif e.FIRST_UP in places and e.LAST_UP in places:
        for name, meaning in (("first_ns", e.FIRST_UP), ("last_ns", e.LAST_UP)):
            own = numbers(raw, places[meaning])
            before = (uptime - own + (1 << 31)) % (1 << 32) - (
                1 << 31
            )  # ms before the datagram was sent, whatever wrapped
            told = uptime >= 0
            rows[name][told] = (_RELATIVE + (boot * (1 << 44)) + (uptime - before) + (1 << 43))[told]


def settle_times(rows: Structs, member: Bools, boot_ns: Sequence[int], ahead_ns: int, exporter: Exporter) -> None:
    """Ties uptimes to the boots of their exporter, and moves absolute times where its clock is wrong, to the
    collector's clock.
    """
    exporter.clock_offset_ns = _clock_off(rows, member, ahead_ns, exporter.protocol)
    off = (
        exporter.clock_offset_ns if exporter.protocol == IPFIX and abs(exporter.clock_offset_ns) >= _CLOCK_OFF_NS else 0
    )
    if abs(exporter.clock_offset_ns) >= _CLOCK_OFF_NS:
        side = "ahead" if exporter.clock_offset_ns > 0 else "behind"
        note = f"its clock is {abs(exporter.clock_offset_ns) / 1e9:.1f} s {side}: times are by the collector's clock"
        exporter.notes[:] = [*(former for former in exporter.notes if not former.startswith("its clock is ")), note]
    boots = np.array(boot_ns or [0], np.int64)
    for name in ("first_ns", "last_ns"):
        times = rows[name]
        relative = np.flatnonzero(member & (times >= _RELATIVE))
        if off:
            absolute = member & (times < _RELATIVE) & (times > 0)
            rows[name][absolute] = times[absolute] - off
        if relative.size:
            value = times[relative] - _RELATIVE
            rows[name][relative] = (
                boots[np.minimum(value >> 44, boots.size - 1)] + ((value & ((1 << 44) - 1)) - (1 << 43)) * 1_000_000
            )
        none = member & (times <= 0)
        rows[name][none] = rows["arrived_ns"][none]


def _clock_off(rows: Structs, member: Bools, ahead_ns: int, protocol: int) -> int:
    """How far an exporter's clock is ahead of the collector's, ns. ahead_ns: the most that an export time was ahead of
    its arrival.

    Export times are whole seconds, mostly cut off, by some rounded up: ahead by less than one is believed where records
    end after they arrived.
    """
    if ahead_ns < -(1 << 61):
        return 0
    if protocol == IPFIX and 0 < ahead_ns < 10**9:
        ends = rows["last_ns"][member] - rows["arrived_ns"][member]
        return ahead_ns if ends.size and int(ends.max()) >= _AFTER_ARRIVAL_NS else 0
    return ahead_ns


def settle_sampling(rows: Structs, member: Bools, samplers: dict[int, int], exporter: Exporter) -> None:
    """Scales counts by the sampling that the records, their samplers or the exporter tell."""
    if exporter.protocol == V5 and exporter.sampling > 1:
        samplers = {ALL: exporter.sampling, **samplers}
    told = rows["sampling"]
    for sampler in np.unique(told[member & (told <= 0)]).tolist():
        own = member & (told == sampler)
        number = ALL if sampler == 0 else -1 - sampler
        interval = samplers.get(number, samplers.get(ALL, 0) if number in (ALL, 0) or len(samplers) <= 2 else 0)
        if sampler != 0 and number != 0 and interval == 0:
            exporter.sampling_known = False  # Records name a sampler that no option tells of.
        rows["sampling"][own] = max(1, interval)
    factor = rows["sampling"][member]
    if factor.size:
        exporter.sampling = int(np.bincount(factor.clip(0, 1 << 20)).argmax())
    if (factor > 1).any():
        for name in ("packets", "octets"):
            rows[name][member] *= factor
        rows["sampled"][member] = factor > 1


def usual_count(rows: Structs, exporter: int) -> int:
    """Records that a full datagram of an exporter holds: the count that most of them have; the more, where two are as
    common.
    """
    own = rows[rows["exporter"] == exporter]
    if not own.size:
        return 0
    _, counts = np.unique(own["arrived_ns"], return_counts=True)
    sizes = np.bincount(counts)
    return int(np.flatnonzero(sizes == sizes.max())[-1])


def _own(template: Template, others: Sequence[dict[int, bytes]]) -> dict[int, dict[str, int | str]]:
    named = [k for k, f in enumerate(template.fields) if f.enterprise or f.name]
    if not named:
        return {}
    found: dict[int, dict[str, int | str]] = {}
    for row, own in enumerate(others):
        found[row] = {_key(template.fields[k]): _value(own[k], template.fields[k].size) for k in named if k in own}
    return found


def _key(f: e.Field) -> str:
    if not f.enterprise:
        return f.name
    return str(f.element) if f.enterprise == e.NAMELESS else f"{f.enterprise}/{f.element}"


def _value(data: bytes, size: int) -> int | str:
    """A number where it is as wide as one, else text."""
    if size in (1, 2, 4, 8):
        return int.from_bytes(data, "big")
    return data[:_LONGEST].rstrip(b"\0").decode("utf-8", "replace")
