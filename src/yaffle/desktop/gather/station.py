"""Gather: the sources, what each covers and what it cannot tell; adding more."""

from dataclasses import replace
from functools import partial
from html import escape
from pathlib import Path

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import (
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QPlainTextEdit,
    QPushButton,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from yaffle.analysis import Analysis
from yaffle.capture.captured import Source
from yaffle.case.folder import missing_source
from yaffle.collector.status import status_of
from yaffle.desktop.gather.complaint_dialog import ComplaintDialog
from yaffle.desktop.gather.welcome import Welcome
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, ColumnTable, TableView
from yaffle.desktop.shared.jobs import Latest
from yaffle.desktop.shared.panes import Panes
from yaffle.errors import YaffleError
from yaffle.history.store import History
from yaffle.inventory.places import PointName
from yaffle.records.flow_table import PROTOCOLS, SCALED, Exporter
from yaffle.session.beginning import FirstPacket
from yaffle.session.evidence import Evidence
from yaffle.session.investigation import Investigation
from yaffle.session.kept import Complaint
from yaffle.units import count, date_and_moment, duration, moment, size

_LONG_NS = 86_400 * 10**9


def _short(path: str) -> str:
    """A path as people write it at home."""
    home = str(Path.home())
    return f"~{path[len(home) :]}" if path.startswith(home + "/") else path


def _from(ns: int, source: Source) -> str:
    """When a source begins or ends; with the day, where it covers several."""
    if not source.last_ns:
        return "–"
    return date_and_moment(ns)[:16] if source.last_ns - source.first_ns > _LONG_NS else moment(ns, digits=0)


def _collector_words(history: Path) -> list[str]:
    """How the tasks of a history's collector are doing, as HTML; nothing where none ever wrote it."""
    try:
        told = status_of(history)
    except YaffleError as error:
        return [f"<p><b>Collector</b><br>{escape(str(error))}</p>"]
    lines = [told["trouble"]] if told["trouble"] and told["tasks"] else []
    for task in told["tasks"]:
        why = f": {task['why']}" if task["why"] else ""
        lines.append(
            f"{task['task']} {task['address']}: {task['state']} since {date_and_moment(task['since_ns'])}{why}"
        )
    listed = "".join(f"<li>{escape(line)}</li>" for line in lines)
    return [f"<p><b>Collector</b></p><ul>{listed}</ul>"] if lines else []


def _devices_words(history: History) -> list[str]:
    """Which hosts and devices told how many numbers, from when to when, as HTML."""
    lines = []
    for device, numbers, first_ns, last_ns in history.told_by():
        span = f"from {date_and_moment(first_ns)[:16]} to {date_and_moment(last_ns)[:16]}"
        lines.append(f"{device}: {count(numbers)} measures, {span}")
    listed = "".join(f"<li>{escape(line)}</li>" for line in lines)
    return [f"<p><b>Hosts and devices</b></p><ul>{listed}</ul>"] if lines else []


def _points_of(analysis: Analysis, source: str) -> list[str]:
    """What the capture points of a source are called."""
    points = analysis.capture.points
    return [
        name
        for point, name in zip(points, analysis.point_names, strict=True)
        if point == source or point.startswith((f"{source} ", f"{source},"))
    ]


class _Coverage(QWidget):
    """One line a source: which part of the whole time it covers."""

    def __init__(self, investigation: Investigation) -> None:
        super().__init__()
        self._model = investigation
        self.setMinimumHeight(40)

    def paintEvent(self, _event: object) -> None:
        evidence = self._model.evidence
        if evidence is None or self._model.pending:
            return
        look, painter = theme.current(), QPainter(self)
        sources = evidence.analysis.capture.sources
        span = max(1, evidence.last_ns - evidence.first_ns)
        left, width = 190, self.width() - 200
        for k, source in enumerate(sources):
            y = 6 + 22 * k
            painter.setPen(QColor(look.ink))
            called = ", ".join(_points_of(evidence.analysis, source.name)) or source.name
            name = painter.fontMetrics().elidedText(called, Qt.TextElideMode.ElideMiddle, left - 16)
            painter.drawText(QRectF(6, y, left - 12, 16), Qt.AlignmentFlag.AlignVCenter, name)
            painter.fillRect(QRectF(left, y + 6, width, 2), QColor(look.line))
            if source.packets:
                x = left + (source.first_ns - evidence.first_ns) / span * width
                w = max(2.0, (source.last_ns - source.first_ns) / span * width)
                painter.fillRect(QRectF(x, y + 2, w, 10), QColor(look.moss if source.complete else look.straw))


class Gather(QWidget):
    """The first station."""

    add_wanted = Signal()

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._model = investigation
        self._devices = Latest(self)
        self._covered: list[str] = []  # what hosts and devices of a history tell, as HTML
        self._coverage_of: Path | None = None
        self._asked_at: tuple[Path, int] | None = None
        self.table_model = ColumnTable(self)
        self.table = TableView("Sources")
        self.table.setModel(self.table_model)
        self._coverage = _Coverage(investigation)
        self.beginning_model = ColumnTable(self)
        self._beginning = TableView("First packets")
        self._beginning.setModel(self.beginning_model)
        self._beginning.setVisible(False)
        self._told = ""
        self._words = QTextBrowser()
        self._words.setAccessibleName("Source details")
        self.notes = QPlainTextEdit()
        self.notes.setPlaceholderText("Notes: who complained, what about, when; what you tried. Kept with the case.")
        self.notes.setAccessibleName("Notes")
        self.notes.textChanged.connect(lambda: investigation.write_notes(self.notes.toPlainText()))
        add = QPushButton("Add captures…")
        add.setToolTip("Open more files beside these (Ctrl+Shift+O)")
        add.clicked.connect(self.add_wanted)
        self._title = QLabel()
        self._title.setObjectName("heading")
        self.complain = QPushButton("Complaint…")
        self.complain.setToolTip(
            "Enter who complained, about what and when (Ctrl+K): findings that explain it come first"
        )
        self.complain.clicked.connect(self.enter_complaint)
        self.complaint_model = ColumnTable(self)
        self.complaints = TableView("Complaints")
        self.complaints.setModel(self.complaint_model)
        self.complaints.setVisible(False)
        self.complaints.setMaximumHeight(110)
        self.complaints.setToolTip("Enter edits a complaint")
        self.complaints.entered.connect(self._edit_complaint)
        head = QHBoxLayout()
        head.addWidget(self._title, 1)
        head.addWidget(self.complain)
        head.addWidget(add)
        self.table.setToolTip("Enter names the capture point of a source")
        self.table.entered.connect(self.name_point)
        self.exporter_model = ColumnTable(self)
        self.exporters = TableView("Exporters of flow records")
        self.exporters.setModel(self.exporter_model)
        self.exporters.setVisible(False)
        self.exporters.setMaximumHeight(190)
        self.welcome = Welcome()
        lower = Panes("gather station: lower", Qt.Orientation.Horizontal)
        lower.arrange([self._words, self.notes], [560, 300])
        self._body = Panes("gather station: body", Qt.Orientation.Vertical)
        parts = [self.table, self.exporters, self.complaints, self._coverage, lower, self._beginning]
        self._body.arrange(parts, [150, 150, 80, 90, 300, 260])
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 6, 8, 6)
        column.addLayout(head)
        column.addWidget(self.welcome, 1)
        column.addWidget(self._body, 1)
        self._undo = [
            investigation.opened_changed.connect(self._redraw),
            investigation.grown_changed.connect(self._grown),
            investigation.pending_changed.connect(self._redraw),
            investigation.kept_changed.connect(self._kept),
        ]
        self._redraw()

    def _show_pending(self, pending: list[tuple[str, int]]) -> None:
        """Files that are being read: what is known of them before the first packet."""
        self.welcome.setVisible(False)
        self._body.setVisible(True)
        self._title.setText(f"Reading {len(pending)} source{'s' if len(pending) != 1 else ''}")
        self.table_model.show_columns(
            [
                Column("source", lambda r: pending[r][0], [name for name, _ in pending], figures=False),
                Column("file", lambda r: size(pending[r][1]), [octets for _, octets in pending]),
                Column("state", lambda r: "reading", figures=False),
            ],
            len(pending),
        )
        self.table.fit.fit({}, 0)
        self._told = ""
        self._words.setPlainText("Coverage and gaps of each source appear here once it is read.")

    def _kept(self) -> None:
        kept = self._model.kept
        if self.notes.toPlainText() != kept.notes:
            self.notes.blockSignals(True)
            self.notes.setPlainText(kept.notes)
            self.notes.blockSignals(False)
        found = kept.complaints
        self.complaint_model.show_columns(
            [
                Column("who", lambda r: found[r].who, [c.who for c in found], figures=False),
                Column("what", lambda r: found[r].what, [c.what for c in found], figures=False),
                Column("from", lambda r: date_and_moment(found[r].first_ns), [c.first_ns for c in found]),
                Column("to", lambda r: date_and_moment(found[r].last_ns), [c.last_ns for c in found]),
                Column("words", lambda r: found[r].words, figures=False),
            ],
            len(found),
        )
        self.complaints.fit.fit({}, 3)
        self.complaints.setVisible(bool(found))

    def enter_complaint(self) -> None:
        """Asks who complained, about what and when; findings are then ranked by how well they explain it."""
        evidence = self._model.evidence
        if evidence is None:
            return
        dialog = ComplaintDialog((evidence.first_ns, evidence.last_ns), self._model.focus.period, None, self)
        dialog.accepted.connect(lambda: self._take(dialog.complaint, None))
        dialog.open()

    def _edit_complaint(self, row: int) -> None:
        evidence = self._model.evidence
        if evidence is not None:
            former = self._model.kept.complaints[row]
            dialog = ComplaintDialog((evidence.first_ns, evidence.last_ns), None, former, self)
            dialog.accepted.connect(lambda: self._take(dialog.complaint, former))
            dialog.removed.connect(lambda: self._take(None, former))
            dialog.open()

    def _take(self, complaint: Complaint | None, former: Complaint | None) -> None:
        kept = self._model.kept
        others = tuple(c for c in kept.complaints if c != former)
        self._model.keep(
            replace(kept, complaints=others if complaint is None else (*others, complaint)),
            "complaint" if complaint else "remove complaint",
        )

    def show_beginning(self, packets: list[FirstPacket]) -> None:
        """What the captures begin with, while they are read."""
        if not self._model.pending or not packets:
            return
        self._beginning.setVisible(True)
        self.beginning_model.show_columns(
            [
                Column("time", lambda r: moment(packets[r].time_ns, digits=6)),
                Column("source", lambda r: packets[r].source, figures=False),
                Column("from", lambda r: packets[r].sender, figures=False),
                Column("to", lambda r: packets[r].receiver, figures=False),
                Column("what", lambda r: packets[r].what, figures=False),
                Column("on the wire", lambda r: size(packets[r].wire_bytes)),
            ],
            len(packets),
        )
        self._beginning.fit.fit({}, 3)
        self._words.setPlainText(
            "These are the first packets of the capture. Coverage and gaps of each source appear here once it is read."
        )

    def _show_exporters(self, found: list[Exporter]) -> None:
        """Who told flow records, and how far they can be trusted."""
        red = theme.current().red
        self.exporter_model.show_columns(
            [
                Column("exporter", lambda r: found[r].address, [e.address for e in found], figures=False),
                Column("domain", lambda r: str(found[r].domain), [e.domain for e in found]),
                Column("protocol", lambda r: PROTOCOLS[found[r].protocol], [e.protocol for e in found], figures=False),
                Column("flow records", lambda r: count(found[r].flow_records), [e.flow_records for e in found]),
                Column(
                    "lost",
                    lambda r: f"{'about ' if found[r].estimated else ''}{count(found[r].lost_records)}",
                    [e.lost_records for e in found],
                    color=lambda r: red if found[r].lost_records else None,
                    meaning="records missing by the exporter's own sequence numbers",
                ),
                Column(
                    "counts",
                    lambda r: f"scaled by {found[r].sampling}" if found[r].counts == SCALED else found[r].counts,
                    [e.sampling for e in found],
                    figures=False,
                ),
                Column(
                    "clock offset",
                    lambda r: duration(found[r].clock_offset_ns) if found[r].clock_offset_ns else "–",
                    [e.clock_offset_ns for e in found],
                    meaning="how far it is ahead of the collector's",
                ),
                Column(
                    "named interfaces", lambda r: count(len(found[r].interfaces)), [len(e.interfaces) for e in found]
                ),
            ],
            len(found),
        )
        self.exporters.fit.fit({}, 0)
        self.exporters.setVisible(bool(found))

    def name_point(self, row: int) -> None:
        """Asks for another name of a source's capture point; an empty one is that of its file."""
        evidence = self._model.evidence
        if evidence is None or not 0 <= row < len(evidence.analysis.capture.sources):
            return
        capture, source = evidence.analysis.capture, evidence.analysis.capture.sources[row].name
        point = next((p for p in capture.points if p == source or p.startswith((f"{source} ", f"{source},"))), "")
        if not point:
            return
        now = evidence.analysis.point_names[capture.points.index(point)]
        name, sure = QInputDialog.getText(self, "Name of the capture point", f"Name for {point}:", text=now)
        if sure:
            kept = self._model.kept
            others = tuple(one for one in kept.renamed if one.point != point)
            own = (PointName(point, name.strip()),) if name.strip() else ()
            self._model.keep(replace(kept, renamed=others + own), f"name capture point {name.strip() or point}")

    def _look_at_devices(self, history: History) -> None:
        """What hosts and devices tell, read away from the interface thread: once for each look at the history."""
        if self._asked_at != (history.folder, history.last_ns):
            self._asked_at = (history.folder, history.last_ns)
            self._devices.ask(lambda _progress: _devices_words(history), partial(self._take_devices, history.folder))

    def _take_devices(self, folder: Path, words: list[str]) -> None:
        if (self._coverage_of, self._covered) != (folder, words):
            self._coverage_of, self._covered = folder, words
            self._redraw()

    def _redraw(self) -> None:
        evidence = self._model.evidence
        pending = self._model.pending
        if pending:
            self._show_pending(pending)
            return
        self._beginning.setVisible(False)
        self.complain.setEnabled(evidence is not None)
        self.welcome.setVisible(evidence is None)
        self._body.setVisible(evidence is not None)
        if evidence is None:
            self._title.setText("Gather")
            return
        capture = evidence.analysis.capture
        sources = capture.sources
        growing = "; it still grows" if evidence.analysis.provisional else ""
        self._title.setText(
            f"{len(sources)} source{'s' if len(sources) != 1 else ''}, seen from {len(capture.points)}"
            f" point{'s' if len(capture.points) != 1 else ''}{growing}"
        )
        named = self._named = [_points_of(evidence.analysis, source.name) for source in sources]
        self.table_model.show_columns(
            [
                Column("source", lambda r: sources[r].name, [s.name for s in sources], figures=False),
                Column("capture point", lambda r: ", ".join(named[r]), [" ".join(n) for n in named], figures=False),
                Column("format", lambda r: sources[r].format, [s.format for s in sources], figures=False),
                Column("packets", lambda r: count(sources[r].packets), [s.packets for s in sources]),
                Column("on the wire", lambda r: size(sources[r].bytes), [s.bytes for s in sources]),
                Column("from", lambda r: _from(sources[r].first_ns, sources[r]), [s.first_ns for s in sources]),
                Column("to", lambda r: _from(sources[r].last_ns, sources[r]), [s.last_ns for s in sources]),
                Column(
                    "span",
                    lambda r: duration(sources[r].last_ns - sources[r].first_ns),
                    [s.last_ns - s.first_ns for s in sources],
                ),
                Column("state", lambda r: "complete" if sources[r].complete else "not complete", figures=False),
            ],
            len(sources),
        )
        self.table.fit.fit({}, 0)
        self._show_exporters(evidence.analysis.exporters)
        self._coverage.setMinimumHeight(min(300, 14 + 22 * len(sources)))
        self._coverage.update()
        self._tell(evidence)

    def _grown(self) -> None:
        evidence = self._model.evidence
        if evidence is not None and self.isVisible():
            self._tell(evidence)

    def _tell(self, evidence: Evidence) -> None:
        """What is to be known about the sources."""
        capture, parts = evidence.analysis.capture, []
        sources = capture.sources
        for source in sources:
            lines = [*source.notes]
            if away := missing_source(source):
                lines.append(
                    f"{away}: figures stand, but the bytes of its packets cannot be shown until you say where it is"
                    " (they will be asked for)"
                )
            text = "".join(f"<li>{escape(line)}</li>" for line in lines) or "<li>nothing missing</li>"
            parts.append(f"<p><b>{escape(source.name)}</b><br>{escape(_short(source.path))}</p><ul>{text}</ul>")
        if told := evidence.analysis.exporters:
            parts.append(
                "<p><b>Flow records</b></p><ul>" + "".join(f"<li>{escape(e.sentence)}</li>" for e in told) + "</ul>"
            )
        if (history := evidence.analysis.history) is not None and history.reception:
            told_of = history.reception
            parts.append(
                f"<p><b>Reception</b></p><ul><li>{count(int(told_of['records']))} records in"
                f" {count(int(told_of['datagrams']))} datagrams since it began; {count(int(told_of['kernel_drops']))}"
                f" datagrams dropped by the kernel (socket buffer full); {count(int(told_of['refused']))}"
                f" unrecognized{'; ' + escape(str(told_of['trouble'])) if told_of['trouble'] else ''}</li></ul>"
            )
        if history is not None:
            if history.trouble:
                parts.insert(0, f"<p><b>Store</b></p><ul><li>{escape(history.trouble)}</li></ul>")
            parts += _collector_words(history.folder)
            if self._coverage_of == history.folder:
                parts += self._covered
            self._look_at_devices(history)
        account = evidence.analysis.account
        unseen = int((account.fact("opening") == 1).sum())
        total = account.flow.size
        parts.insert(
            0,
            f"<p>{count(int(evidence.speaks.sum()))} TCP connections, {count(int(evidence.waits.connection.size))}"
            " exchanges.</p>",
        )
        if unseen:
            parts.insert(
                1,
                f"<p>{count(unseen)} of {count(total)} connections began before the capture: their windows may be"
                " scaled by an unknown factor.</p>",
            )
        if capture.dropped_copies:
            parts.insert(
                1,
                f"<p>{count(capture.dropped_copies)} duplicate packets (present in two files of one capture point)"
                " removed.</p>",
            )
        if (words := "".join(parts)) != self._told:  # Who reads it is not moved for nothing.
            self._told = words
            self._words.setHtml(words)
