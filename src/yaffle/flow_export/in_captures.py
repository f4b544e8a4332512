"""Flow records inside captures: datagrams of exporters are told by content and taken in as if they had been
received.
"""

from dataclasses import replace

import numpy as np

from yaffle.arrays import Uint8s
from yaffle.capture.addresses import address_text
from yaffle.capture.captured import Capture, Source
from yaffle.capture.one_file import IPFIX_FILE
from yaffle.capture.payload import Payload
from yaffle.progress import Progress, go_on, step
from yaffle.records.flow_table import FlowRecords
from yaffle.records.intake import Intake

_LEAST_BYTES = 20
_EVERY = 2000  # Datagrams between two looks at whether to go on.


def _begins_like_export(data: bytes, size: int) -> bool:
    """Whether the first datagram of a conversation looks like one of an exporter's.

    size: of its payload on the wire.
    """
    version, count = int.from_bytes(data[:2], "big"), int.from_bytes(data[2:4], "big")
    if version == 5:
        return 0 < count <= 30 and size == 24 + 48 * count
    if version == 9:
        first, length = int.from_bytes(data[20:22], "big"), int.from_bytes(data[22:24], "big")
        return size >= 24 and (first in (0, 1) or first >= 256) and 4 <= length <= size - 20
    if version == 10:
        return count == size and size >= 16
    return data[:4] == b"\0\0\0\5" and data[4:8] in (b"\0\0\0\1", b"\0\0\0\2") and size >= 28


def find_exports(capture: Capture, payload: Payload, progress: Progress = go_on) -> tuple[FlowRecords, list[Source]]:
    """All flow records of a capture; its sources, with what there is to say of files of such records.

    An exporter seen at several points counts once, by the point that saw it first. Raises Cancelled.
    """
    packets, flows = capture.packets, capture.conversations
    rows = packets.datagrams(_LEAST_BYTES)
    rows = rows[packets.direction[rows] == 0]
    own, first = np.unique(packets.flow[rows], return_index=True)
    heads = payload.octets_of(rows[first], 0)
    likely = (heads == 0) & (flows.a_port[own] != 53) & (flows.b_port[own] != 53)
    kept = [
        flow
        for flow, row in zip(own[likely].tolist(), rows[first[likely]].tolist(), strict=True)
        if _begins_like_export(payload.of_packet(row), int(packets.payload_bytes[row]))
    ]
    intake, seen = Intake(), set()
    mark = np.zeros(flows.point.size, bool)
    for flow in sorted(kept, key=lambda f: int(flows.first_ns[f])):
        ends = (
            flows.a_hi[flow],
            flows.a_lo[flow],
            flows.a_port[flow],
            flows.b_hi[flow],
            flows.b_lo[flow],
            flows.b_port[flow],
        )
        if tuple(map(int, ends)) not in seen:
            seen.add(tuple(map(int, ends)))
            mark[flow] = True
    rows = rows[mark[packets.flow[rows]]]
    rows = rows[np.argsort(packets.time_ns[rows], kind="stable")]
    names: dict[int, str] = {}
    for k, row in enumerate(rows.tolist()):
        if k % _EVERY == 0:
            step(progress, k / rows.size, "reading flow records")
        flow = int(packets.flow[row])
        if flow not in names:
            names[flow] = address_text(flows.a_hi[flow], flows.a_lo[flow], bool(flows.ipv6[flow]))
        intake.take(int(packets.time_ns[row]), names[flow], payload.of_packet(row))
    sources = [*capture.sources]
    for number, source in enumerate(sources):
        data = payload.sources[number]
        if source.format == IPFIX_FILE and data is not None:
            step(progress, 0.9, f"reading {source.name}")
            sources[number] = _taken(intake, source, data)
    return intake.finish(), sources


def _taken(intake: Intake, source: Source, data: Uint8s) -> Source:
    """Messages of an IPFIX file (RFC 5655), one behind the other.

    Nothing tells when they arrived: they count as sent at their export time.
    """
    at, messages = 0, 0
    while at + 16 <= data.size:
        head = data[at : at + 16].tobytes()
        size, seconds = int.from_bytes(head[2:4], "big"), int.from_bytes(head[4:8], "big")
        if head[:2] != b"\0\x0a" or size < 16 or at + size > data.size:
            break
        intake.take(seconds * 10**9, source.name, data[at : at + size].tobytes())
        at, messages = at + size, messages + 1
    notes = []
    if at < data.size:
        notes.append(f"byte {at}: no whole IPFIX message begins here (RFC 7011 section 3.1): what follows is not read")
    notes.append(f"{messages:,} messages of flow records: times are as their exporter told them")
    return replace(source.noting(*notes), complete=at == data.size)
