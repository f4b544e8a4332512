"""The tiers of one exchange in Examine: in words, as lanes, and the way to the packets of each leg."""

import numpy as np
from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from yaffle.arrays import Array
from yaffle.desktop.examine.lanes_panel import LanesPanel
from yaffle.desktop.examine.tier_lanes import TierLanes, tier_words
from yaffle.desktop.shared import theme
from yaffle.ledger import causes
from yaffle.session.evidence import Evidence
from yaffle.session.tiers_view import TiersPicture, tiered_exchanges, tiers_of_exchange
from yaffle.units import moment

_NONE = (
    "Nothing is known to lie behind this connection's exchanges: its server was not seen asking another one meanwhile."
    " A capture at that server would show it."
)


class TiersPanel(LanesPanel):
    """Shows exchanges of one connection, one at a time, each with what lies in front of it and behind."""

    def __init__(self, parent: QWidget | None = None) -> None:
        self.lanes = TierLanes()
        tips = (
            "The exchange of this connection before, of those with tiers",
            "The next exchange of this connection with tiers",
            "The exchange with tiers that took longest on this connection",
        )
        super().__init__(self.lanes, _Key(), tips, parent)
        self._evidence: Evidence | None = None
        self._exchanges: Array = np.empty(0, np.int64)
        self._of = -1
        self.picture: TiersPicture | None = None
        self._show(None)

    def clear(self) -> None:
        """Shows nothing."""
        self._latest.forget()
        self._evidence, self._exchanges = None, np.empty(0, np.int64)
        self._show(None)

    def show_connection(self, evidence: Evidence, connection: int, moment_ns: int | None) -> None:
        """Shows the exchange that ran at a moment, or was last before it; without one the longest."""
        if not (self._evidence is evidence and self._of == connection):
            self._evidence, self._of = evidence, connection
            self._exchanges = tiered_exchanges(evidence, connection)
        if not self._exchanges.size:
            self._latest.forget()
            self._show(None)
            return
        begun = evidence.analysis.account.of_exchange("first_ns")[self._exchanges]
        number = (
            self.number_of_longest()
            if moment_ns is None
            else max(0, int(np.searchsorted(begun, moment_ns, "right")) - 1)
        )
        self.show_number(number)

    def number_of_longest(self) -> int:
        assert self._evidence is not None
        rows = self._evidence.wait_of_exchange[self._exchanges]
        return int(np.argmax(self._evidence.waits.wait_ns[rows]))

    def show_number(self, number: int) -> None:
        evidence = self._evidence
        if evidence is None or not 0 <= number < self._exchanges.size:
            return
        self.number, exchange = number, int(self._exchanges[number])
        self._latest.ask(lambda _progress: tiers_of_exchange(evidence, exchange), self._show)

    def _show(self, picture: TiersPicture | None) -> None:
        self.picture = picture
        known = picture is not None and self._evidence is not None
        self.enable(self._exchanges.size if known else 0)
        self.about.setText("")
        if picture is None or self._evidence is None:
            self.title.setText("No tiers")
            self.words.setText(_NONE if self._evidence is not None else "Choose a connection in Apportion first.")
            self.lanes.show_tiers(None)
            return
        exchange = int(self._exchanges[self.number])
        first = picture.tiers[0]
        self.title.setText(
            f"{first.server}: {first.asked}, {moment(first.first_ns, digits=3)};"
            f" exchange {self.number + 1} of {self._exchanges.size} with tiers on this connection"
        )
        more = f" {picture.left_out} more are not shown." if picture.left_out else ""
        self.words.setText(picture.words + more)
        row = int(self._evidence.wait_of_exchange[exchange])
        self.lanes.show_tiers(picture, next((k for k, tier in enumerate(picture.tiers) if tier.wait == row), 0))

    def tell(self, place: int) -> None:
        if self.picture is not None:
            self.about.setText("; ".join(tier_words(self.picture, place)) + ". Enter shows its packets")

    def examine(self, place: int) -> None:
        if self.picture is not None:
            tier = self.picture.tiers[place]
            self.exchange_wanted.emit(tier.connection, tier.first_ns)

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.lanes.viewport().update()


class _Key(QWidget):
    """What the bars and lines mean."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(18)

    def sizeHint(self) -> QSize:
        return QSize(400, 18)

    def paintEvent(self, _event: object) -> None:
        painter, look, x = QPainter(self), theme.current(), 2
        for party, words in ((causes.NETWORK, "network"), (causes.SERVER, "server")):
            for brush in look.brushes(party):
                painter.fillRect(x, 4, 18, 9, brush)
            painter.setPen(QColor(look.ink))
            painter.drawText(x + 24, 14, words)
            x += 24 + painter.fontMetrics().horizontalAdvance(words) + 14
        for pen, words in (
            (QPen(QColor(look.ink), 3), "waited for"),
            (QPen(QColor(look.red), 2.0, Qt.PenStyle.DashLine), "not sure"),
        ):
            painter.setPen(pen)
            painter.drawLine(x, 10, x + 18, 10)
            painter.setPen(QColor(look.ink))
            painter.drawText(x + 24, 14, words)
            x += 24 + painter.fontMetrics().horizontalAdvance(words) + 14
