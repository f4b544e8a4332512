"""Below the tree of Apportion: the selected waits over time, by hour of the day, by length, and those that paid
most.
"""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QBrush, QColor
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QTabWidget, QVBoxLayout, QWidget

from yaffle.arrays import Array, Float64s, Float64s2, Int64s2
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, ColumnTable, TableView
from yaffle.desktop.shared.ledger_bar import BAR_ROLE, Bounds, LedgerDelegate, bar_of, bar_words
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.ledger import causes
from yaffle.ledger.bounds import BOUNDED
from yaffle.session.apportion import ApportionPicture
from yaffle.session.evidence import Evidence
from yaffle.session.services import kind_name
from yaffle.units import count, duration, moment, rate, share

BINS = 180
_ANY = "any cause"


def _rgb(color: QColor) -> tuple[int, int, int]:
    return color.red(), color.green(), color.blue()


def cause_brushes(column: int) -> list[QBrush]:
    """Fill of a cause: its party's color, lighter from one cause to the next, and the party's mark."""
    party = causes.CHARGES[column][0]
    look = theme.current()
    columns = causes.party_columns(party)
    place = columns.index(column)
    if party == causes.NETWORK:  # Loss and queues are what hurts: the fullest color is theirs.
        place = len([c for c in columns if c <= causes.LOSS]) - 1 - place if column <= causes.LOSS else len(columns) - 1
    fills = look.brushes(party)
    color = QColor(fills[0].color())
    lighter = min(0.6, 0.16 * place)
    panel = QColor(look.panel)
    mixed = QColor(*(round(a + (b - a) * lighter) for a, b in zip(_rgb(color), _rgb(panel), strict=True)))
    return [QBrush(mixed, fills[0].style()), *fills[1:]]


def _clear(plot: Plot) -> None:
    for item in list(plot.getPlotItem().items):
        if isinstance(item, (pg.BarGraphItem, pg.PlotDataItem)):
            plot.removeItem(item)


def _stack(plot: Plot, starts: Float64s, width: float, heights: Float64s2) -> float:
    """Draws columns of causes upon each other; returns the greatest height."""
    base = np.zeros(starts.size)
    for party in causes.PARTIES:
        for column in causes.party_columns(party):
            height = heights[:, column]
            for brush in cause_brushes(column) if height.any() else []:
                plot.addItem(
                    pg.BarGraphItem(
                        x0=starts, width=width * 0.92, y0=base, height=height, brush=brush, pen=pg.mkPen(None)
                    )
                )
            base = base + height
    return float(base.max()) if base.size else 0.0


def _inferred(protocol: str) -> str:
    """What stands for requests that nothing names."""
    return f"{'encrypted: ' if protocol == 'tls' else ''}inferred from direction changes"


class _ExchangeTable(ColumnTable):
    """Adds the ledger bar to the last column."""

    charges: Int64s2 = np.empty((0, causes.COUNT), np.int64)
    bounds: Int64s2 = np.empty((0, 2 * len(BOUNDED)), np.int64)
    full_ns = 1.0

    def _bounds(self, row: int) -> Bounds | None:
        return Bounds(self.bounds[row, ::2], self.bounds[row, 1::2]) if row < len(self.bounds) else None

    def data(self, index, role=Qt.ItemDataRole.DisplayRole):  # type: ignore[no-untyped-def]
        if role == BAR_ROLE:
            last = index.column() == self.columnCount() - 1
            row = int(self.order[index.row()]) if last else 0
            return bar_of(self.charges[row], self.full_ns, self._bounds(row)) if last else None
        if role == Qt.ItemDataRole.ToolTipRole and index.column() == self.columnCount() - 1:
            row = int(self.order[index.row()])
            return bar_words(self.charges[row], self._bounds(row))
        return super().data(index, role)


class WaitPlots(QTabWidget):
    """Shows a picture; tells which cause is asked after, and which exchange to look at."""

    cause_chosen = Signal()
    exchange_wanted = Signal(int, object)  # connection, moment in ns (more than a C integer holds)
    narrowed = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setDocumentMode(True)
        self._picture: ApportionPicture | None = None
        self._evidence: Evidence | None = None
        self._stale: set[int] = set()  # pages that are not of this picture yet
        self._sums = np.zeros(causes.COUNT)
        self.currentChanged.connect(lambda _: self._freshen())
        self.waits, self.volume = Plot("concurrent waits", "waits"), Plot("volume", "bit/s")
        self.waits.setToolTip("Concurrent waits by party and cause. Wheel zooms, R resets.")
        self.volume.setToolTip("Volume of these connections (line) and of everything else at the same time (filled)")
        self.volume.setXLink(self.waits)
        for plot in (self.waits, self.volume):
            plot.read_with(self._read)
            plot.share_cursor([self.waits, self.volume])
        time = Panes("apportion wait plots: time", Qt.Orientation.Vertical)
        time.arrange([self.waits, self.volume], [150, 80])
        self.key = QLabel()
        self.key.setObjectName("faint")
        self.key.setWordWrap(True)
        over = QWidget()
        under = QVBoxLayout(over)
        under.setContentsMargins(0, 2, 0, 0)
        under.addWidget(self.key)
        under.addWidget(time, 1)
        self.hours = Plot("mean wait, stacked by party and cause", "s")
        self.hours.getPlotItem().getAxis("bottom").setStyle(showValues=True)
        self.hours.getPlotItem().setAxisItems({"bottom": pg.AxisItem("bottom")})
        self.hours.setLabel("bottom", "hour of the day")
        self.hours.read_with(self._read_hour)
        self.lengths = Plot("wait of an exchange, logarithmic")
        self.lengths.values.set_unit("s")
        self.lengths.getPlotItem().setAxisItems({"bottom": pg.AxisItem("bottom")})
        self.lengths.getPlotItem().getAxis("bottom").enableAutoSIPrefix(False)
        self.lengths.setLabel("bottom", "cumulative share of exchanges (%)")
        self.lengths.getPlotItem().setLogMode(y=True)
        self.lengths.read_with(self._read_length)
        self.cause = QComboBox()
        self.cause.addItem(_ANY)
        self.cause.setToolTip("List the exchanges with the largest delay by this cause")
        self.cause.activated.connect(lambda _: self.cause_chosen.emit())
        self.model = _ExchangeTable(self)
        self.table = TableView("Slowest exchanges")
        self.table.setModel(self.model)
        self.table.entered.connect(self._enter)
        self.table.narrowed.connect(self.narrowed)
        self.table.setToolTip("Enter opens the connection here")
        dear = QWidget()
        column = QVBoxLayout(dear)
        column.setContentsMargins(0, 2, 0, 0)
        row = QHBoxLayout()
        row.addWidget(QLabel("contribution to"))
        row.addWidget(self.cause)
        row.addStretch(1)
        column.addLayout(row)
        column.addWidget(self.table)
        self.asked_model = _ExchangeTable(self)
        self.asked = TableView("Requests, longest total wait first")
        self.asked.setModel(self.asked_model)
        self.asked.setToolTip("Exchanges with the same request, literals left out")
        for part, name in (
            (over, "over time"),
            (self.hours, "by hour of day"),
            (self.lengths, "distribution"),
            (dear, "slowest exchanges"),
            (self.asked, "requests"),
        ):
            self.addTab(part, name)

    def columns(self) -> list[int] | None:
        """Charge columns of the chosen cause; None for all."""
        place = self.cause.currentData()
        return None if place is None else [int(place)]

    def choose_cause(self, column: int | None) -> None:
        """Asks after one cause."""
        place = self.cause.findData(column) if column is not None else 0
        if place < 0:
            self.cause.addItem(causes.charge_name(int(column or 0)), column)
            place = self.cause.count() - 1
        self.cause.setCurrentIndex(place)
        self.setCurrentIndex(3)
        self.cause_chosen.emit()

    def show_picture(self, evidence: Evidence | None, picture: ApportionPicture | None) -> None:
        """Draws other waits."""
        self._evidence, self._picture = evidence, picture
        self._stale = set()
        for plot in (self.waits, self.volume, self.hours, self.lengths):
            _clear(plot)
        if evidence is None or picture is None:
            self.key.setText("")
            self.model.show_columns([], 0)
            self.asked_model.show_columns([], 0)
            return
        first = int(picture.edges_ns[0])
        width_s = float(picture.edges_ns[1] - first) / 1e9
        starts = (picture.edges_ns[:-1] - first) / 1e9
        top = _stack(self.waits, starts, width_s, picture.charges / 1e9 / width_s)
        look = theme.current()
        fill = QColor(look.faint)
        fill.setAlpha(70)
        seconds = (picture.edges_ns - first) / 1e9
        self.volume.plot(
            seconds, picture.rest_bps, stepMode="center", fillLevel=0, brush=pg.mkBrush(fill), pen=pg.mkPen(None)
        )
        self.volume.plot(seconds, picture.own_bps, stepMode="center", pen=pg.mkPen(look.moss, width=1.4))
        own, rest = picture.volumes
        self.volume.set_keys(Key(own, look.moss), Key(rest, look.faint, Mark.AREA))
        for plot in (self.waits, self.volume):
            plot.axis.base_ns = first
            plot.axis.picture = None
        self.waits.setXRange(0, float(seconds[-1]), padding=0)
        self.waits.setYRange(0, max(0.001, top) * 1.05, padding=0)
        self.volume.setYRange(0, max(1.0, float(max(picture.rest_bps.max(), picture.own_bps.max()))) * 1.05, padding=0)
        sums = picture.charges.sum(axis=0)
        total = max(1.0, float(sums.sum()))
        named = [
            f"{causes.charge_name(k)} {duration(int(sums[k]))} ({share(sums[k] / total)})"
            for k in np.argsort(-sums)[:5]
            if sums[k] > 0
        ]
        self.key.setText(f"in intervals of {duration(round(width_s * 1e9))}: " + ";  ".join(named))
        self.waits.set_keys(
            *(
                Key(causes.charge_name(k), look.party(causes.CHARGES[k][0]).name(), Mark.AREA, tuple(cause_brushes(k)))
                for k in np.argsort(-sums)[:5].tolist()
                if sums[k] > 0
            )
        )
        self._sums = sums
        self._stale = {1, 2, 3, 4}
        self._freshen()

    def _freshen(self) -> None:
        """Draws the page that is seen, if it is not of this picture yet."""
        page, picture, evidence = self.currentIndex(), self._picture, self._evidence
        if page not in self._stale or picture is None or evidence is None:
            return
        self._stale.discard(page)
        if page == 1:
            self._show_hours(picture)
        elif page == 2:
            self._show_lengths(picture)
        elif page == 3:
            self._show_dearest(evidence, picture, self._sums)
        else:
            self._show_asked(picture)

    def _show_hours(self, picture: ApportionPicture) -> None:
        counts = np.maximum(1, picture.hour_counts)[:, None]
        top = _stack(self.hours, np.arange(24).astype(float), 1.0, picture.hours / counts / 1e9)
        self.hours.setXRange(0, 24, padding=0.01)
        self.hours.setYRange(0, max(1e-6, top) * 1.05, padding=0)

    def _show_lengths(self, picture: ApportionPicture) -> None:
        look = theme.current()
        least = 1000  # A microsecond stands for nothing at all.
        for values, pen in (
            (picture.all_quantiles_ns, pg.mkPen(look.faint, style=Qt.PenStyle.DashLine)),
            (picture.quantiles_ns, pg.mkPen(look.moss, width=2)),
        ):
            if values.size and values.size == picture.shares.size:
                self.lengths.plot(picture.shares * 100, np.maximum(values, least) / 1e9, pen=pen)
        self.lengths.set_keys(Key("selected", look.moss), Key("all waits in focus", look.faint, Mark.DASHED))
        self.lengths.fit()

    def _show_dearest(self, evidence: Evidence, picture: ApportionPicture, sums: Array) -> None:
        chosen = self.cause.currentData()
        self.cause.blockSignals(True)
        self.cause.clear()
        self.cause.addItem(_ANY)
        for k in np.argsort(-sums).tolist():
            if sums[k] > 0 or k == chosen:
                self.cause.addItem(causes.charge_name(k), k)
        self.cause.setCurrentIndex(max(0, self.cause.findData(chosen)) if chosen is not None else 0)
        self.cause.blockSignals(False)
        rows, waits, places = picture.dearest, evidence.waits, evidence.places
        owner = waits.connection[rows]
        columns = self.columns()
        paid = waits.wait_ns[rows] if columns is None else waits.charges[rows][:, columns].sum(axis=1)
        self.model.charges, self.model.bounds = (
            waits.charges[rows],
            self._evidence.bounds[rows] if self._evidence is not None else np.empty((0, 6), np.int64),
        )
        self.model.full_ns = float(waits.wait_ns[rows].max()) if rows.size else 1.0
        client = [evidence.client.texts[k] for k in evidence.client.codes[owner]]
        server = [evidence.server.texts[k] for k in evidence.server.codes[owner]]
        application = [evidence.application.texts[k] for k in evidence.application.codes[owner]]
        messages, message = evidence.analysis.messages, evidence.messages_of(rows).tolist()
        asked = [evidence.labels[m] if m >= 0 else "" for m in message]
        answered = evidence.answered(rows).tolist()
        outcome = [messages.outcome_of(m, a) if m >= 0 else "" for m, a in zip(message, answered, strict=True)]
        protocol = [messages.protocol.get(c, "tcp") for c in owner.tolist()]
        self.model.show_columns(
            [
                Column("began", lambda r: moment(int(waits.first_ns[rows[r]])), waits.first_ns[rows]),
                Column(
                    "client",
                    lambda r: places.short(client[r]),
                    client,
                    figures=False,
                    sql="client",
                    value=lambda r: client[r],
                ),
                Column("application", lambda r: application[r], application, figures=False, sql="application"),
                Column(
                    "server",
                    lambda r: places.short(server[r]),
                    server,
                    figures=False,
                    sql="server",
                    value=lambda r: server[r],
                ),
                Column(
                    "request",
                    lambda r: asked[r] or kind_name(protocol[r]),
                    asked,
                    figures=False,
                    sql="label",
                    value=lambda r: asked[r],
                ),
                Column("outcome", lambda r: outcome[r], outcome, figures=False, sql="outcome"),
                Column("delay", lambda r: duration(int(paid[r])), paid, meaning="by the chosen cause"),
                Column(
                    "wait",
                    lambda r: duration(int(waits.wait_ns[rows[r]])),
                    waits.wait_ns[rows],
                    sql="wait_ms",
                    value=lambda r: float(waits.wait_ns[rows[r]]) / 1e6,
                ),
                Column("client, network, server", lambda r: "", figures=False),
            ],
            rows.size,
        )
        self.table.setItemDelegateForColumn(8, LedgerDelegate(self.table))
        self.table.fit.fit({8: 150}, 8)

    def _show_asked(self, picture: ApportionPicture) -> None:
        found, red = picture.asked, theme.current().red
        self.asked_model.charges = np.array([a.charges for a in found], np.int64).reshape(-1, causes.COUNT)
        self.asked_model.full_ns = float(max((int(a.charges.sum()) for a in found), default=1))
        self.asked_model.show_columns(
            [
                Column(
                    "request",
                    lambda r: found[r].label or _inferred(found[r].protocol),
                    [a.label for a in found],
                    figures=False,
                ),
                Column(
                    "protocol",
                    lambda r: kind_name(found[r].protocol),
                    [a.protocol for a in found],
                    figures=False,
                    sql="protocol",
                    value=lambda r: found[r].protocol,
                ),
                Column("exchanges", lambda r: count(found[r].exchanges), [a.exchanges for a in found]),
                Column(
                    "errors",
                    lambda r: count(found[r].failures),
                    [a.failures for a in found],
                    color=lambda r: red if found[r].failures else None,
                ),
                Column("median", lambda r: duration(found[r].median_ns), [a.median_ns for a in found]),
                Column("p95", lambda r: duration(found[r].p95_ns), [a.p95_ns for a in found]),
                Column("wait", lambda r: duration(int(found[r].charges.sum())), [int(a.charges.sum()) for a in found]),
                Column("client, network, server", lambda r: "", figures=False),
            ],
            len(found),
        )
        self.asked.setItemDelegateForColumn(7, LedgerDelegate(self.asked))
        self.asked.fit.fit({7: 150}, 7)

    def _enter(self, row: int) -> None:
        if self._evidence is not None and self._picture is not None:
            wait = int(self._picture.dearest[row])
            self.exchange_wanted.emit(
                int(self._evidence.waits.connection[wait]), int(self._evidence.waits.first_ns[wait])
            )

    def _read(self, x: float, _y: float) -> str:
        picture = self._picture
        if picture is None:
            return ""
        k = int(np.searchsorted(picture.edges_ns, picture.edges_ns[0] + x * 1e9, "right")) - 1
        if not 0 <= k < picture.charges.shape[0]:
            return ""
        parts = ", ".join(
            f"{causes.charge_name(c)} {duration(int(picture.charges[k, c]))}"
            for c in np.argsort(-picture.charges[k])[:4]
            if picture.charges[k, c]
        )
        volume = f"volume {rate(float(picture.own_bps[k]))}, of the rest {rate(float(picture.rest_bps[k]))}"
        return f" {moment(int(picture.edges_ns[k]))}  {parts or 'no waits'};  {volume} "

    def _read_hour(self, x: float, _y: float) -> str:
        picture = self._picture
        if picture is None or not 0 <= int(x) < 24:
            return ""
        number = int(picture.hour_counts[int(x)])
        mean = int(picture.hours[int(x)].sum() / max(1, number))
        return (
            f" {int(x):02d}:00 to {int(x):02d}:59  {count(number)} exchanges, mean wait"
            f" {duration(mean) if number else '–'} "
        )

    def _read_length(self, x: float, _y: float) -> str:
        picture = self._picture
        if picture is None or not picture.shares.size:
            return ""
        k = int(np.clip(np.searchsorted(picture.shares, x / 100), 0, picture.shares.size - 1))
        return f" {100 * picture.shares[k]:.1f} % wait no longer than {duration(int(picture.quantiles_ns[k]))} "

    def dress(self) -> None:
        """Takes the colors of the theme."""
        for plot in (self.waits, self.volume, self.hours, self.lengths):
            plot.dress()
        self.show_picture(self._evidence, self._picture)
