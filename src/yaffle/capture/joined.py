"""Captures that were read apart, file by file, as if one reading had read them all.

Conversations of one file are never those of another until it is told which interfaces are one point, so that only
numbers have to be moved on.
"""

from collections.abc import Iterable, Sequence

import numpy as np

from yaffle.arrays import Int32s
from yaffle.capture.captured import Source
from yaffle.capture.conversations import Rows
from yaffle.capture.draft import Draft
from yaffle.capture.packets import MARK_SACK_SHIFT, SYN, Heads, PacketTable, SackBlocks, fill
from yaffle.capture.transport_layer import QUOTE
from yaffle.kernels import kernel
from yaffle.room import Room

_SACKS = 7 << MARK_SACK_SHIFT
_SLACK, _MOST_AHEAD = 1.05, 64.0  # room for so many times the packets that are to be expected, that there are


@kernel
def move_on(head: Heads, flow: Int32s, conversations: int, blocks: int) -> None:
    """Moves on the conversations of packets, and where their SACK blocks begin."""
    for i in range(flow.size):
        if flow[i] >= 0:
            flow[i] += conversations
        if head[i].marks & _SACKS and not head[i].flags & SYN:
            head[i].extra += blocks


def joined(captures: Iterable[Draft], sizes: Sequence[int], room: Room) -> Draft:
    """One capture of several, each of one file, in their order.

    sizes: how large each is in whatever its packets go with, so that there is room for those to come; room: where its
    packets are put. Points are not told yet (`reader.settled`).
    """
    table = PacketTable(room=room)
    sources: list[Source] = []
    names: dict[str, str] = {}
    sack: list[SackBlocks] = [SackBlocks(np.empty(0, np.uint32), np.empty(0, np.uint32))]
    flows: list[Rows] = []
    quotes = [np.empty(0, QUOTE)]
    conversations = blocks = links = done = 0
    for number, (capture, size) in enumerate(zip(captures, sizes, strict=True)):
        at, count, done = table.size, capture.packets.time_ns.size, done + size
        if at + count > table.capacity:
            more = min(_MOST_AHEAD, _SLACK * sum(sizes) / max(1, done)) if done < sum(sizes) else 1.0
            table.reserve(int((at + count) * more))
        table.size += count
        own = table.window(at, table.size)
        fill(own, capture.packets)
        if number:
            own.source[:] = number
        move_on(own.head, own.flow, conversations, blocks)
        told = capture.quotes.copy()
        told["packet"] += at
        flows.append(capture.conversations._replace(point=(capture.conversations.point + links).astype(np.uint16)))
        quotes.append(told)
        sack.append(capture.sack)
        sources += capture.sources
        names.update(capture.names)
        conversations += capture.conversations.point.size
        blocks += capture.sack.left.size
        links += sum(max(1, len(source.interfaces)) for source in capture.sources)
    return Draft(
        sources,
        table.columns(),
        SackBlocks(*(np.concatenate(parts) for parts in zip(*sack, strict=True))),
        Rows(*(np.concatenate(parts) for parts in zip(*flows, strict=True))),
        names,
        quotes=np.concatenate(quotes),
    )
