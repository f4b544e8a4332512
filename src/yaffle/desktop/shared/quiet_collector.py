"""Garbage is collected by the interface's thread alone: objects of Qt must not be destroyed by another one, and Python
collects in whichever thread happens to make the next object.
"""

import gc

from PySide6.QtCore import QObject, QTimer

_EVERY_MS = 300


class QuietCollector(QObject):
    """Takes the place of Python's own collector until it is stopped; counts as that one does."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        gc.disable()
        self._timer = QTimer(self)
        self._timer.timeout.connect(self._look)
        self._timer.start(_EVERY_MS)

    def stop(self) -> None:
        """Collects all there is, and gives way to Python's own collector."""
        self._timer.stop()
        gc.collect()
        gc.enable()

    def _look(self) -> None:
        """Collects the oldest generation whose time has come."""
        for generation in (2, 1, 0):
            if gc.get_count()[generation] > gc.get_threshold()[generation]:
                gc.collect(generation)
                return
