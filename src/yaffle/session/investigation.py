"""The investigation: what is open, the focus and its history, the selection, findings kept. One model, one signal each."""

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Array
from yaffle.capture.reader import Progress, go_on
from yaffle.case.folder import SUFFIX, open_case, save_case, save_memory
from yaffle.findings.cleared import Cleared, cleared
from yaffle.findings.finding import Finding, find
from yaffle.session.apportion import trail_of, trail_rows
from yaffle.session.evidence import Evidence
from yaffle.session.examine import Connection
from yaffle.session.filtering import Filter, FilterError
from yaffle.session.focus import Focus, FocusHistory
from yaffle.session.signal import Signal


@dataclass
class Opened:
    """An analysis ready for the screen: everything slow is done before it is shown."""

    analysis: Analysis
    folder: Path | None = None
    memory: dict[str, Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.evidence = Evidence(self.analysis)
        self.findings = find(self.analysis, self.analysis.speaker)
        self.cleared = cleared(self.analysis, self.analysis.speaker, self.findings)

    @cached_property
    def filter(self) -> Filter:
        """The table that filters are asked of; made when the first one is."""
        return Filter(self.evidence)


def open_folder(folder: Path) -> Opened:
    """Opens a case. Raises CaseError."""
    analysis, memory = open_case(folder)
    return Opened(analysis, folder, memory)


class Investigation:
    """Lives on the main thread. Views read its properties when a signal tells them to."""

    def __init__(self) -> None:
        self.opened_changed, self.focus_changed, self.selection_changed, self.notes_changed = Signal(), Signal(), Signal(), Signal()
        self.pending_changed = Signal()
        self.pending: list[tuple[str, int]] = []  # files being read: name, bytes
        self.opened: Opened | None = None
        self.history = FocusHistory()
        self.filter_error: FilterError | None = None
        self._rows: Array = np.empty(0, np.int64)
        self.connection: Connection | None = None
        self.segment = -1  # selected segment of the connection
        self.pinned: list[str] = []
        self.notes = ""

    # --- what is open ---
    def open(self, opened: Opened) -> None:
        """Shows another analysis, with its focus and notes if it was a case."""
        self.opened = opened
        self.history = FocusHistory()
        self.history.now = Focus.from_json(opened.memory.get("focus", {}))
        self.pinned = [str(key) for key in opened.memory.get("pinned", [])]
        self.notes = str(opened.memory.get("notes", ""))
        self.connection, self.segment = None, -1
        self._narrow()
        self.opened_changed.emit()
        self.focus_changed.emit()
        self.selection_changed.emit()
        self.notes_changed.emit()

    def announce(self, files: list[tuple[str, int]]) -> None:
        """Files that are about to be read, by name and size; an empty list when that is over."""
        self.pending = files
        self.pending_changed.emit()

    def close(self) -> None:
        """Nothing is open."""
        self.opened, self.connection, self.segment = None, None, -1
        self.history = FocusHistory()
        self._rows = np.empty(0, np.int64)
        for signal in (self.opened_changed, self.focus_changed, self.selection_changed):
            signal.emit()

    def memory(self) -> dict[str, Any]:
        """What the user did, for the case."""
        return {"focus": self.focus.as_json(), "pinned": self.pinned, "notes": self.notes}

    def save(self, folder: Path) -> None:
        """Keeps the case in a folder, now. Raises CaseError."""
        if self.opened is not None:
            self.saved(self.opened, self.saving(self.opened, folder)(go_on))

    def saving(self, opened: Opened, folder: Path) -> Callable[[Progress], Path]:
        """The work of keeping a case, for any thread; gives the folder it went to. Raises CaseError."""
        folder = folder if folder.suffix == SUFFIX else folder.with_name(folder.name + SUFFIX)
        memory = self.memory()

        def work(progress: Progress) -> Path:
            save_case(folder, opened.analysis, memory, progress=progress)
            return folder

        return work

    def saved(self, opened: Opened, folder: Path) -> None:
        """A case is in its folder; what the user did since is kept there, too."""
        opened.folder = folder
        self.notes_changed.emit()

    def remember(self) -> None:
        """Keeps focus, pins and notes, if the case has a folder."""
        if self.opened is not None and self.opened.folder is not None:
            save_memory(self.opened.folder, self.memory())

    @property
    def evidence(self) -> Evidence | None:
        """The evidence, if anything is open."""
        return self.opened.evidence if self.opened else None

    @property
    def findings(self) -> list[Finding]:
        """All findings, worst first; those of the period in focus."""
        if self.opened is None:
            return []
        period = self.focus.period
        if period is None:
            return self.opened.findings
        return [f for f in self.opened.findings if f.first_ns <= period[1] and f.last_ns >= period[0]]

    @property
    def cleared(self) -> list[Cleared]:
        """Sites that are fine over the whole period."""
        return self.opened.cleared if self.opened is not None else []

    # --- focus ---
    @property
    def focus(self) -> Focus:
        """Where we look."""
        return self.history.now

    def look(self, focus: Focus) -> None:
        """Narrows everything to another focus."""
        if self.history.go(focus):
            self._refocused()

    def back(self) -> None:
        """The focus before."""
        if self.history.back():
            self._refocused()

    def forward(self) -> None:
        """The focus after."""
        if self.history.forward():
            self._refocused()

    def _refocused(self) -> None:
        self._narrow()
        trail = self.focus.trail
        if len(trail) == 4 and trail[3].isdigit() and (self.connection is None or self.connection.number != int(trail[3])):
            self._load(int(trail[3]))
            self.selection_changed.emit()
        self.focus_changed.emit()

    def _narrow(self) -> None:
        evidence = self.evidence
        self.filter_error = None
        if evidence is None or self.opened is None:
            self._rows = np.empty(0, np.int64)
            return
        waits, focus = evidence.waits, self.focus
        keep = np.ones(waits.connection.size, bool)
        if focus.period is not None:
            keep &= (waits.first_ns <= focus.period[1]) & (waits.end_ns >= focus.period[0])
        if focus.filter:
            try:
                keep &= self.opened.filter.rows(focus.filter)
            except FilterError as error:
                self.filter_error = error
        self._filtered = np.flatnonzero(keep)
        self._rows = trail_rows(evidence, self._filtered, focus.trail)

    @property
    def rows(self) -> Array:
        """Waits in focus, trail included."""
        return self._rows

    @property
    def filtered_rows(self) -> Array:
        """Waits in the period and the filter, wherever the trail leads."""
        return self._filtered if self.opened else self._rows

    def packets_in_focus(self) -> Array:
        """Mask of the packets in focus: by trail and filter through their connections, and by the period."""
        evidence = self.evidence
        assert evidence is not None
        packets = evidence.analysis.capture.packets
        mask = evidence.packet_counts
        if self.focus.trail or self.focus.filter:
            flows = np.zeros(evidence.counted.size + 1, bool)
            flows[evidence.analysis.account.flow[np.unique(evidence.waits.connection[self._rows])]] = True
            mask = mask & flows[packets.flow]
        if self.focus.period is not None:
            mask = mask & (packets.time_ns >= self.focus.period[0]) & (packets.time_ns <= self.focus.period[1])
        return mask

    # --- selection ---
    def _load(self, number: int) -> None:
        evidence = self.evidence
        if evidence is None or not 0 <= number < evidence.analysis.account.flow.size:
            return
        self.connection = Connection(evidence, number)
        self.segment = -1

    def examine(self, number: int) -> None:
        """Takes a connection apart, and lets the trail lead to it."""
        evidence = self.evidence
        if evidence is None:
            return
        self._load(number)
        self.look(self.focus.with_trail(trail_of(evidence, number)))
        self.selection_changed.emit()

    def select_segment(self, index: int) -> None:
        """Selects a packet of the connection."""
        if self.connection is None or not 0 <= index < self.connection.segments.size or index == self.segment:
            return
        self.segment = index
        self.selection_changed.emit()

    def worst_connection(self) -> int:
        """The connection in focus with the most waiting; -1 where there is none."""
        evidence = self.evidence
        if evidence is None or not self._rows.size:
            return -1
        owner = evidence.waits.connection[self._rows]
        return int(np.argmax(np.bincount(owner, evidence.waits.wait_ns[self._rows])))

    # --- findings ---
    def follow(self, finding: Finding) -> None:
        """Leads to a finding's grounds: its period and its worst connection."""
        evidence = self.evidence
        if evidence is None or not finding.connections:
            return
        worst = max(finding.connections, key=lambda c: int(evidence.analysis.account.fact("worst_wait_ns")[c]))
        trail = trail_of(evidence, worst)
        depth = 2 if finding.party == "server" else 1
        if finding.users == 1:
            depth = 3
        margin = max(1_000_000_000, (finding.last_ns - finding.first_ns) // 20)
        period = (max(evidence.first_ns, finding.first_ns - margin), min(evidence.last_ns, finding.last_ns + margin))
        self._load(worst)
        text = "" if len(finding.grounds.get("connections", [])) == 0 or finding.party != "network" else f"site = '{finding.subject}'".replace("\n", " ")
        self.look(Focus(period, trail[:depth] if finding.party != "network" else (), text))
        self.selection_changed.emit()

    def pin(self, finding: Finding, kept: bool) -> None:
        """Keeps a finding for the report, or lets it go."""
        if kept and finding.key not in self.pinned:
            self.pinned.append(finding.key)
        elif not kept and finding.key in self.pinned:
            self.pinned.remove(finding.key)
        self.notes_changed.emit()

    def write_notes(self, text: str) -> None:
        """The user's own words."""
        if text != self.notes:
            self.notes = text
            self.notes_changed.emit()
