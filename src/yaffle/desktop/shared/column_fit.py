"""Columns that fit their titles and cells: nothing is cut while there is room, and what the user drags stays."""

from collections.abc import Iterator, Mapping

from PySide6.QtCore import QEvent, QModelIndex, QObject, QPoint, Qt, QTimer
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import QHeaderView, QMenu, QTableView, QTreeView

from yaffle.desktop.shared.arrangement import arrangement
from yaffle.desktop.shared.plain_cells import PlainModel

_SAMPLED = 32  # rows that are measured
_CELL_ROOM, _TITLE_ROOM = 10, 12  # pixels around a cell and a title
_SIGN_ROOM = 6  # beside a title, for the sign of sorting
_MOST = 420  # pixels that one column takes by itself
_SHRUNK = 120  # pixels that a long text keeps where all columns together are too wide
_SAVE_AFTER_MS = 400


class ColumnFit(QObject):
    """Looks after the columns of one table or tree, told apart by its accessible name."""

    def __init__(self, view: QTableView | QTreeView) -> None:
        super().__init__(view)
        self._view = view
        self._header = view.horizontalHeader() if isinstance(view, QTableView) else view.header()
        self._header.setStretchLastSection(False)
        self._header.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        self._header.setSectionsMovable(True)
        self._header.setHighlightSections(False)
        self._header.setMinimumSectionSize(28)
        self._header.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self._header.customContextMenuRequested.connect(self._menu)
        self._header.sectionResized.connect(self._resized)
        self._header.sectionMoved.connect(self._moved)
        self._fitting = False
        self._least: Mapping[int, int] = {}
        self._wide = -1
        self._wanted: list[int] = []
        self._later = QTimer(self, singleShot=True, interval=_SAVE_AFTER_MS)
        self._later.timeout.connect(lambda: arrangement().save())
        view.viewport().installEventFilter(self)

    @property
    def _name(self) -> str:
        return self._view.accessibleName()

    def fit(self, least: Mapping[int, int] | None = None, wide: int = -1) -> None:
        """Measures anew. least: pixels that a column takes at least; wide: the one that takes what room is left."""
        self._least, self._wide = least or {}, wide
        model = self._view.model()
        if model is None:
            return
        assert isinstance(model, PlainModel)
        metrics, head = QFontMetrics(self._view.font()), QFontMetrics(self._header.font())
        columns = range(model.columnCount())
        around = _TITLE_ROOM + (_SIGN_ROOM if self._view.isSortingEnabled() else 0)
        titles = [head.horizontalAdvance(self._title(c)) + around for c in columns]
        self._wanted = list(titles)
        painted = {c for c in columns if self._view.itemDelegateForColumn(c) is not None}
        told = set[int]()  # columns with a text to be measured by
        for index, indent in self._rows():
            for c, text in enumerate(model.texts_of(index)):
                if text:
                    told.add(c)
                    wide_px = metrics.horizontalAdvance(text) + _CELL_ROOM + (indent if c == 0 else 0)
                    self._wanted[c] = max(self._wanted[c], min(_MOST, wide_px))
        for c, pixels in self._least.items():
            if c < len(self._wanted) and (c in painted or c not in told):
                self._wanted[c] = max(self._wanted[c], pixels)
        self._titles_wide = [self._wanted[c] if c in painted else titles[c] for c in columns]
        self._share_room()
        self._put_in_order()

    def _title(self, column: int) -> str:
        return str(self._view.model().headerData(column, Qt.Orientation.Horizontal) or "")

    def _rows(self) -> Iterator[tuple[QModelIndex, int]]:
        """(first cell, pixels that it is indented) of the rows that are measured."""
        model = self._view.model()
        if isinstance(self._view, QTreeView):
            index = model.index(0, 0)
            for _ in range(_SAMPLED):
                if not index.isValid():
                    return
                depth, above = 1, index.parent()
                while above.isValid():
                    depth, above = depth + 1, above.parent()
                yield index, depth * self._view.indentation()
                index = self._view.indexBelow(index)
            return
        for row in range(min(_SAMPLED, model.rowCount())):
            yield model.index(row, 0), 0

    def _share_room(self) -> None:
        """Gives what room is left to the wide column; takes from long texts where there is too little."""
        if not self._wanted or len(self._wanted) != self._header.count():
            return
        model, kept = self._view.model(), arrangement().widths.get(self._name, {})
        sizes = [kept.get(self._title(c), wanted) for c, wanted in enumerate(self._wanted)]
        room = self._view.viewport().width() - 2
        left = room - sum(sizes)
        if left > 0 and 0 <= self._wide < len(sizes):
            sizes[self._wide] += left
        elif left < 0:
            texts = [c for c in range(len(sizes)) if self._is_text(model, c) and self._title(c) not in kept]
            floors = {c: max(_SHRUNK, self._titles_wide[c], self._least.get(c, 0)) for c in texts}
            spare = {c: max(0, sizes[c] - floors[c]) for c in texts}
            total = sum(spare.values())
            for c in texts:
                sizes[c] -= round(min(-left, total) * spare[c] / total) if total else 0
        self._fitting = True
        for c, size in enumerate(sizes):
            self._view.setColumnWidth(c, size)
        self._fitting = False

    @staticmethod
    def _is_text(model: QObject, column: int) -> bool:
        align = model.headerData(column, Qt.Orientation.Horizontal, Qt.ItemDataRole.TextAlignmentRole)  # type: ignore[attr-defined]
        return align is None or not int(align) & int(Qt.AlignmentFlag.AlignRight)

    def _put_in_order(self) -> None:
        """Puts the columns where the user moved them; others stand behind."""
        titles = [self._title(c) for c in range(self._header.count())]
        wanted = [t for t in arrangement().orders.get(self._name, []) if t in titles]
        self._fitting = True
        for place, title in enumerate(wanted):
            self._header.moveSection(self._header.visualIndex(titles.index(title)), place)
        self._fitting = False

    def _resized(self, section: int, _former: int, size: int) -> None:
        if not self._fitting and self._header.isVisible() and self._title(section):
            arrangement().widths.setdefault(self._name, {})[self._title(section)] = size
            self._later.start()

    def _moved(self, *_places: int) -> None:
        if not self._fitting:
            order = [self._title(self._header.logicalIndex(v)) for v in range(self._header.count())]
            arrangement().orders[self._name] = order
            self._later.start()

    def _menu(self, place: QPoint) -> None:
        menu = QMenu(self._header)
        menu.addAction("Fit columns to their content", self.forget)
        menu.exec(self._header.mapToGlobal(place))

    def forget(self) -> None:
        """Takes back what the user dragged."""
        arrangement().forget_table(self._name)
        for c in range(self._header.count()):
            self._fitting = True
            self._header.moveSection(self._header.visualIndex(c), c)
            self._fitting = False
        self.fit(self._least, self._wide)

    def eventFilter(self, _watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Resize:
            self._share_room()
        return False
