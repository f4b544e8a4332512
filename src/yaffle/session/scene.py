"""One state of the focus with what it narrows to: what a view computes from, on whatever thread, while the user moves
on.
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from yaffle.arrays import Array, Bools, Int64s
from yaffle.session.evidence import Evidence
from yaffle.session.filtering import Filter
from yaffle.session.focus import Focus


@dataclass(frozen=True)
class Scene:
    """Never changes; what is costly is computed when it is first asked for."""

    evidence: Evidence
    focus: Focus
    filter: Filter
    filtered: Int64s  # waits in the period and the filter, wherever the trail leads
    rows: Int64s  # those on the trail

    @property
    def first_ns(self) -> int:
        """Start of the period."""
        return self.focus.period[0] if self.focus.period else self.evidence.first_ns

    @property
    def last_ns(self) -> int:
        """End of the period."""
        return self.focus.period[1] if self.focus.period else self.evidence.last_ns

    def conversations_of(self, rows: Int64s) -> Bools:
        """Which conversations are connections of some waits; at last, what belongs to none."""
        found = np.zeros(self.evidence.counted.size + 1, bool)
        found[self.evidence.analysis.account.flow[self.evidence.waits.connection[rows]]] = True
        return found

    def packets_of(self, rows: Int64s) -> Bools:
        """Mask of the packets of the connections of some waits, in the period, each counted once."""
        return np.asarray(self.in_period & self.conversations_of(rows)[self.evidence.analysis.capture.packets.flow])

    @cached_property
    def in_period(self) -> Bools:
        """Mask of the packets in the period that count in sums."""
        packets = self.evidence.analysis.capture.packets
        mask = self.evidence.packet_counts
        if self.focus.period is not None:
            mask = mask & (packets.time_ns >= self.focus.period[0]) & (packets.time_ns <= self.focus.period[1])
        return mask

    @cached_property
    def packets(self) -> Bools:
        """Mask of the packets in focus: by trail and filter through their connections, and by the period."""
        return self.packets_of(self.rows) if self.focus.trail or self.focus.filter else self.in_period

    @cached_property
    def filtered_always(self) -> Array:
        """Waits of the filter at all times, wherever the trail leads; all of them where the filter cannot be used."""
        text = self.focus.filter
        return np.flatnonzero(self.filter.rows(text)) if text else np.arange(self.evidence.waits.first_ns.size)

    @property
    def words(self) -> str:
        """How packets are narrowed, for people."""
        if self.focus.trail or self.focus.filter:
            return "packets of the connections that have exchanges in focus"
        return "packets in the period" if self.focus.period else "all packets"
