"""The investigation: what is open, the focus and its history, the selection, findings kept.

One model, one signal each.
"""

import logging
from collections.abc import Callable
from dataclasses import InitVar, dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Array, Int64s
from yaffle.case.folder import SUFFIX, open_case, save_case, save_memory
from yaffle.errors import Cancelled
from yaffle.findings.cleared import Cleared, cleared
from yaffle.findings.finding import Finding
from yaffle.findings.markings import CAUSE as MARKING
from yaffle.findings.ranking import all_findings
from yaffle.history.locked_database import FilterError
from yaffle.progress import Progress, go_on
from yaffle.session.apportion import trail_of, trail_rows
from yaffle.session.complaints import ranked
from yaffle.session.evidence import Evidence
from yaffle.session.examine import Connection
from yaffle.session.expressions import also
from yaffle.session.filtering import Filter
from yaffle.session.flow_parts import flow_octets
from yaffle.session.focus import Focus
from yaffle.session.kept import Kept
from yaffle.session.navigation import Navigation
from yaffle.session.scene import Scene
from yaffle.session.signal import Signal
from yaffle.session.survey import Series, series

_LOG = logging.getLogger(__name__)
OVERVIEW_BINS = 2400  # Of the whole case, once; finer than the strip is wide.


@dataclass
class Opened:
    """An analysis ready for the screen, with the user's own words from `memory`: everything slow is done before it is
    shown.
    """

    analysis: Analysis
    folder: Path | None = None
    memory: dict[str, Any] = field(default_factory=dict)
    progress: InitVar[Progress] = go_on

    def __post_init__(self, progress: Progress) -> None:
        def step(words: str) -> None:
            if not progress(1.0, words):
                raise Cancelled

        self.analysis = self.analysis.as_told(Kept.from_json(self.memory).told)
        step("naming who waited")
        self.evidence = Evidence(self.analysis)
        step("looking for who is slow")
        self.findings = all_findings(self.analysis)
        step("looking for who is fine")
        self.cleared = cleared(self.analysis, self.analysis.speaker, self.findings)
        step("counting over time")
        self.overview = self._overview(self.evidence.first_ns, self.evidence.last_ns)
        self.filter = Filter(self.evidence)
        self._answer_filter()
        if self.analysis.account.flow.size:
            Connection(self.evidence, 0)  # Its kernels are loaded by now, when somebody looks into a connection.

    def _answer_filter(self) -> None:
        """Runs the filter of the focus it will be opened with; its error is remembered, and shown with it."""
        text = Focus.from_json(self.memory.get("focus", {})).filter
        try:
            self.filter.rows(text)
        except FilterError as error:
            _LOG.info("the filter of the case cannot be used: %s", error)

    @property
    def waiting_ns(self) -> Array:
        """Of the waits begun in each interval of the overview."""
        place = np.clip(
            np.searchsorted(self.overview.edges_ns, self.evidence.waits.first_ns, "right") - 1, 0, OVERVIEW_BINS - 1
        )
        return np.bincount(place, self.evidence.waits.wait_ns, OVERVIEW_BINS)

    def _overview(self, first_ns: int, last_ns: int) -> Series:
        """Volume and troubles of all the time; of flow records, where there are no packets."""
        found = series(self.evidence, None, first_ns, last_ns, OVERVIEW_BINS)
        if found.packets.any():
            return found
        return replace(found, octets=flow_octets(self.evidence, first_ns, last_ns, OVERVIEW_BINS))

    def grown(self) -> "Growth | None":
        """What a history has got since it was last looked at; None where that is nothing.

        For any thread. Raises HistoryError.
        """
        history = self.analysis.history
        if history is None or not history.refresh():
            return None
        first_ns, last_ns = (
            min(self.evidence.first_ns or history.first_ns, history.first_ns),
            max(self.evidence.last_ns, history.last_ns),
        )
        return Growth(self, first_ns, last_ns, self._overview(first_ns, last_ns))


@dataclass(frozen=True)
class Growth:
    """More of the same evidence."""

    of: Opened
    first_ns: int
    last_ns: int
    overview: Series


def open_folder(folder: Path, progress: Progress = go_on) -> Opened:
    """Opens a case. Raises CaseError; Cancelled when `progress` says so."""
    analysis, memory = open_case(folder)
    return Opened(analysis, folder, memory, progress)


class Investigation:
    """Lives on the main thread. Views read its properties when a signal tells them to."""

    def __init__(self) -> None:
        self.opened_changed, self.focus_changed, self.selection_changed, self.kept_changed = (
            Signal(),
            Signal(),
            Signal(),
            Signal(),
        )
        self.pending_changed, self.grown_changed = Signal(), Signal()
        self.filter_wanted = Signal()  # `awaited` has a filter that is to be run elsewhere
        self.awaited: Focus | None = None
        self.filters_elsewhere = False  # whether somebody runs filters on another thread
        self.pending: list[tuple[str, int]] = []  # files being read: name, bytes
        self.opened: Opened | None = None
        self.history = Navigation(Focus())
        self.kept_history = Navigation(Kept())
        self.filter_error: FilterError | None = None
        self.scene: Scene | None = None
        self.connection: Connection | None = None
        self.segment = -1  # selected segment of the connection

    # --- what is open ---
    def open(self, opened: Opened) -> None:
        """Shows another analysis, with its focus and notes if it was a case."""
        self.opened = opened
        self.history = Navigation(Focus.from_json(opened.memory.get("focus", {})))
        self.kept_history = Navigation(Kept.from_json(opened.memory))
        self.connection, self.segment = None, -1
        self._narrow()
        self.opened_changed.emit()
        self.focus_changed.emit()
        self.selection_changed.emit()
        self.kept_changed.emit()

    def renamed(self, opened: Opened) -> None:
        """Shows the same analysis under other names of applications: the focus widens to all applications, the rest
        stays.
        """
        self.opened = opened
        self.connection, self.segment = None, -1
        self.history.go(self.focus.with_trail(()))
        self._narrow()
        for signal in (self.opened_changed, self.focus_changed, self.selection_changed):
            signal.emit()

    def grow(self, growth: Growth) -> None:
        """Takes in what a history has got. A period that ended with the evidence goes along."""
        opened = self.opened
        if opened is None or growth.of is not opened:
            return
        former, period = opened.evidence.last_ns, self.focus.period
        opened.evidence.first_ns, opened.evidence.last_ns, opened.overview = (
            growth.first_ns,
            growth.last_ns,
            growth.overview,
        )
        opened.evidence.__dict__.pop("busiest_exporter", None)  # Another may have most by now.
        self.grown_changed.emit()
        if period is not None and period[1] == former:
            self.history.replace(self.focus.with_period((period[0] + growth.last_ns - former, growth.last_ns)))
        self._narrow()
        self.focus_changed.emit()

    def announce(self, files: list[tuple[str, int]]) -> None:
        """Files that are about to be read, by name and size; an empty list when that is over."""
        self.pending = files
        self.pending_changed.emit()

    def close(self) -> None:
        """Nothing is open."""
        self.opened, self.connection, self.segment, self.scene = None, None, -1, None
        self.history, self.kept_history = Navigation(Focus()), Navigation(Kept())
        for signal in (self.opened_changed, self.focus_changed, self.selection_changed, self.kept_changed):
            signal.emit()

    def memory(self) -> dict[str, Any]:
        """What the user did, for the case."""
        return {"focus": self.focus.as_json(), **self.kept.as_json()}

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
        self.kept_changed.emit()

    def remember(self) -> None:
        """Keeps focus, pins and notes, if the case has a folder. Raises OSError."""
        remembering = self.remembering()
        if remembering is not None:
            remembering()

    def remembering(self) -> Callable[[], None] | None:
        """The same as work for any thread; None where there is nothing to keep. Raises OSError."""
        if self.opened is None or self.opened.folder is None:
            return None
        folder, memory = self.opened.folder, self.memory()
        return lambda: save_memory(folder, memory)

    @property
    def evidence(self) -> Evidence | None:
        """The evidence, if anything is open."""
        return self.opened.evidence if self.opened else None

    @property
    def ranked(self) -> list[tuple[Finding, float]]:
        """Findings of the period in focus that were not dismissed: those that explain a complaint first, then by time
        lost.
        """
        return ranked([f for f in self._in_period() if f.key not in self.kept.dismissed], self.kept.complaints)

    @property
    def findings(self) -> list[Finding]:
        """The same, without how well they explain complaints."""
        return [f for f, _ in self.ranked]

    @property
    def dismissed(self) -> list[tuple[Finding, str]]:
        """Findings of the period that were put away, with the reason."""
        return [(f, self.kept.dismissed[f.key]) for f in self._in_period() if f.key in self.kept.dismissed]

    def _in_period(self) -> list[Finding]:
        if self.opened is None:
            return []
        period = self.focus.period
        return [
            f for f in self.opened.findings if period is None or (f.first_ns <= period[1] and f.last_ns >= period[0])
        ]

    @property
    def cleared(self) -> list[Cleared]:
        """Sites that are fine over the whole period."""
        return self.opened.cleared if self.opened is not None else []

    # --- focus ---
    @property
    def focus(self) -> Focus:
        """Where we look."""
        return self.history.now

    def look(self, focus: Focus) -> bool:
        """Narrows everything to another focus; whether it is another.

        With `filters_elsewhere`, a filter that was never run is `awaited` first, and the focus follows when it is
        answered.
        """
        self.awaited = None
        opened = self.opened
        if self.filters_elsewhere and opened is not None and not opened.filter.known(focus.filter):
            self.awaited = focus
            self.filter_wanted.emit()
            return focus != self.focus
        moved = self.history.go(focus)
        if moved:
            self._refocused()
        return moved

    def filter_answered(self) -> None:
        """The filter that was awaited has its answer."""
        if self.awaited is not None:
            self.look(self.awaited)

    def narrow(self, expression: str) -> None:
        """Narrows the filter further."""
        focus = self.awaited or self.focus
        self.look(focus.with_filter(also(focus.filter, expression)))

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
        if (
            len(trail) == 4
            and trail[3].isdigit()
            and (self.connection is None or self.connection.number != int(trail[3]))
        ):
            self._load(int(trail[3]))
            self.selection_changed.emit()
        self.focus_changed.emit()

    def _narrow(self) -> None:
        evidence = self.evidence
        self.filter_error = None
        if evidence is None or self.opened is None:
            self.scene = None
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
        filtered = np.flatnonzero(keep)
        if self.filter_error is not None:
            focus = focus.with_filter("")
        self.scene = Scene(evidence, focus, self.opened.filter, filtered, trail_rows(evidence, filtered, focus.trail))

    @property
    def rows(self) -> Int64s:
        """Waits in focus, trail included."""
        return self.scene.rows if self.scene is not None else np.empty(0, np.int64)

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
        rows = self.rows
        if evidence is None or not rows.size:
            return -1
        owner = evidence.waits.connection[rows]
        return int(np.argmax(np.bincount(owner, evidence.waits.wait_ns[rows])))

    # --- findings ---
    def follow(self, finding: Finding) -> None:
        """Leads to a finding's grounds: its period and its worst connection."""
        evidence = self.evidence
        if evidence is None:
            return
        margin = max(1_000_000_000, (finding.last_ns - finding.first_ns) // 20)
        period = (max(evidence.first_ns, finding.first_ns - margin), min(evidence.last_ns, finding.last_ns + margin))
        if not finding.connections or finding.cause == MARKING:
            self.look(Focus(period))
            return
        asked = finding.grounds.get("asked_itself") or finding.connections  # Rather than servers in front of it.
        worst = max(asked, key=lambda c: int(evidence.analysis.account.fact("worst_wait_ns")[c]))
        trail = trail_of(evidence, worst)
        depth = (
            2 if finding.party == "server" and "protocol" not in finding.grounds else 1
        )  # A service is not the server of who waited for it.
        if finding.users == 1:
            depth = 3
        self._load(worst)
        text = (
            ""
            if len(finding.grounds.get("connections", [])) == 0 or finding.party != "network"
            else f"site = '{finding.subject}'".replace("\n", " ")
        )
        self.look(Focus(period, trail[:depth] if finding.party != "network" else (), text))
        self.selection_changed.emit()

    # --- what is kept with the case ---
    @property
    def kept(self) -> Kept:
        """Notes, pins, complaints and the rest."""
        return self.kept_history.now

    def keep(self, kept: Kept, words: str) -> None:
        """Replaces what is kept; `words` say what was done, so that it can be taken back."""
        if self.kept_history.go(kept, words):
            self.kept_changed.emit()

    def undo(self) -> None:
        """Takes the last change of what is kept back."""
        if self.kept_history.back():
            self.kept_changed.emit()

    def redo(self) -> None:
        """Does it again."""
        if self.kept_history.forward():
            self.kept_changed.emit()

    def pin(self, finding: Finding, kept: bool) -> None:
        """Keeps a finding for the report, or lets it go."""
        self.keep(self.kept.pin(finding.key, kept), f"{'pin' if kept else 'unpin'} {finding.subject}")

    def write_notes(self, text: str) -> None:
        """The user's own words."""
        self.keep(replace(self.kept, notes=text), "notes")
