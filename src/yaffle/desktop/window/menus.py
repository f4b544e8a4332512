"""The menus of the window, and the keys of their actions."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import QObject
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu, QMenuBar

from yaffle.file_store import is_url

NAMES = ("Case", "Edit", "Focus", "Stations", "Window")
Slot = Callable[[], object]


class Menus(QObject):
    """Actions by menu, in the order in which they are added."""

    def __init__(self, bar: QMenuBar) -> None:
        super().__init__(bar)
        self.by_name = {name: bar.addMenu(name) for name in NAMES}
        self.by_text: dict[str, QAction] = {}

    def add(self, menu: str, text: str, key: str, slot: Slot, *, checkable: bool = False) -> QAction:
        """One action; an empty key is none."""
        action = QAction(text, self)
        if key:
            action.setShortcut(QKeySequence(key))
        action.setCheckable(checkable)
        action.triggered.connect(lambda: slot())
        self.by_name[menu].addAction(action)
        self.by_text[text] = action
        return action

    def add_all(self, menu: str, *entries: tuple[str, str, Slot] | None) -> None:
        """Several: (text, key, slot), or None for a line between."""
        for entry in entries:
            if entry is None:
                self.by_name[menu].addSeparator()
            else:
                self.add(menu, *entry)

    def add_recent(self, menu: str, paths: Callable[[], tuple[str, ...]], load: Callable[[str], None]) -> None:
        """A menu of what was open before, by paths and addresses."""
        recent = QMenu("Recent", self.by_name[menu])

        def fill() -> None:
            recent.clear()
            for path in paths():
                action = recent.addAction(path, partial(load, path))
                action.setEnabled(is_url(path) or Path(path).exists())
            if not paths():
                recent.addAction("no recent cases").setEnabled(False)

        recent.aboutToShow.connect(fill)
        self.by_name[menu].addMenu(recent)

    @property
    def shortcuts(self) -> list[tuple[str, str, str]]:
        """(menu, what, keys) of every action that has keys."""
        return [
            (name, a.text().rstrip("…"), a.shortcut().toString())
            for name, menu in self.by_name.items()
            for a in menu.actions()
            if not a.shortcut().isEmpty()
        ]
