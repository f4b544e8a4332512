"""Watch: every watched member with its states over the period, worst first; what was told and done; the collector."""

import math

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QTabWidget, QVBoxLayout, QWidget

from yaffle.collector.asking import ask_collector
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.jobs import Latest
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plots import Plot
from yaffle.desktop.shared.station import Station
from yaffle.desktop.watch.course_plot import draw_course
from yaffle.desktop.watch.health_panel import HealthPanel
from yaffle.desktop.watch.state_bar import StateBar
from yaffle.desktop.watch.watch_dialog import WatchDialog
from yaffle.errors import YaffleError
from yaffle.session.flow_health import health_picture
from yaffle.session.investigation import Investigation
from yaffle.session.scene import Scene
from yaffle.session.watching import Course, Watched, WatchPicture, course, watch_picture
from yaffle.units import count, date_and_moment, duration
from yaffle.watching.event_rows import Event
from yaffle.watching.event_words import figure, what
from yaffle.watching.states import RAISED, UNKNOWN
from yaffle.watching.watch import Watch

_AROUND_NS = 900 * 10**9
_STATES = 2  # the column of the bars


class WatchStation(Station):
    """`wanted`: the evidence of a watched table is wanted, by the table's name."""

    wanted = Signal(str)
    said = Signal(str)

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(investigation, parent)
        self._latest, self._second, self._third = Latest(self), Latest(self), Latest(self)
        self.picture: WatchPicture | None = None
        self._to_edit: Watch | None = None
        self.drawn: Course | None = None
        self.words = QLabel()
        self.words.setWordWrap(True)
        for latest in (self._latest, self._second, self._third):
            latest.failed.connect(lambda text: self.words.setText(f"View not updated: {text}"))
        self.new = QPushButton("New watch…")
        self.new.setToolTip("Be told when a measure leaves a limit or what is usual (Ctrl+Shift+W)")
        self.new.clicked.connect(lambda: self.edit())
        self.acknowledge = QPushButton("Acknowledge")
        self.acknowledge.setToolTip("Nothing more is sent about what is raised here until it is over")
        self.acknowledge.clicked.connect(self._acknowledge)
        self.table = Listing("What is watched")
        self.bars = StateBar(self)
        self.table.selectionModel().currentRowChanged.connect(lambda now, _before: self._select(now.row()))
        self.table.entered.connect(self._enter)
        self.table.setToolTip("Enter leads to the evidence at the last time that it was raised")
        self.plot = Plot("")
        self.plot.read_with(self._read)
        self.events = Listing("Events")
        self.events.entered.connect(self._enter_event)
        self.events.setToolTip("Enter looks at that moment")
        self.tasks = Listing("The collector")
        self.health = HealthPanel()
        self.below = QTabWidget()
        self.below.setDocumentMode(True)
        for part, name in (
            (self.plot, "over time"),
            (self.events, "events"),
            (self.health, "flow sets"),
            (self.tasks, "collector"),
        ):
            self.below.addTab(part, name)
        body = Panes("watch station: body", Qt.Orientation.Vertical)
        body.arrange([self.table, self.below], [300, 260])
        head = QHBoxLayout()
        head.addWidget(self.words, 1)
        head.addWidget(self.acknowledge)
        head.addWidget(self.new)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 6, 8, 6)
        column.addLayout(head)
        column.addWidget(body, 1)
        self._undo = [
            investigation.opened_changed.connect(self._changed),
            investigation.focus_changed.connect(self._changed),
        ]
        self._show(None)

    @property
    def pictures(self) -> tuple[Latest, ...]:
        """What computes away from the interface thread."""
        return (self._latest, self._second, self._third)

    def _show_nothing(self) -> None:
        self._show(None)
        self.health.show_picture(None)

    def _ask(self, scene: Scene) -> None:
        self._latest.ask(lambda progress: watch_picture(scene, progress), self._show)
        self._third.ask(lambda progress: health_picture(scene, progress), self.health.show_picture)

    # --- what is shown ---
    def _show(self, picture: WatchPicture | None) -> None:
        former = self.drawn.row if self.drawn is not None else None
        self.picture = picture
        rows = picture.rows if picture is not None else []
        self.new.setEnabled(picture is not None)
        self.words.setText(_head(picture))
        self.bars.rows = rows
        if picture is not None:
            self.bars.first_ns, self.bars.last_ns = picture.first_ns, picture.last_ns
        offered = picture is not None and not picture.is_watched
        self.table.setItemDelegateForColumn(_STATES, self.table.itemDelegate() if offered else self.bars)
        if picture is not None and offered:
            self._offer(picture)
        else:
            self._show_rows(rows)
        self._show_events(picture.events if picture is not None else [])
        self._show_tasks(picture)
        again = next((k for k, one in enumerate(rows) if former is not None and _same(one, former)), 0)
        if rows:
            self.table.selectRow(again)
        self._enable()
        self._draw(rows[again] if rows else None)
        if picture is not None:
            self._edit_it()

    def _show_rows(self, rows: list[Watched]) -> None:
        look = theme.current()
        self.table.show_columns(
            [
                Column("watch", lambda r: rows[r].watch.name, [one.watch.name for one in rows], figures=False),
                Column("of", lambda r: rows[r].subject, [one.subject for one in rows], figures=False),
                Column(
                    "over the period",
                    lambda r: _told(rows[r]),
                    [-_bad_ns(one) for one in rows],
                    figures=False,
                    meaning="filled: raised; hatched: not known; the line: fine",
                ),
                Column(
                    "now",
                    lambda r: _now(rows[r]),
                    [one.rank[0] for one in rows],
                    figures=False,
                    color=lambda r: look.red if rows[r].state == RAISED else None,
                ),
                Column("since", lambda r: date_and_moment(rows[r].since_ns)[:16], [one.since_ns for one in rows]),
                Column("value", lambda r: _value(rows[r]), [one.value for one in rows]),
                Column("limit", lambda r: rows[r].watch.limit_words, figures=False),
            ],
            len(rows),
            ((0, 150), (1, 160), (3, 66), (4, 116), (5, 80), (6, 150)),
            wide=_STATES,
        )

    def _offer(self, picture: WatchPicture) -> None:
        """Nothing is watched yet: what could be."""
        found = picture.offers
        self.table.show_columns(
            [
                Column("could be watched", lambda r: found[r].watch.name, figures=False),
                Column("measure", lambda r: f"{what(found[r].watch)} by {found[r].watch.of}", figures=False),
                Column("", lambda r: "", figures=False),
                Column("limit", lambda r: found[r].watch.limit_words, figures=False),
                Column("why", lambda r: found[r].why, figures=False),
            ],
            len(found),
            ((0, 170), (1, 170), (2, 8), (3, 200)),
            wide=4,
        )

    def _show_events(self, events: list[Event]) -> None:
        look = theme.current()
        self.events.show_columns(
            [
                Column("when", lambda r: date_and_moment(events[r].time_ns)[:19], [e.time_ns for e in events]),
                Column(
                    "what",
                    lambda r: events[r].state,
                    [e.state for e in events],
                    figures=False,
                    color=lambda r: look.red if events[r].state == RAISED else None,
                ),
                Column("watch", lambda r: events[r].watch, [e.watch for e in events], figures=False),
                Column("of", lambda r: events[r].subject, [e.subject for e in events], figures=False),
                Column("words", lambda r: events[r].words, figures=False),
            ],
            len(events),
            ((0, 140), (1, 80), (2, 150), (3, 170)),
            wide=4,
        )

    def _show_tasks(self, picture: WatchPicture | None) -> None:
        tasks = picture.tasks if picture is not None else []
        self.tasks.show_columns(
            [
                Column("task", lambda r: tasks[r]["task"], [t["task"] for t in tasks], figures=False),
                Column("of", lambda r: tasks[r]["address"], [t["address"] for t in tasks], figures=False),
                Column("state", lambda r: tasks[r]["state"], [t["state"] for t in tasks], figures=False),
                Column("since", lambda r: date_and_moment(tasks[r]["since_ns"])[:16], [t["since_ns"] for t in tasks]),
                Column("why", lambda r: tasks[r]["why"], figures=False),
            ],
            len(tasks),
            ((0, 90), (1, 200), (2, 80), (3, 120)),
            wide=4,
        )

    # --- one member over time ---
    def _select(self, row: int) -> None:
        self._enable()
        one = self._row_at(row)
        if one is not None:
            self._draw(one)

    def _row_at(self, row: int) -> Watched | None:
        order, rows = self.table.columns.order, self.picture.rows if self.picture is not None else []
        return rows[int(order[row])] if rows and 0 <= row < order.size else None

    def _draw(self, row: Watched | None) -> None:
        scene = self._model.scene
        if row is None or scene is None or self.picture is None:
            self.drawn = None
            self.plot.getPlotItem().clear()
            self.plot.set_quantity("the selected measure over time stands here")
            return
        events = self.picture.events
        self._second.ask(lambda progress: course(scene, row, events, progress), self._show_course)

    def _show_course(self, found: Course) -> None:
        self.drawn = found
        if self.picture is not None:
            draw_course(self.plot, found, self.picture.first_ns, self.picture.last_ns)

    def _read(self, x: float, _y: float) -> str:
        found = self.drawn
        if found is None or self.picture is None or not found.times_ns.size:
            return ""
        k = int(np.argmin(np.abs((found.times_ns - self.picture.first_ns) / 1e9 - x)))
        value = float(found.values[k])
        told = figure(value, found.row.watch.unit) if math.isfinite(value) else "not known"
        return f" {date_and_moment(int(found.times_ns[k]))[:16]}  {told} "

    # --- going on ---
    def _enable(self) -> None:
        one = self._row_at(self.table.currentIndex().row())
        self.acknowledge.setEnabled(one is not None and one.state in (RAISED, "clearing"))

    def _enter(self, row: int) -> None:
        """To the evidence at the last time that it was raised; of an offer, to what it would be."""
        picture = self.picture
        if picture is None:
            return
        if not picture.is_watched:
            if row < len(picture.offers):
                self.edit(picture.offers[row].watch)
            return
        one = picture.rows[row]
        raised = [stretch for stretch in one.stretches if stretch[2] == RAISED]
        if raised:
            first, last, _ = raised[-1]
            self._look_around(first, last)
        self.wanted.emit("" if one.watch.event else one.watch.entry.table)

    def _enter_event(self, row: int) -> None:
        if self.picture is not None and row < len(self.picture.events):
            event = self.picture.events[row]
            self._look_around(event.time_ns, event.time_ns)
            own = next((one for one in self.picture.rows if one.watch.name == event.watch), None)
            if own is not None and not own.watch.event:
                self.wanted.emit(own.watch.entry.table)

    def _look_around(self, first_ns: int, last_ns: int) -> None:
        evidence = self._model.evidence
        if evidence is not None:
            low = max(evidence.first_ns, first_ns - _AROUND_NS)
            high = max(low + 1, min(evidence.last_ns, last_ns + _AROUND_NS))
            self._model.look(self._model.focus.with_period((low, high)))

    def edit_soon(self, watch: Watch) -> None:
        """A new watch, filled in, as soon as the station shows what is watched."""
        self._to_edit = watch
        if self.picture is not None and not self._latest.busy:
            self._edit_it()

    def _edit_it(self) -> None:
        watch, self._to_edit = self._to_edit, None
        if watch is not None:
            self.edit(watch)

    def edit(self, watch: Watch | None = None) -> None:
        """A new watch, filled in where one is given."""
        evidence = self._model.evidence
        history = evidence.analysis.history if evidence is not None else None
        if history is None or self.picture is None:
            self.said.emit("Watches belong to a history: open one with Ctrl+H.")
            return
        period = (self.picture.first_ns, self.picture.last_ns)
        self.dialog = WatchDialog(history, self.picture.config, watch, period, self)
        self.dialog.said.connect(self.said)
        self.dialog.open()

    def _acknowledge(self) -> None:
        one = self._row_at(self.table.currentIndex().row())
        evidence = self._model.evidence
        history = evidence.analysis.history if evidence is not None else None
        if one is None or history is None:
            return
        try:
            ask_collector(history.folder, one.watch.name, one.subject)
        except YaffleError as error:
            self.said.emit(f"Not acknowledged: {error}")
            return
        self.said.emit(f"{one.watch.name}, {one.subject}: the collector is asked to acknowledge it")

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.plot.dress()
        self._show(self.picture)


def _same(one: Watched, other: Watched) -> bool:
    return (one.watch.name, one.subject) == (other.watch.name, other.subject)


def _bad_ns(one: Watched) -> int:
    return sum(last - first for first, last, state in one.stretches if state == RAISED)


def _told(one: Watched) -> str:
    times = sum(state == RAISED for _, _, state in one.stretches)
    return f"raised {times} times, {duration(_bad_ns(one))}" if times else "never raised"


def _now(one: Watched) -> str:
    return f"{one.state}, {one.watch.severity}" if one.state == RAISED else one.state


def _value(one: Watched) -> str:
    return figure(one.value, one.watch.unit) if math.isfinite(one.value) and not one.watch.event else "–"


def _head(picture: WatchPicture | None) -> str:
    if picture is None:
        return (
            "Watches belong to a history: open one with Ctrl+H. yaffle collect looks at them with [[watch]] in its"
            " configuration, tells people, and measures whether what was done about it helped."
        )
    if not picture.is_watched and picture.is_elsewhere:
        return (
            "What is watched in a history of a store is known where its collectors run; events tells what was raised."
            " These watches fit what it holds: Enter on one shows how often it would have told something."
        )
    if not picture.is_watched:
        return (
            "Nothing is watched here yet. These watches fit what this history holds: Enter on one shows how often it"
            " would have told something, and adds it to the collector's configuration."
        )
    raised, unknown = (sum(one.state == state for one in picture.rows) for state in (RAISED, UNKNOWN))
    trouble = f" {picture.trouble[:1].upper()}{picture.trouble[1:]}." if picture.trouble else ""
    return f"{count(len(picture.rows))} watched, {count(raised)} raised, {count(unknown)} not known.{trouble}"
