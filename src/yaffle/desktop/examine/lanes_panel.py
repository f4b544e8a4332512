"""Around lanes: what they show in words, the way to the picture before and after, and words about the chosen bar."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from yaffle.desktop.shared.jobs import Latest
from yaffle.desktop.shared.lanes import Lanes


class LanesPanel(QWidget):
    """One picture at a time, of several in order of time. What they are is the subclass's."""

    exchange_wanted = Signal(int, object)  # connection, moment in ns (more than a C integer holds)

    def __init__(self, lanes: Lanes, key: QWidget, tips: tuple[str, str, str], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._latest = Latest(self)
        self.number = 0  # of the picture shown
        self.title, self.words, self.about = QLabel(), QLabel(), QLabel()
        self.title.setObjectName("heading")
        self.about.setObjectName("faint")
        for label in (self.title, self.words, self.about):
            label.setWordWrap(True)
        self._latest.failed.connect(lambda text: self.words.setText(f"View not updated: {text}"))
        self.former, self.next, self.longest = QPushButton("Earlier"), QPushButton("Later"), QPushButton("Longest")
        row, under, column = QHBoxLayout(), QHBoxLayout(), QVBoxLayout(self)
        row.addWidget(self.title, 1)
        for button, tip in zip((self.former, self.next, self.longest), tips, strict=True):
            button.setToolTip(tip)
            row.addWidget(button)
        self.former.clicked.connect(lambda: self.show_number(self.number - 1))
        self.next.clicked.connect(lambda: self.show_number(self.number + 1))
        self.longest.clicked.connect(lambda: self.show_number(self.number_of_longest()))
        lanes.chosen.connect(self.tell)
        lanes.wanted.connect(self.examine)
        under.addWidget(self.words, 1)
        under.addWidget(key)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(row)
        column.addLayout(under)
        column.addWidget(lanes, 1)
        column.addWidget(self.about)

    @property
    def pictures(self) -> tuple[Latest, ...]:
        """What computes away from the interface thread."""
        return (self._latest,)

    def enable(self, total: int) -> None:
        """Enables the buttons for a picture of so many; for none with 0."""
        self.former.setEnabled(total > 0 and self.number > 0)
        self.next.setEnabled(self.number + 1 < total)
        self.longest.setEnabled(total > 1)

    def show_number(self, number: int) -> None:
        """Shows another picture."""
        raise NotImplementedError

    def number_of_longest(self) -> int:
        """Which picture spans most time."""
        raise NotImplementedError

    def tell(self, bar: int) -> None:
        """Says what a bar is."""
        raise NotImplementedError

    def examine(self, bar: int) -> None:
        """Leads to the packets of a bar."""
        raise NotImplementedError
