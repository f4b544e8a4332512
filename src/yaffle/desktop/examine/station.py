"""Examine: one connection. Ladder, sequence plot, silences and packets, linked by one selection."""

import numpy as np
from PySide6.QtCore import QItemSelectionModel, QModelIndex, Qt
from PySide6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QHBoxLayout,
    QLabel,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from yaffle.capture.icmp_errors import in_words
from yaffle.capture.tunnels import tunnel_of
from yaffle.desktop.examine.flow_plots import FlowPlots
from yaffle.desktop.examine.ladder import Ladder, LadderPanel
from yaffle.desktop.examine.packet_bytes import PacketBytes
from yaffle.desktop.examine.sequence_plot import SequencePlot
from yaffle.desktop.examine.tiers_panel import TiersPanel
from yaffle.desktop.examine.visit_panel import VisitPanel
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, ColumnTable, TableView
from yaffle.desktop.shared.dialog_parts import bound
from yaffle.desktop.shared.jobs import Latest
from yaffle.desktop.shared.ledger_bar import Bounds, LedgerBar, bound_words
from yaffle.desktop.shared.panes import Panes
from yaffle.findings.certainty import bounds_of_connection
from yaffle.findings.inside import inside_of_connection
from yaffle.findings.verdict import path_changed, verdict_of
from yaffle.session.examine import SILENCE_NS, Connection, Silence
from yaffle.session.expressions import utc
from yaffle.session.investigation import Investigation
from yaffle.session.services import kind_name
from yaffle.transport import kinds
from yaffle.units import duration, moment, size

_PAID = {"client": "client_ms > 0", "server": "server_ms > 0"}  # exchanges in which a side made one wait
CONNECTION, VISIT, TIERS = range(3)  # pages
OWED = ("the party causing the delay", "anybody", "client", "server", "nobody")


class Examine(QWidget):
    """The fourth station."""

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._model = investigation
        self._shown: Connection | None = None
        self._silences: list[Silence] = []
        self._title, self._verdict, self._selected = QLabel(), QLabel(), QLabel()
        self._title.setObjectName("heading")
        self._verdict.setWordWrap(True)
        self._title.setWordWrap(True)
        self._selected.setObjectName("faint")
        self._selected.setWordWrap(True)
        # Room for two lines at all times: what is chosen must not push the plots about.
        self._selected.setMinimumHeight(2 * self._selected.fontMetrics().lineSpacing())
        self.bar = LedgerBar()
        self.ladder = Ladder()
        self.ladder.setMinimumWidth(200)
        self.sequence = SequencePlot()
        self.flow = FlowPlots(self.sequence)
        self.silence_model, self.packet_model = ColumnTable(self), ColumnTable(self)
        self.silence_table, self.packet_table = (
            TableView("Silences, longest first"),
            TableView("Packets of the connection"),
        )
        self.silence_table.setModel(self.silence_model)
        self.packet_table.setModel(self.packet_model)
        self.owed = QComboBox()
        self.owed.addItems(OWED)
        self.owed.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.owed.setMinimumContentsLength(8)
        self.owed.setToolTip("Filter silences by the side that was expected to send next")
        self.owed.currentIndexChanged.connect(lambda _: self._list_silences())
        self.threshold = QDoubleSpinBox()
        self.threshold.setMaximumWidth(96)
        self.threshold.setRange(0.01, 3_600_000)
        self.threshold.setDecimals(2)
        self.threshold.setSuffix(" ms")
        self.threshold.setValue(SILENCE_NS / 1e6)
        self.threshold.setKeyboardTracking(False)
        self.threshold.setToolTip("Shorter silences are not listed")
        self.threshold.valueChanged.connect(lambda _: self._list_silences())
        self.bytes = PacketBytes(investigation)
        self.bytes.setVisible(False)
        self.silence_table.narrowed.connect(investigation.narrow)
        self.ladder.chosen.connect(investigation.select_segment)
        self.sequence.chosen.connect(investigation.select_segment)
        self.silence_table.selectionModel().currentRowChanged.connect(self._silence_chosen)
        self.packet_table.selectionModel().currentRowChanged.connect(self._packet_chosen)
        silences = QWidget()
        under = QVBoxLayout(silences)
        under.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        row.addStretch(1)
        for part in (QLabel("expected from"), self.owed, QLabel("from"), self.threshold):
            row.addWidget(part)
        under.addLayout(row)
        under.addWidget(self.silence_table)
        right = Panes("examine station: right", Qt.Orientation.Vertical)
        self.lists = QTabWidget()
        self.lists.setDocumentMode(True)
        self.lists.addTab(self.packet_table, "packets")
        self.lists.addTab(silences, "silences")
        right.arrange([self.flow, self.lists], [300, 220])
        body = Panes("examine station: body", Qt.Orientation.Horizontal)
        body.arrange([LadderPanel(self.ladder), right], [385, 525])
        outer = Panes("examine station: outer", Qt.Orientation.Horizontal)
        outer.arrange([body, self.bytes], [560, 350])
        connection = QWidget()
        column = QVBoxLayout(connection)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(4)
        column.addWidget(self._title)
        column.addWidget(self.bar)
        column.addWidget(self._verdict)
        column.addWidget(outer, 1)
        column.addWidget(self._selected)
        self.visit = VisitPanel()
        self.tiers = TiersPanel()
        for panel in (self.visit, self.tiers):
            panel.exchange_wanted.connect(self._to_exchange)
        self.parts = QTabWidget()
        self.parts.setDocumentMode(True)
        self.parts.addTab(connection, "connection")
        self.parts.addTab(self.visit, "visit")
        self.parts.addTab(self.tiers, "tiers")
        self.parts.setTabToolTip(
            1, "All that the client did around this connection: DNS lookups, connections, exchanges (V)"
        )
        self.parts.setTabToolTip(2, "What lies behind this connection's exchanges, and in front of them (W)")
        self.parts.currentChanged.connect(lambda _: self._changed())
        whole = QVBoxLayout(self)
        whole.setContentsMargins(8, 4, 8, 6)
        whole.addWidget(self.parts)
        for key, slot in (
            ("N", lambda: self.step_silence(1)),
            ("P", lambda: self.step_silence(-1)),
            ("B", self.toggle_bytes),
            ("V", lambda: self._toggle(VISIT)),
            ("W", lambda: self._toggle(TIERS)),
        ):
            bound(self, key, slot)
        self._undo = [
            investigation.selection_changed.connect(self._changed),
            investigation.opened_changed.connect(self._changed),
            investigation.focus_changed.connect(self._changed),
        ]
        self._changed()

    def showEvent(self, event: object) -> None:
        super().showEvent(event)  # type: ignore[arg-type]
        if self._model.connection is None and (worst := self._model.worst_connection()) >= 0:
            self._model.examine(worst)
        self._changed()

    def toggle_bytes(self) -> None:
        """Opens or shuts the drawer with the packet's bytes."""
        self.bytes.setVisible(not self.bytes.isVisible())

    def _toggle(self, page: int) -> None:
        """From the connection to a page about it, and back."""
        self.parts.setCurrentIndex(CONNECTION if self.parts.currentIndex() == page else page)

    def _to_exchange(self, number: int, moment_ns: int) -> None:
        self.parts.setCurrentIndex(CONNECTION)
        self._model.examine(number)
        self.look_at(moment_ns)

    @property
    def pictures(self) -> tuple[Latest, ...]:
        """What computes away from the interface thread."""
        return (*self.visit.pictures, *self.tiers.pictures)

    @property
    def busy(self) -> bool:
        """Whether something shown is still being computed."""
        return any(latest.busy for latest in self.pictures)

    def look_at(self, moment_ns: int) -> None:
        """Selects the packet nearest to a moment."""
        connection = self._model.connection
        if connection is not None and connection.segments.size:
            times = connection.segments["t"]
            k = int(np.clip(np.searchsorted(times, moment_ns), 0, times.size - 1))
            self._model.select_segment(k)

    def step_silence(self, step: int) -> None:
        """To the next or previous silence of the list."""
        total = len(self._silences)
        if total:
            row = self.silence_table.currentIndex().row()
            self.silence_table.selectRow(min(total - 1, max(0, row + step)) if row >= 0 else 0)

    def _changed(self) -> None:
        if not self.isVisible():
            return
        connection = self._model.connection
        if connection is not self._shown:
            self._shown = connection
            self._show_connection(connection)
        self._show_selection()
        if self.parts.currentIndex() == VISIT:
            self._show_visit(connection)
        elif self.parts.currentIndex() == TIERS:
            self._show_tiers(connection)

    def _show_tiers(self, connection: Connection | None) -> None:
        """The tiers of the exchange at the selected packet; else of the longest."""
        if connection is None:
            self.tiers.clear()
            return
        at = int(connection.segments["t"][self._model.segment]) if self._model.segment >= 0 else None
        self.tiers.show_connection(connection.evidence, connection.number, at)

    def _show_visit(self, connection: Connection | None) -> None:
        """The visit of the connection's client, at the selected packet; else that of its dearest exchange."""
        if connection is None:
            self.visit.clear()
            return
        evidence, index = connection.evidence, self._model.segment
        if index >= 0:
            at = int(connection.segments["t"][index])
        else:
            own = np.flatnonzero(evidence.waits.connection == connection.number)
            at = (
                int(evidence.waits.first_ns[own[np.argmax(evidence.waits.wait_ns[own])]])
                if own.size
                else int(connection.segments["t"][0])
            )
        self.visit.show_client(evidence, evidence.client[connection.number], at)

    def _show_connection(self, connection: Connection | None) -> None:
        self.ladder.show_connection(connection)
        self.flow.show_connection(connection)
        if connection is None:
            self._title.setText("No connection is chosen")
            self._verdict.setText("Choose one in Apportion (Enter on it), or follow a finding.")
            self.bar.show_charges(None)
            self._list_silences()
            self.packet_model.show_columns([], 0)
            return
        account = connection.evidence.analysis.account
        verdict = verdict_of(account, connection.number)
        first = int(connection.segments["t"][0])
        flows = connection.evidence.analysis.capture
        point = connection.evidence.analysis.point_names[
            int(flows.conversations.point[account.flow[connection.number]])
        ]
        row = int(account.flow[connection.number])
        tunnel = tunnel_of(flows.conversations, row)
        self._title.setText(
            f"{connection.title}, from {moment(first)}, seen at {point}"
            + (f", inside {tunnel.words}" if tunnel else "")
        )
        self._verdict.setText(
            f"{verdict.party}: {verdict.sentence}"
            + ("" if connection.scales_known else " Handshake not captured: window scaling unknown.")
        )
        messages = connection.evidence.analysis.messages
        if connection.number in messages.protocol:
            said = [
                kind_name(messages.protocol[connection.number]),
                messages.host.get(connection.number, ""),
                messages.note.get(connection.number, ""),
            ]
            self._title.setText(f"{self._title.text()}: {', '.join(part for part in said if part)}")
        ipv6 = bool(flows.conversations.ipv6[row])
        for kind, times in connection.evidence.analysis.quotes.get(row, {}).items():
            self._verdict.setText(f"{self._verdict.text()} ICMP from the path: {in_words(kind, ipv6)} ({times} times).")
        for end in path_changed(account, connection.number):
            before, after = (
                int(account.fact(f"to_{end}_{when}_min_ns")[connection.number]) for when in ("early", "late")
            )
            self._verdict.setText(
                f"{self._verdict.text()} The path to the {end} changed: its minimum RTT went from {duration(before)} to"
                f" {duration(after)}."
            )
        charges, (low, high) = (
            account.connection_charges[connection.number],
            bounds_of_connection(account, connection.number),
        )
        bounds = Bounds(low[0], high[0])
        if between := bound_words(charges, bounds):
            self._verdict.setText(f"{self._verdict.text()} The evidence allows: {', '.join(between)}.")
        self._verdict.setText(
            self._verdict.text() + inside_of_connection(connection.evidence.analysis, connection.number)
        )
        self.bar.show_charges(charges, bounds)
        self._list_silences()
        g, since = connection.segments, connection.since_previous()
        red = theme.current().red
        side = ("client", "server")
        self.packet_model.show_columns(
            [
                Column("no.", lambda r: str(r + 1), range(g.size)),
                Column("time", lambda r: moment(int(g["t"][r]), digits=6), g["t"]),
                Column(
                    "since previous",
                    lambda r: duration(int(since[r])),
                    since,
                    meaning="time since the packet before it on this connection",
                ),
                Column("from", lambda r: side[int(g["d"][r])], g["d"], figures=False),
                Column(
                    "what",
                    lambda r: kinds.in_words(int(g["kind"][r])),
                    g["kind"],
                    figures=False,
                    color=lambda r: red if kinds.is_repeat(int(g["kind"][r])) else None,
                ),
                Column(
                    "sequence",
                    lambda r: f"{int(g['s'][r]):,}",
                    g["s"],
                    meaning="sequence number, counted from the start of the connection",
                ),
                Column(
                    "sequence end",
                    lambda r: f"{int(g['e'][r]):,}",
                    g["e"],
                    meaning="sequence number that follows the last byte of this packet",
                ),
                Column("acknowledges", lambda r: f"{int(g['a'][r]):,}" if g["a"][r] >= 0 else "–", g["a"]),
                Column("bytes", lambda r: f"{int(g['n'][r]):,}", g["n"]),
                Column(
                    "in flight",
                    lambda r: f"{int(g['flight'][r]):,}",
                    g["flight"],
                    meaning="bytes of this side sent and not acknowledged, as seen here",
                ),
                Column(
                    "window",
                    lambda r: f"{int(g['w'][r]):,}",
                    g["w"],
                    meaning="receive window this side advertised, bytes",
                ),
            ],
            g.size,
        )
        self.packet_table.fit.fit({}, 4)

    def _list_silences(self) -> None:
        everything = self._shown.silences(round(self.threshold.value() * 1e6)) if self._shown is not None else []
        wanted = OWED[self.owed.currentIndex()]
        if wanted == OWED[0]:
            found = [s for s in everything if s.kind in ("waiting", "set-up")]
        else:
            found = [s for s in everything if wanted in (OWED[1], s.owed_by)]
        self._silences = found
        self.silence_model.show_columns(
            [
                Column(
                    "length",
                    lambda r: duration(found[r].span_ns),
                    [s.span_ns for s in found],
                    sql="wait_ms",
                    value=lambda r: found[r].span_ns / 1e6,
                ),
                Column(
                    "at",
                    lambda r: moment(found[r].first_ns),
                    [s.first_ns for s in found],
                    sql="began",
                    value=lambda r: utc(found[r].first_ns),
                ),
                Column(
                    "expected from",
                    lambda r: found[r].owed_by,
                    [s.owed_by for s in found],
                    figures=False,
                    condition=lambda r: _PAID.get(found[r].owed_by, ""),
                ),
                Column("what happened", lambda r: found[r].sentence, figures=False),
            ],
            len(found),
        )
        self.silence_table.fit.fit({}, 3)

    def _show_selection(self) -> None:
        connection, index = self._model.connection, self._model.segment
        if connection is None or index < 0:
            self._selected.setText(
                "N and P step through the silences, B shows the bytes of the packet, V the visit it belongs to, W its"
                " tiers"
                if connection is not None
                else ""
            )
            self.ladder.select(-1)
            self.sequence.select(-1)
            return
        self.ladder.select(index)
        self.sequence.select(index)
        place = self.packet_model.place_of(index)
        if place >= 0 and self.packet_table.currentIndex().row() != place:
            flags = QItemSelectionModel.SelectionFlag.ClearAndSelect | QItemSelectionModel.SelectionFlag.Rows
            self.packet_table.selectionModel().setCurrentIndex(self.packet_model.index(place, 0), flags)
            self.packet_table.scrollTo(self.packet_model.index(place, 0))
        g = connection.segments[index]
        before = next((s for s in self._silences if s.after == index), None)
        silence = f"After {duration(before.span_ns)} of silence. {before.sentence}  " if before is not None else ""
        self._selected.setText(
            silence
            + f"packet {index + 1} of {connection.segments.size}: {kinds.in_words(int(g['kind']))}, {size(int(g['n']))}"
            f" of payload, {moment(int(g['t']), digits=6)}"
        )

    def _silence_chosen(self, current: QModelIndex, _previous: QModelIndex) -> None:
        if current.isValid():
            self._model.select_segment(self._silences[int(self.silence_model.order[current.row()])].after)

    def _packet_chosen(self, current: QModelIndex, _previous: QModelIndex) -> None:
        if current.isValid():
            self._model.select_segment(int(self.packet_model.order[current.row()]))
