"""Classes of service: load, loss and delay by marking on a segment, markings against the user's rules, a split of the
line.
"""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFontDatabase, QGuiApplication
from PySide6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from yaffle.capture.registry import marking
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.dialog_parts import wrong_label
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.findings.planner import tc_script
from yaffle.session.classes_view import ClassPicture, ClassSettings
from yaffle.units import count, duration, moment, rate, share, size

_DRAWN = 400  # Intervals of the plot.
_STYLES = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine, Qt.PenStyle.DashDotLine)
_MARKS = (Mark.LINE, Mark.DASHED, Mark.DOTTED, Mark.DASHED)
_NOTHING = (
    "Classes are told of a segment between two capture points: open captures of the same packets at both of its ends"
    " together (Ctrl+O, choose several)."
)


class ClassesPage(QWidget):
    """`wanted`: another direction; `rules_wanted`: the user's rules; `line_told` carries a rate in bit/s, `entered`
    the connection and the moment of a violation.
    """

    wanted = Signal()
    rules_wanted = Signal()
    line_told = Signal(float)
    entered = Signal(int, object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.picture: ClassPicture | None = None
        self.way, self.line, self.device = QComboBox(), QDoubleSpinBox(), QLineEdit("eth0")
        self.way.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.way.activated.connect(lambda _: self.wanted.emit())
        self.line.setRange(0, 1_000_000)
        self.line.setDecimals(3)
        self.line.setSuffix(" Mbit/s")
        self.line.setSpecialValueText("busiest second")
        self.line.setToolTip("The link rate to divide; without it the busiest second of the load is used")
        self.line.setKeyboardTracking(False)
        self.line.valueChanged.connect(lambda mbps: self.line_told.emit(mbps * 1e6))
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.table = Listing("Classes of service")
        self.plot = Plot("load", "bit/s")
        self.plot.read_with(self._words_at)
        self.right = QTabWidget()
        self.right.setDocumentMode(True)
        self.right.addTab(self._planned(), "bandwidth allocation")
        self.right.addTab(self._expected(), "expected DSCP")
        row = QHBoxLayout()
        for part in (QLabel("segment"), self.way, QLabel("link rate"), self.line):
            row.addWidget(part)
        row.addStretch(1)
        lower = Panes("path classes page: lower", Qt.Orientation.Horizontal)
        lower.arrange([self.plot, self.right], [330, 580])
        body = Panes("path classes page: body", Qt.Orientation.Vertical)
        body.arrange([self.table, lower], [130, 420])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(row)
        column.addWidget(self.words)
        column.addWidget(body, 1)
        self.show_picture(None)

    def _planned(self) -> QWidget:
        self.shares = Listing("Shares of the link")
        self.plan_words = QLabel()
        self.plan_words.setObjectName("faint")
        self.plan_words.setWordWrap(True)
        self.script = QPlainTextEdit()
        self.script.setReadOnly(True)
        self.script.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.script.setFont(QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont))
        self.script.setToolTip("To be read, and run by you where you see fit: nothing here applies it")
        self.device.setMaximumWidth(110)
        self.device.textChanged.connect(lambda _: self._write_script())
        copy = QPushButton("Copy")
        copy.clicked.connect(lambda: QGuiApplication.clipboard().setText(self.script.toPlainText()))
        self.wrong = wrong_label()
        row = QHBoxLayout()
        row.addWidget(QLabel("tc script for"))
        row.addWidget(self.device)
        row.addWidget(copy)
        row.addStretch(1)
        whole = QWidget()
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.plan_words)
        column.addWidget(self.shares, 2)
        column.addLayout(row)
        column.addWidget(self.wrong)
        column.addWidget(self.script, 3)
        return whole

    def _expected(self) -> QWidget:
        self.violations = Listing("Packets without the expected DSCP")
        self.violations.setToolTip("Enter shows a connection at that moment")
        self.violations.entered.connect(self._enter)
        self.rule_words = QLabel()
        self.rule_words.setObjectName("faint")
        self.rule_words.setWordWrap(True)
        rules = QPushButton("Rules…")
        rules.setToolTip("The DSCP each application should carry")
        rules.clicked.connect(self.rules_wanted.emit)
        whole = QWidget()
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.rule_words)
        row = QHBoxLayout()
        row.addWidget(rules)
        row.addStretch(1)
        column.addLayout(row)
        column.addWidget(self.violations, 1)
        return whole

    @property
    def settings(self) -> ClassSettings:
        """What is chosen."""
        return ClassSettings(max(0, self.way.currentIndex()), self.line.value() * 1e6)

    def set_line(self, bps: float) -> None:
        """The rate that is kept with the case."""
        self.line.blockSignals(True)
        self.line.setValue(bps / 1e6)
        self.line.blockSignals(False)

    def show_picture(self, picture: ClassPicture | None, rules: int = 0) -> None:
        """Shows another picture. rules: how many the user keeps."""
        self.picture = picture
        ways = picture.ways if picture is not None else []
        if ways != [self.way.itemText(k) for k in range(self.way.count())]:
            self.way.clear()
            self.way.addItems(ways)
        if picture is not None and ways:
            self.way.setCurrentIndex(picture.way)
        loads = picture.loads if picture is not None else None
        self.table.setVisible(loads is not None)
        self.plot.setVisible(loads is not None)
        if loads is not None and not self.right.isTabVisible(0):
            self.right.setTabVisible(0, True)
            self.right.setCurrentIndex(0)
        elif loads is None:
            self.right.setTabVisible(0, False)
        classes = loads.classes if loads is not None else []
        lost = sum(one.lost for one in classes)
        self.words.setText(
            f"{count(len(classes))} {'class' if len(classes) == 1 else 'classes'},"
            f" {size(sum(one.octets for one in classes))}, {count(lost)} packets lost"
            if loads is not None and classes
            else _NOTHING
        )
        red = theme.current().red
        self.table.show_columns(
            [
                Column(
                    "class",
                    lambda r: classes[r].name,
                    [one.dscp for one in classes],
                    figures=False,
                    meaning="differentiated services code point (RFC 2474)",
                ),
                Column("packets", lambda r: count(classes[r].packets), [one.packets for one in classes]),
                Column("mean load", lambda r: rate(classes[r].mean_bps), [one.mean_bps for one in classes]),
                Column("busiest second", lambda r: rate(classes[r].peak_bps), [one.peak_bps for one in classes]),
                Column(
                    "lost",
                    lambda r: (
                        f"{count(classes[r].lost)} ({share(classes[r].share_lost)})" if classes[r].lost else "none"
                    ),
                    [one.lost for one in classes],
                    color=lambda r: red if classes[r].lost else None,
                ),
                Column(
                    "median delay",
                    lambda r: duration(classes[r].median_ns),
                    [np.nan_to_num(one.median_ns) for one in classes],
                ),
                Column(
                    "p95 delay", lambda r: duration(classes[r].p95_ns), [np.nan_to_num(one.p95_ns) for one in classes]
                ),
            ],
            len(classes),
            ((0, 130), (1, 90), (2, 110), (3, 120), (4, 120), (5, 110)),
            wide=0,
        )
        self._draw()
        self._fill_plan()
        self._fill_violations(rules)

    def _curves(self) -> tuple[np.ndarray, list[np.ndarray]]:
        loads = self.picture.loads if self.picture is not None else None
        if loads is None or not loads.classes:
            return np.zeros(0), []
        whole = loads.classes[0].bits.size
        each = max(1, -(-whole // _DRAWN))
        starts = np.arange(0, whole, each)
        width_s = each * loads.bin_ns / 1e9
        return (starts + each / 2) * loads.bin_ns / 1e9, [
            np.add.reduceat(one.bits, starts) / width_s for one in loads.classes
        ]

    def _draw(self) -> None:
        item, look = self.plot.getPlotItem(), theme.current()
        item.clear()
        seconds, curves = self._curves()
        picture = self.picture
        if picture is None or picture.loads is None or not curves:
            return
        colors = (look.moss, look.ink, look.network, look.server, look.client)
        keys: list[Key] = []
        for k, (one, curve) in enumerate(zip(picture.loads.classes[:8], curves, strict=False)):
            self.plot.plot(
                seconds, curve, pen=pg.mkPen(colors[k % len(colors)], width=1.4, style=_STYLES[k % len(_STYLES)])
            )
            keys.append(Key(one.name, colors[k % len(colors)], _MARKS[k % len(_MARKS)]))
        self.plot.set_keys(*keys)
        self.plot.axis.base_ns = picture.loads.first_ns
        self.plot.axis.picture = None
        self.plot.setXRange(0, float(seconds[-1]) * 1.005, padding=0)
        self.plot.setYRange(0, max(float(curve.max()) for curve in curves) * 1.1 or 1.0, padding=0)

    def _words_at(self, x: float, _y: float) -> str:
        seconds, curves = self._curves()
        picture = self.picture
        if picture is None or picture.loads is None or not curves:
            return ""
        k = int(np.abs(seconds - x).argmin())
        told = ", ".join(
            f"{one.name} {rate(curve[k])}" for one, curve in zip(picture.loads.classes[:4], curves, strict=False)
        )
        return f" {moment(picture.loads.first_ns + int(seconds[k] * 1e9), digits=0)}  {told} "

    def _fill_plan(self) -> None:
        made = self.picture.plan if self.picture is not None else None
        shares = made.shares if made is not None else []
        if made is not None and self.picture is not None:
            of = f"a link of {rate(made.line_bps)}" + (
                "" if self.picture.line_told else " (the busiest second: set the link rate above)"
            )
            fits = (
                "all requirements fit"
                if made.fits
                else (
                    f"all classes together require {rate(made.needed_bps)}, more than that: default class is reduced"
                    " first"
                )
            )
            self.plan_words.setText(
                f"Of {of}; {fits}. Waits are previewed from the measured load: once as one queue, once as planned."
            )
        self.shares.show_columns(
            [
                Column(
                    "class",
                    lambda r: shares[r].name + (", first" if shares[r].first else ""),
                    figures=False,
                    meaning="“first” goes before all others, up to its rate",
                ),
                Column(
                    "required",
                    lambda r: rate(shares[r].needed_bps),
                    [one.needed_bps for one in shares],
                    meaning="in 95 of 100 seconds that have any of it",
                ),
                Column("allocated", lambda r: rate(shares[r].rate_bps), [one.rate_bps for one in shares]),
                Column(
                    "share of link",
                    lambda r: share(shares[r].rate_bps / made.line_bps) if made else "",
                    [one.rate_bps for one in shares],
                ),
                Column(
                    "p95, one queue",
                    lambda r: duration(shares[r].wait_now_ns),
                    [one.wait_now_ns for one in shares],
                    meaning="queuing delay, p95 of bits, all classes in one queue",
                ),
                Column(
                    "p95, planned",
                    lambda r: duration(shares[r].wait_planned_ns),
                    [one.wait_planned_ns for one in shares],
                    meaning="queuing delay, p95 of bits, with the rates planned",
                ),
            ],
            len(shares),
            ((0, 110), (1, 84), (2, 84), (3, 80), (4, 84), (5, 122)),
            wide=-1,
        )
        self._write_script()

    def _write_script(self) -> None:
        made = self.picture.plan if self.picture is not None else None
        self.wrong.setText("")
        self.wrong.hide()
        if made is None:
            self.script.setPlainText("")
            return
        try:
            self.script.setPlainText(tc_script(made, self.device.text().strip()))
        except ValueError as error:
            self.wrong.setText(str(error))
            self.wrong.show()
            self.script.setPlainText("")

    def _fill_violations(self, rules: int) -> None:
        found = self.picture.violations if self.picture is not None else []
        if not rules:
            self.rule_words.setText(
                "No rule is kept yet: say which marking an application should bear (voice should bear EF, RFC 4594),"
                " and what violates it stands here and among the findings."
            )
        else:
            kept = f"{count(rules)} rule{'s' if rules != 1 else ''} kept"
            self.rule_words.setText(
                f"{kept}; violated in {count(len(found))} place{'s' if len(found) != 1 else ''}."
                if found
                else f"{kept}, and nothing here violates {'them' if rules != 1 else 'it'}."
            )
        red = theme.current().red
        self.violations.show_columns(
            [
                Column(
                    "application",
                    lambda r: found[r].rule.application,
                    [one.rule.application for one in found],
                    figures=False,
                ),
                Column("expected", lambda r: found[r].rule.marking, figures=False),
                Column("observed", lambda r: marking(found[r].seen), [one.seen for one in found], figures=False),
                Column(
                    "how many",
                    lambda r: f"{count(found[r].number)} of {count(found[r].of)} {found[r].unit}",
                    [one.number for one in found],
                ),
                Column(
                    "where",
                    lambda r: ("lost " if found[r].lost else "never set ") + found[r].place,
                    [one.place for one in found],
                    figures=False,
                    color=lambda r: red if found[r].lost else None,
                ),
            ],
            len(found),
            ((0, 100), (1, 66), (2, 86), (3, 150)),
            wide=4,
        )

    def _enter(self, row: int) -> None:
        found = self.picture.violations if self.picture is not None else []
        if row < len(found) and found[row].connections:
            self.entered.emit(found[row].connections[0], found[row].first_ns)

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.plot.dress()
        self._draw()
