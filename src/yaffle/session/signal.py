"""A signal without Qt: one model tells its views that something changed, and nothing else."""

import weakref
from collections.abc import Callable


class Signal:
    """Callbacks without arguments, held weakly: a view that is gone is not called."""

    def __init__(self) -> None:
        self._slots: list[weakref.WeakMethod[Callable[[], None]] | weakref.ref[Callable[[], None]]] = []

    def connect(self, slot: Callable[[], None]) -> Callable[[], None]:
        """Adds a callback; returns what undoes it."""
        held = weakref.WeakMethod(slot) if hasattr(slot, "__self__") else weakref.ref(slot)
        self._slots.append(held)

        def undo() -> None:
            if held in self._slots:
                self._slots.remove(held)

        return undo

    def emit(self) -> None:
        """Calls everyone who is still there."""
        for held in list(self._slots):
            slot = held()
            if slot is None:
                if held in self._slots:
                    self._slots.remove(held)
            else:
                slot()
