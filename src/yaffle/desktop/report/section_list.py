"""The sections of a report: in their order, moved by dragging or with keys, left out by their boxes."""

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QAbstractItemView, QListWidget, QListWidgetItem, QWidget

from yaffle.desktop.shared.dialog_parts import bound
from yaffle.report.sections import Section

_SECTION = Qt.ItemDataRole.UserRole


class SectionList(QListWidget):
    """`arranged` carries keys in their order, and those left out; `picked` the current section."""

    arranged = Signal(object, object)
    picked = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.former: Section | None = None  # the one that was current before
        self._shows = False
        self.setAccessibleName("Sections of the report")
        self.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setDragDropMode(QAbstractItemView.DragDropMode.InternalMove)
        self.setDefaultDropAction(Qt.DropAction.MoveAction)
        self.setToolTip("Drag to order, or Ctrl+Up and Ctrl+Down; an empty box leaves a section out")
        self.model().rowsMoved.connect(lambda *_: self._tell())
        self.itemChanged.connect(lambda _item: self._tell())
        self.currentItemChanged.connect(self._current)
        bound(self, "Ctrl+Up", lambda: self.move_current(-1))
        bound(self, "Ctrl+Down", lambda: self.move_current(1))

    @property
    def current(self) -> Section | None:
        """The section that is picked."""
        item = self.currentItem()
        found: Section | None = item.data(_SECTION) if item is not None else None
        return found

    def show_sections(self, shown: Sequence[Section], left_out: Sequence[Section]) -> None:
        """Those of the report, then those left out; the current one stays."""
        key = self.current.key if self.current is not None else None
        self._shows = True
        self.clear()
        for section in [*shown, *left_out]:
            item = QListWidgetItem(f"{section.title}{'   (appendix)' if section.appendix else ''}")
            item.setData(_SECTION, section)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Unchecked if section in left_out else Qt.CheckState.Checked)
            item.setToolTip(section.title)
            self.addItem(item)
            if section.key == key or (key is None and self.currentItem() is None):
                self.setCurrentItem(item)
        self._shows = False

    def move_current(self, by: int) -> None:
        """One place up or down."""
        row = self.currentRow()
        if 0 <= row < self.count() and 0 <= row + by < self.count():
            self._shows = True
            item = self.takeItem(row)
            self.insertItem(row + by, item)
            self.setCurrentItem(item)
            self._shows = False
            self._tell()

    def _tell(self) -> None:
        if self._shows:
            return
        items = [self.item(k) for k in range(self.count())]
        keys = tuple(item.data(_SECTION).key for item in items)
        out = tuple(item.data(_SECTION).key for item in items if item.checkState() == Qt.CheckState.Unchecked)
        self.arranged.emit(keys, out)

    def _current(self, item: QListWidgetItem | None, former: QListWidgetItem | None) -> None:
        if not self._shows and item is not None:
            self.former = former.data(_SECTION) if former is not None else None
            self.picked.emit(item.data(_SECTION))
