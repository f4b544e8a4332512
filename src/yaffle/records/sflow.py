"""sFlow version 5 (its published specification): sampled packets and interface counters."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from struct import unpack_from

import numpy as np

from yaffle.arrays import Array, Structs
from yaffle.capture import fields as headers
from yaffle.records.counter_table import unknown_counters
from yaffle.records.flow_table import SFLOW, empty_flows

_MOST_SAMPLES = 512
_ETHERNET = 1
_MOST_SIGNED = (1 << 63) - 1
_KNOWN = 0x3FFFFFFF  # An interface of which the number is told, not the format.
_COUNTERS = (
    "interface", "", "speed_bps", "", "", "in_octets", "in_unicast", "in_multicast", "in_broadcast", "in_discards",
    "in_errors", "",
    "out_octets", "out_unicast", "out_multicast", "out_broadcast", "out_discards", "out_errors", "",
)  # fmt: skip
_COUNTER_FORM = ">u4,>u4,>u8,>u4,>u4,>u8,>u4,>u4,>u4,>u4,>u4,>u4,>u8,>u4,>u4,>u4,>u4,>u4,>u4"
_FORM = np.dtype(_COUNTER_FORM)


@dataclass(frozen=True)
class Sample:
    """One sampled packet."""

    source: int
    number: int
    rate: int
    ingress: int
    egress: int
    frame_bytes: int
    header: bytes


@dataclass
class Datagram:
    """What one datagram holds."""

    agent: str
    sub_agent: int
    number: int
    samples: list[Sample] = field(default_factory=list)
    counters: list[Array] = field(default_factory=list)  # rows of COUNTER


def read(data: bytes) -> Datagram | None:
    """A datagram; what is cut off is left out. None where its head makes no sense."""
    import ipaddress

    kind = int.from_bytes(data[4:8], "big")
    size = {1: 4, 2: 16}.get(kind)
    if size is None or len(data) < 8 + size + 16:
        return None
    at = 8 + size
    sub_agent, number, _, count = unpack_from("!IIII", data, at)
    found = Datagram(str(ipaddress.ip_address(data[8:at])), sub_agent, number)
    at += 16
    for _ in range(min(count, _MOST_SAMPLES)):
        if at + 8 > len(data):
            break
        form, length = unpack_from("!II", data, at)
        body = data[at + 8 : at + 8 + length]
        at += 8 + length
        if form in (1, 3):
            sample = _flow(body, expanded=form == 3)
            if sample is not None:
                found.samples.append(sample)
        elif form in (2, 4):
            found.counters += _counters(body, 8 if form == 2 else 12)
    return found


def _flow(body: bytes, expanded: bool) -> Sample | None:
    need = 44 if expanded else 32
    if len(body) < need:
        return None
    if expanded:
        number, _, source, rate, _, _, in_form, ingress, out_form, egress, count = unpack_from("!IIIIIIIIIII", body, 0)
        ingress, egress = ingress if in_form == 0 else -1, egress if out_form == 0 else -1
    else:
        number, source, rate, _, _, ingress, egress, count = unpack_from("!IIIIIIII", body, 0)
        source &= 0xFFFFFF
        ingress, egress = (port if port < _KNOWN else -1 for port in (ingress, egress))
    at = need
    for _ in range(min(count, 64)):
        if at + 8 > len(body):
            break
        form, length = unpack_from("!II", body, at)
        if form == 1 and length >= 16 and at + 24 <= len(body):
            kind, frame, _, kept = unpack_from("!IIII", body, at + 8)
            if kind == _ETHERNET:
                return Sample(
                    source,
                    number,
                    max(1, rate),
                    ingress,
                    egress,
                    frame,
                    body[at + 24 : at + 24 + min(kept, length - 16)],
                )
        at += 8 + length
    return None


def _counters(body: bytes, at: int) -> list[Array]:
    found: list[Array] = []
    if at + 4 > len(body):
        return []
    count = int.from_bytes(body[at : at + 4], "big")
    at += 4
    for _ in range(min(count, 64)):
        if at + 8 > len(body):
            break
        form, length = unpack_from("!II", body, at)
        if form == 1 and length >= 88 and at + 8 + 88 <= len(body):
            told, row = np.frombuffer(body, _FORM, 1, at + 8), unknown_counters(1)
            for name, own in zip(_COUNTERS, _FORM.names or (), strict=True):
                if name in ("interface", "speed_bps"):
                    row[name] = min(int(told[0][own]), _MOST_SIGNED)
                elif name and told[0][own] != np.iinfo(_FORM[own]).max:  # All ones: not counted.
                    row[name] = told[own]
            found.append(row)
        at += 8 + length
    return found


def flows(samples: Sequence[Sample], arrived_ns: int, exporter: int) -> Structs:
    """A row a sample, counted for as many packets as it stands for. What is not IP is left out."""
    import ipaddress

    rows = empty_flows(len(samples))
    kept = 0
    for sample in samples:
        found = {h.name: h for h in headers.fields(sample.header, 1)}
        ip = found.get("IPv6") or found.get("IPv4")
        if ip is None:
            continue
        row = rows[kept]
        kept += 1
        data = sample.header
        six = ip.name == "IPv6"
        places = [part for part in ip.parts if part.role == headers.ADDRESS]
        for end, part in zip(("src", "dst"), places, strict=False):
            whole = int(ipaddress.ip_address(data[part.start : part.stop]))
            row[f"{end}_hi"], row[f"{end}_lo"] = whole >> 64, whole & 0xFFFFFFFFFFFFFFFF
        tos = (data[ip.start] << 4 | data[ip.start + 1] >> 4) & 0xFF if six else data[ip.start + 1]
        row["ipv6"], row["dscp"], row["transport"] = six, tos >> 2, _transport(found, data, ip, six)
        _ports(row, found, data)
        row["exporter"], row["protocol"], row["ingress"], row["egress"] = exporter, SFLOW, sample.ingress, sample.egress
        row["first_ns"] = row["last_ns"] = row["arrived_ns"] = arrived_ns
        row["packets"], row["octets"], row["sampling"] = 1, sample.frame_bytes, sample.rate
    return rows[:kept]


def _transport(found: dict[str, headers.Field], data: bytes, ip: headers.Field, six: bool) -> int:
    if not six:
        return data[ip.start + 9]
    named = {"TCP": 6, "UDP": 17, "ICMPv6": 58, "SCTP": 132}
    return next((number for name, number in named.items() if name in found), data[ip.start + 6])


def _ports(row: Array, found: dict[str, headers.Field], data: bytes) -> None:
    for name in ("TCP", "UDP", "SCTP"):
        if name in found and found[name].start + 4 <= len(data):
            row["src_port"], row["dst_port"] = unpack_from("!HH", data, found[name].start)
            return
    for name in ("ICMP", "ICMPv6"):
        if name in found and found[name].start + 2 <= len(data):
            row["dst_port"] = int.from_bytes(data[found[name].start : found[name].start + 2], "big")
