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
from yaffle.capture.packets import MARK_SACK_SHIFT, SCHEMA, SYN, Columns, Heads, SackBlocks, fill
from yaffle.capture.transport_layer import QUOTE
from yaffle.kernels import kernel
from yaffle.room import Room

_SACKS = 7 << MARK_SACK_SHIFT


@kernel
def move_on(head: Heads, flow: Int32s, conversations: int, blocks: int) -> None:
    """Moves on the conversations of packets, and where their SACK blocks begin."""
    for i in range(flow.size):
        if flow[i] >= 0:
            flow[i] += conversations
        if head[i].marks & _SACKS and not head[i].flags & SYN:
            head[i].extra += blocks


def joined(captures: Iterable[Draft], sizes: Sequence[int], room: Room) -> Draft:
    """One capture of several, each of one file, in their order, whose numbers of packets are known before.

    room: where its packets are put. Points are not told yet (`reader.settled`).
    """
    columns = Columns(*(room.empty(sum(sizes), dtype, place) for place, (_, dtype, _) in enumerate(SCHEMA)))
    sources: list[Source] = []
    names: dict[str, str] = {}
    sack: list[SackBlocks] = [SackBlocks(np.empty(0, np.uint32), np.empty(0, np.uint32))]
    flows: list[Rows] = []
    quotes = [np.empty(0, QUOTE)]
    at = conversations = blocks = links = 0
    for number, (capture, size) in enumerate(zip(captures, sizes, strict=True)):
        own = Columns._make(column[at : at + size] for column in columns)
        fill(own, capture.packets)
        own.source[:] = number
        move_on(own.head, own.flow, conversations, blocks)
        told = capture.quotes.copy()
        told["packet"] += at
        flows.append(capture.conversations._replace(point=(capture.conversations.point + links).astype(np.uint16)))
        quotes.append(told)
        sack.append(capture.sack)
        sources += capture.sources
        names.update(capture.names)
        at += size
        conversations += capture.conversations.point.size
        blocks += capture.sack.left.size
        links += sum(max(1, len(source.interfaces)) for source in capture.sources)
    return Draft(
        sources,
        columns,
        SackBlocks(*(np.concatenate(parts) for parts in zip(*sack, strict=True))),
        Rows(*(np.concatenate(parts) for parts in zip(*flows, strict=True))),
        names,
        quotes=np.concatenate(quotes),
    )
