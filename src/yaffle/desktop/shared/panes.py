"""Panes beside or above each other: their sizes are remembered, none is lost, and one can fill a station."""

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QSplitter, QWidget

from yaffle.desktop.shared.arrangement import arrangement

_SAVE_AFTER_MS = 400


class Panes(QSplitter):
    """A group of panes with a name, under which its sizes are kept."""

    def __init__(self, name: str, orientation: Qt.Orientation) -> None:
        super().__init__(orientation)
        self.setObjectName(name)
        self.setChildrenCollapsible(False)
        self.setHandleWidth(6)
        self._later = QTimer(self, singleShot=True, interval=_SAVE_AFTER_MS)
        self._later.timeout.connect(lambda: arrangement().save())
        self.splitterMoved.connect(self._moved)

    def arrange(self, parts: list[QWidget], sizes: list[int]) -> None:
        """Takes the parts, with the sizes that the user gave them, else these."""
        for part in parts:
            self.addWidget(part)
        kept = arrangement().panes.get(self.objectName(), [])
        self.setSizes(kept if len(kept) == len(parts) else sizes)

    def _moved(self, _place: int, _index: int) -> None:
        arrangement().panes[self.objectName()] = self.sizes()
        self._later.start()


class Filling:
    """Lets the pane with the keyboard fill its station, and gives the others their room back."""

    def __init__(self) -> None:
        self._hidden: list[QWidget] = []

    def toggle(self, focused: QWidget | None, station: QWidget) -> bool:
        """Whether a pane fills the station now."""
        if self._hidden:
            for part in self._hidden:
                part.show()
            self._hidden = []
            return False
        inside, above = focused, focused.parentWidget() if focused is not None else None
        while inside is not None and above is not None and inside is not station:
            if isinstance(above, QSplitter):
                for k in range(above.count()):
                    beside = above.widget(k)
                    if beside is not None and beside is not inside and not beside.isHidden():
                        self._hidden.append(beside)
            inside, above = above, above.parentWidget()
        for part in self._hidden:
            part.hide()
        return bool(self._hidden)
