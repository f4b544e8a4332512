"""The tiers of an exchange: a bar a hop on one time axis, server and network apart, what was waited for marked."""

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.lanes import ROW, Lanes
from yaffle.ledger import causes
from yaffle.session.tiers_view import SURE, Tier, TiersPicture
from yaffle.units import duration

_STEP = 14  # pixels that a tier stands further in than the one in front of it


class TierLanes(Lanes):
    """A bar a tier, each below the one in front of it."""

    names_px = 340

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._picture: TiersPicture | None = None
        self.setAccessibleName("Tiers of the exchange: what lies behind it, over time")

    def show_tiers(self, picture: TiersPicture | None, selected: int = 0) -> None:
        """Shows other tiers, with one of them selected."""
        self._picture = picture
        if picture is None:
            self.show_rows((), 0, 1)
        else:
            self.show_rows(range(len(picture.tiers)), picture.first_ns, picture.span_ns)
            self.select(selected)

    def paint_row(self, painter: QPainter, bar: int, top: int) -> None:
        assert self._picture is not None
        look, tier = theme.current(), self._picture.tiers[bar]
        indent = 10 + _STEP * min(tier.depth, 8)
        painter.setPen(QColor(look.ink))
        text = f"{tier.server}  {tier.asked}"
        text = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, self.names_px - indent - 8)
        painter.drawText(QRectF(indent, top, self.names_px - indent - 4, ROW), Qt.AlignmentFlag.AlignVCenter, text)
        edges = [self.x_of(at) for at in (tier.first_ns, tier.server_begin_ns, tier.server_end_ns, tier.last_ns)]
        edges[3] = max(edges[3], edges[0] + 2.0)
        for party, left, right in (
            (causes.NETWORK, edges[0], edges[1]), (causes.SERVER, edges[1], edges[2]),
            (causes.NETWORK, edges[2], edges[3])
        ):  # fmt: skip
            if right > left:
                for brush in look.brushes(party):
                    painter.fillRect(QRectF(left, top + 4, right - left, ROW - 11), brush)
        painter.setPen(QPen(QColor(look.ink), 3, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap))
        for stretch in self._picture.path:
            if stretch.hop == bar:
                left, right = self.x_of(stretch.begin_ns), self.x_of(stretch.end_ns)
                painter.drawLine(QPointF(left, top + ROW - 4), QPointF(max(right, left + 1), top + ROW - 4))
        self.paint_words(painter, bar, top, edges[3] + 6, _beside(tier))

    def paint_under(self, painter: QPainter) -> None:
        """From each tier to the one in front of it; broken where that is not sure."""
        assert self._picture is not None
        for k, tier in enumerate(self._picture.tiers):
            if tier.front >= 0:
                sure = tier.certainty >= SURE
                painter.setPen(
                    QPen(
                        QColor(theme.current().moss if sure else theme.current().red), 2.0,
                        Qt.PenStyle.SolidLine if sure else Qt.PenStyle.DashLine,
                    )
                )  # fmt: skip
                x = self.x_of(tier.first_ns)
                painter.drawLine(QPointF(x, self.middle_of(tier.front) + 4), QPointF(x, self.middle_of(k)))

    def words_of(self, bar: int) -> str:
        assert self._picture is not None
        return "\n".join(tier_words(self._picture, bar))


def _beside(tier: Tier) -> str:
    told = [duration(tier.span_ns)]
    if tier.certainty < SURE:
        told.append(f"{100 * tier.certainty:.0f} % sure")
    if tier.outcome not in ("", "answered"):
        told.append(tier.outcome)
    return "  ".join(told)


def tier_words(picture: TiersPicture, place: int) -> list[str]:
    """A tier in words: what it is, when, and how long the first server waited for it."""
    tier = picture.tiers[place]
    found = [f"{tier.server}: {tier.asked}", duration(tier.span_ns)]
    if place:
        found[1] += f", {duration(tier.first_ns - picture.first_ns)} after the first one began"
        found.append(f"{picture.tiers[tier.front].server} is in front of it, {100 * tier.certainty:.0f} % sure")
        found.append(
            f"{picture.tiers[0].server} waited {duration(tier.held_ns)} for its server alone,"
            f" {duration(tier.way_ns)} for the network to it"
        )
    return found
