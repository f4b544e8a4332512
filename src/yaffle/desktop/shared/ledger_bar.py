"""The ledger bar: one horizontal bar, wait to scale, cut into charges. The same in tables, on the trail, everywhere."""

import itertools
from dataclasses import dataclass

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from yaffle.arrays import Array
from yaffle.desktop.shared import theme
from yaffle.ledger import causes
from yaffle.ledger.bounds import BOUNDED
from yaffle.units import duration

BAR_ROLE = Qt.ItemDataRole.UserRole + 1  # a Bar
_LEAST_SEAM = 1.5  # Pixels; narrower ones would only blur the edge.

_ORDER = (causes.CLIENT, causes.NETWORK, causes.SERVER, causes.UNEXPLAINED)


@dataclass(frozen=True)
class Bounds:
    """Between what the parts of the parties of ledger.bounds.BOUNDED lie, ns."""

    low_ns: Array
    high_ns: Array

    def of(self, party: str) -> tuple[float, float]:
        """(least, most) of a party's part."""
        k = BOUNDED.index(party)
        return float(self.low_ns[k]), float(self.high_ns[k])


def _seams(charges: Array, bounds: Bounds) -> list[tuple[float, float, str, str]]:
    """Stretches of the bar, ns from its left, that could belong to either of two neighbors."""
    found, at = [], 0.0
    parts = [(party, float(charges[causes.party_columns(party)].sum())) for party in BOUNDED]
    for (one, own), (other, next_) in itertools.pairwise(parts):
        at += own
        (low, high), (other_low, other_high) = bounds.of(one), bounds.of(other)
        before, behind = min(own - low, other_high - next_), min(next_ - other_low, high - own)
        if before > 0 or behind > 0:
            found.append((at - max(0.0, before), at + max(0.0, behind), one, other))
    return found


@dataclass(frozen=True)
class Bar:
    """What is painted: worked out once from the charges, painted many times."""

    total_ns: float
    full_ns: float  # the wait that fills the whole width
    parts: tuple[tuple[str, float], ...]  # (party, ns), from left to right
    seams: tuple[tuple[float, float, str, str], ...]


def bar_of(charges: Array, full_ns: float, bounds: Bounds | None = None) -> Bar:
    """The bar of charges (ns by column), where full_ns fills the width."""
    parts = [(party, float(charges[causes.party_columns(party)].sum())) for party in _ORDER]
    seams = _seams(charges, bounds) if bounds is not None else []
    return Bar(float(charges.sum()), full_ns, tuple(part for part in parts if part[1] > 0), tuple(seams))


def paint_bar(painter: QPainter, rect: QRectF, bar: Bar) -> None:
    """Draws a bar into a rectangle.

    What the evidence leaves to either of two neighbors bears the marks of both, one above the other.
    """
    look, total = theme.current(), bar.total_ns
    if total <= 0 or bar.full_ns <= 0:
        return
    width = max(2.0, rect.width() * min(1.0, total / bar.full_ns))
    x = rect.left()
    painter.save()
    for party, part in bar.parts:
        piece = QRectF(x, rect.top(), width * part / total, rect.height())
        for brush in look.brushes(party):
            painter.fillRect(piece, brush)
        if party == causes.UNEXPLAINED:
            painter.setPen(QPen(look.party(party), 1))
            painter.drawRect(piece.adjusted(0.5, 0.5, -0.5, -0.5))
        x += piece.width()
    for start, end, one, other in bar.seams:
        left, right = rect.left() + width * start / total, rect.left() + width * min(end, total) / total
        if right - left < _LEAST_SEAM:
            continue
        half = rect.height() / 2
        for place, party in enumerate((one, other)):
            for brush in look.brushes(party):
                painter.fillRect(QRectF(left, rect.top() + place * half, right - left, half), brush)
    painter.setPen(QPen(QColor(look.ink), 0.6))
    painter.drawLine(int(rect.left()), int(rect.bottom()), int(rect.left() + width), int(rect.bottom()))
    painter.restore()


def bound_words(charges: Array, bounds: Bounds, least_share: float = 0.01) -> list[str]:
    """How far apart the bounds of each party are, where that is more than a share of the whole: "server 24 ms to 31
    ms".
    """
    total = float(charges.sum())
    found = []
    for party in BOUNDED:
        low, high = bounds.of(party)
        if high - low > least_share * total:
            found.append(f"{party} {duration(low)} to {duration(high)}")
    return found


def bar_words(charges: Array, bounds: Bounds | None = None) -> str:
    """What a bar says, for a tool tip and for those who do not see it."""
    lines = [f"{duration(int(charges.sum()))} total wait"]
    named = sorted(((int(charges[k]), causes.charge_name(k)) for k in range(causes.COUNT) if charges[k]), reverse=True)
    lines += [f"{name}: {duration(ns)}" for ns, name in named]
    if bounds is not None and (between := bound_words(charges, bounds)):
        lines += ["The evidence allows:", *between]
    return "\n".join(lines)


class LedgerDelegate(QStyledItemDelegate):
    """Draws the ledger bar in a cell of a table or tree."""

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        bar = index.data(BAR_ROLE)
        if bar is None:
            super().paint(painter, option, index)
            return
        if option.state & QStyle.StateFlag.State_Selected:  # type: ignore[attr-defined]
            painter.fillRect(option.rect, QColor(theme.current().moss_soft))  # type: ignore[attr-defined]
        paint_bar(painter, QRectF(option.rect).adjusted(4, 4, -6, -4), bar)  # type: ignore[attr-defined]


class LedgerBar(QWidget):
    """A bar of its own, the whole width."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._bar: Bar | None = None
        self.setFixedHeight(14)

    def show_charges(self, charges: Array | None, bounds: Bounds | None = None) -> None:
        """Shows other charges."""
        self._bar = bar_of(charges, float(charges.sum()), bounds) if charges is not None else None
        words = bar_words(charges, bounds) if charges is not None else ""
        self.setToolTip(words)
        self.setAccessibleDescription(words)
        self.update()

    def paintEvent(self, _event: object) -> None:
        if self._bar is not None:
            paint_bar(QPainter(self), QRectF(self.rect()).adjusted(0, 1, 0, -2), self._bar)


class PartyKey(QWidget):
    """What the colors and marks mean."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedHeight(18)
        self.setMinimumWidth(360)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        look, x = theme.current(), 2
        for party in _ORDER:
            piece = QRectF(x, 4, 18, 10)
            for brush in look.brushes(party):
                painter.fillRect(piece, brush)
            painter.setPen(QPen(look.party(party), 1))
            painter.drawRect(piece)
            painter.setPen(QColor(look.ink))
            width = painter.fontMetrics().horizontalAdvance(party)
            painter.drawText(x + 24, 14, party)
            x += 24 + width + 14
