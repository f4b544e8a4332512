"""What stands in Gather while nothing is open: how to begin, the demo, and what was open before."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from yaffle.desktop.shared.dialog_parts import emptied
from yaffle.file_store import is_url

_MOST_RECENT = 6
_WIDTH = 560  # pixels


class Welcome(QWidget):
    """`open_wanted` and `demo_wanted` say which button; `recent_wanted` carries a path or an address."""

    open_wanted = Signal()
    demo_wanted = Signal()
    recent_wanted = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.words = QLabel(
            "<h2>Whose delay is it?</h2><p>Open captures, or drop them here: pcap and pcapng, also gzip, zstd or lz4;"
            " exports of flow records and tables of counters, too. Several files make one case.</p><p>Captures taken"
            " beside the clients and beside the servers at the same time tell the most.</p><p>Months of flow records,"
            " counters and waits are a history: Ctrl+H opens a folder, Ctrl+Shift+H an address of an object store.</p>"
        )
        self.words.setWordWrap(True)
        self.open = QPushButton("Open captures…")
        self.open.setToolTip("Choose files to open (Ctrl+O)")
        self.open.clicked.connect(self.open_wanted)
        self.demo = QPushButton("Open the demo")
        self.demo.setToolTip("A slow morning at a ferry operator, simulated: made once, in about ten seconds")
        self.demo.clicked.connect(self.demo_wanted)
        row = QHBoxLayout()
        row.addWidget(self.open)
        row.addWidget(self.demo)
        row.addStretch(1)
        self._recent_words = QLabel("Opened before:")
        self._recent_words.setObjectName("faint")
        self._recent = QVBoxLayout()
        self._recent.setSpacing(2)
        inner = QWidget()
        inner.setFixedWidth(_WIDTH)
        column = QVBoxLayout(inner)
        column.addWidget(self.words)
        column.addLayout(row)
        column.addSpacing(14)
        column.addWidget(self._recent_words)
        column.addLayout(self._recent)
        whole = QVBoxLayout(self)
        center = QHBoxLayout()  # Not by alignment: then nobody asks how high words of this width are.
        center.addStretch(1)
        center.addWidget(inner)
        center.addStretch(1)
        whole.addStretch(1)
        whole.addLayout(center)
        whole.addStretch(2)
        self.show_recent(())

    def show_recent(self, paths: tuple[str, ...]) -> None:
        """Lists what was open before and is still there."""
        there = [path for path in paths if is_url(path) or Path(path).exists()][:_MOST_RECENT]
        emptied(self._recent)
        self._recent_words.setVisible(bool(there))
        for path in there:
            button = QPushButton(path if is_url(path) else Path(path).name)
            button.setFlat(True)
            button.setStyleSheet("text-align: left")
            button.setToolTip(path)
            wanted: Callable[[], None] = partial(self.recent_wanted.emit, path)
            button.clicked.connect(lambda _=False, wanted=wanted: wanted())
            self._recent.addWidget(button)
