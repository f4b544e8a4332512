"""The lanes of a visit: each connection's exchanges as ledger bars on one time axis, the chain that decided it
marked.
"""

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.lanes import ROW, Lanes
from yaffle.desktop.shared.ledger_bar import bar_of, bar_words, paint_bar
from yaffle.session.visit import Step, Visit
from yaffle.units import duration


class VisitLanes(Lanes):
    """A heading a lane, a bar a step."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._visit: Visit | None = None
        self.setAccessibleName("Lanes of the visit: exchanges of each connection over time")

    def show_visit(self, visit: Visit | None) -> None:
        """Shows another visit."""
        self._visit = visit
        rows: list[str | int] = []
        lane = -1
        for k, step in enumerate(visit.steps if visit is not None else ()):
            if visit is not None and step.lane != lane:
                lane = step.lane
                rows.append(visit.lanes[lane])
            rows.append(k)
        self.show_rows(rows, visit.first_ns if visit is not None else 0, visit.span_ns if visit is not None else 1)
        if visit is not None and visit.to_mend:
            self.select(visit.to_mend[0])

    def paint_row(self, painter: QPainter, bar: int, top: int) -> None:
        assert self._visit is not None
        look, step = theme.current(), self._visit.steps[bar]
        if bar in self._visit.chain:
            painter.fillRect(QRectF(0, top + 2, 4, ROW - 4), QColor(look.moss))
        painter.setPen(QColor(look.ink))
        text = painter.fontMetrics().elidedText(step.label, Qt.TextElideMode.ElideMiddle, self.names_px - 26)
        painter.drawText(QRectF(16, top, self.names_px - 22, ROW), Qt.AlignmentFlag.AlignVCenter, text)
        left, right = self.x_of(step.first_ns), self.x_of(step.last_ns)
        if step.charges.any():
            place = QRectF(left, top + 4, max(2.0, right - left), ROW - 8)
            paint_bar(painter, place, bar_of(step.charges, float(step.charges.sum())))
        words = duration(step.span_ns) + (f"  {step.outcome}" if step.outcome not in ("", "answered") else "")
        painter.setPen(QColor(look.ink))
        at = max(right, left + 2) + 6
        painter.drawText(QPointF(at, top + ROW - 6), words)
        if bar in self._visit.to_mend:
            painter.setPen(QColor(look.red))
            saving, measure = f"potential saving {duration(step.saved_ns)}", painter.fontMetrics().horizontalAdvance
            at += measure(words) + 10
            if at + measure(saving) > self.viewport().width() - 4:  # Else before the bar.
                at = max(self.names_px + 4.0, left - measure(saving) - 8)
                painter.fillRect(QRectF(at - 3, top + 3, measure(saving) + 6, ROW - 6), QColor(look.panel))
            painter.drawText(QPointF(at, top + ROW - 6), saving)

    def paint_links(self, painter: QPainter) -> None:
        """What let each step of the chain begin, as a line from the one to the other."""
        assert self._visit is not None
        painter.setPen(QPen(QColor(theme.current().moss), 1.6))
        for one, two in zip(self._visit.chain, self._visit.chain[1:], strict=False):
            x = self.x_of(self._visit.steps[two].first_ns)
            painter.drawLine(QPointF(x, self.middle_of(one)), QPointF(x, self.middle_of(two)))

    def words_of(self, bar: int) -> str:
        assert self._visit is not None
        return step_words(self._visit.steps[bar])


def step_words(step: Step) -> str:
    """A step in words."""
    lines = [f"{step.label}  {step.outcome}".strip(), bar_words(step.charges)]
    if step.saved_ns > 0:
        lines.append(f"fixing this alone saves {duration(step.saved_ns)}")
    return "\n".join(lines)
