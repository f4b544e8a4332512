"""The tiers of one exchange in Examine: in words, as lanes, and the way to the packets of each leg."""

import numpy as np
from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from yaffle.arrays import Array
from yaffle.desktop.examine.tier_lanes import TierLanes, tier_words
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.jobs import Latest
from yaffle.ledger import causes
from yaffle.session.evidence import Evidence
from yaffle.session.tiers_view import TiersPicture, tiered_exchanges, tiers_of_exchange
from yaffle.units import moment

_NONE = (
    "Nothing is known to lie behind this connection's exchanges: its server was not seen asking another one meanwhile."
    " A capture at that server would show it."
)


class TiersPanel(QWidget):
    """Shows exchanges of one connection, one at a time, each with what lies in front of it and behind."""

    exchange_wanted = Signal(int, object)  # connection, moment in ns (more than a C integer holds)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._latest = Latest(self)
        self._evidence: Evidence | None = None
        self._exchanges: Array = np.empty(0, np.int64)
        self._of, self._number = -1, 0
        self.picture: TiersPicture | None = None
        self._title, self._words, self._chosen_words = QLabel(), QLabel(), QLabel()
        self._title.setObjectName("heading")
        self._chosen_words.setObjectName("faint")
        for label in (self._title, self._words, self._chosen_words):
            label.setWordWrap(True)
        self._latest.failed.connect(lambda text: self._words.setText(f"View not updated: {text}"))
        self.former, self.next, self.longest = QPushButton("Earlier"), QPushButton("Later"), QPushButton("Longest")
        self.former.setToolTip("The exchange of this connection before, of those with tiers")
        self.next.setToolTip("The next exchange of this connection with tiers")
        self.longest.setToolTip("The exchange with tiers that took longest on this connection")
        self.former.clicked.connect(lambda: self._show_number(self._number - 1))
        self.next.clicked.connect(lambda: self._show_number(self._number + 1))
        self.longest.clicked.connect(lambda: self._show_number(self._longest()))
        self.lanes = TierLanes()
        self.lanes.chosen.connect(self._tell)
        self.lanes.wanted.connect(self._wanted)
        row, under, column = QHBoxLayout(), QHBoxLayout(), QVBoxLayout(self)
        row.addWidget(self._title, 1)
        for button in (self.former, self.next, self.longest):
            row.addWidget(button)
        under.addWidget(self._words, 1)
        under.addWidget(_Key())
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(row)
        column.addLayout(under)
        column.addWidget(self.lanes, 1)
        column.addWidget(self._chosen_words)
        self._show(None)

    @property
    def pictures(self) -> tuple[Latest, ...]:
        """What computes away from the interface thread."""
        return (self._latest,)

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
        number = self._longest() if moment_ns is None else max(0, int(np.searchsorted(begun, moment_ns, "right")) - 1)
        self._show_number(number)

    def _longest(self) -> int:
        assert self._evidence is not None
        rows = self._evidence.wait_of_exchange[self._exchanges]
        return int(np.argmax(self._evidence.waits.wait_ns[rows]))

    def _show_number(self, number: int) -> None:
        evidence = self._evidence
        if evidence is None or not 0 <= number < self._exchanges.size:
            return
        self._number, exchange = number, int(self._exchanges[number])
        self._latest.ask(lambda _progress: tiers_of_exchange(evidence, exchange), self._show)

    def _show(self, picture: TiersPicture | None) -> None:
        self.picture = picture
        known = picture is not None and self._evidence is not None
        self.former.setEnabled(known and self._number > 0)
        self.next.setEnabled(known and self._number + 1 < self._exchanges.size)
        self.longest.setEnabled(known and self._exchanges.size > 1)
        self._chosen_words.setText("")
        if picture is None or self._evidence is None:
            self._title.setText("No tiers")
            self._words.setText(_NONE if self._evidence is not None else "Choose a connection in Apportion first.")
            self.lanes.show_tiers(None)
            return
        exchange = int(self._exchanges[self._number])
        first = picture.tiers[0]
        self._title.setText(
            f"{first.server}: {first.asked}, {moment(first.first_ns, digits=3)};"
            f" exchange {self._number + 1} of {self._exchanges.size} with tiers on this connection"
        )
        more = f" {picture.left_out} more are not shown." if picture.left_out else ""
        self._words.setText(picture.words + more)
        row = int(self._evidence.wait_of_exchange[exchange])
        self.lanes.show_tiers(picture, next((k for k, tier in enumerate(picture.tiers) if tier.wait == row), 0))

    def _tell(self, place: int) -> None:
        if self.picture is not None:
            self._chosen_words.setText("; ".join(tier_words(self.picture, place)) + ". Enter shows its packets")

    def _wanted(self, place: int) -> None:
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
            (QPen(QColor(look.red), 1.2, Qt.PenStyle.DashLine), "not sure"),
        ):
            painter.setPen(pen)
            painter.drawLine(x, 10, x + 18, 10)
            painter.setPen(QColor(look.ink))
            painter.drawText(x + 24, 14, words)
            x += 24 + painter.fontMetrics().horizontalAdvance(words) + 14
