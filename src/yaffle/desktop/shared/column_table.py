"""A table model over columns: cells are made when they are shown, so millions of rows cost nothing; copies as text."""

import contextlib
import csv
import ipaddress
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any, Protocol, runtime_checkable

import numpy as np
from PySide6.QtCore import QAbstractItemModel, QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QColor, QContextMenuEvent, QGuiApplication, QKeyEvent, QKeySequence, QMouseEvent
from PySide6.QtWidgets import QAbstractItemView, QFileDialog, QMenu, QTableView, QWidget

from yaffle.arrays import Array
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_fit import ColumnFit
from yaffle.desktop.shared.plain_cells import CellLook, PlainCells
from yaffle.session import expressions

Index = QModelIndex | QPersistentModelIndex
Offers = list[tuple[str, Callable[[], object]]]  # words of a menu, and what is done then
_MENU_LETTERS = 80
# Roles as Qt hands them over: numbers. A picture asks for thousands of cells, most for nothing.
_DISPLAY, _TIP, _ALIGNMENT, _FOREGROUND = (
    int(role)
    for role in (
        Qt.ItemDataRole.DisplayRole,
        Qt.ItemDataRole.ToolTipRole,
        Qt.ItemDataRole.TextAlignmentRole,
        Qt.ItemDataRole.ForegroundRole,
    )
)
_RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


@dataclass(frozen=True)
class Column:
    """One column: its title with unit, how a row's cell reads, and what it is sorted by."""

    title: str
    text: Callable[[int], str]
    key: Array | Sequence[Any] | None = None
    figures: bool = True
    color: Callable[[int], str | None] | None = None
    meaning: str = ""
    sql: str = ""  # column of the filter that holds the same
    value: Callable[[int], object] | None = None  # its value, where the cell's text is not it
    condition: Callable[[int], str] | None = (
        None  # an expression of the filter that means the same, where no single column does
    )


class ColumnTable(QAbstractTableModel):
    """Rows by number, in an order that sorting changes."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._columns: list[Column] = []
        self.order = np.empty(0, np.int64)

    def show_columns(self, columns: list[Column], rows: int) -> None:
        """Shows other columns."""
        self.beginResetModel()
        self._columns, self.order = columns, np.arange(rows)
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:
        return 0 if parent.isValid() else int(self.order.size)

    def columnCount(self, parent: Index = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self._columns)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role not in (_DISPLAY, _TIP, _ALIGNMENT, _FOREGROUND) or not index.isValid():
            return None
        column = self._columns[index.column()]
        if role == _ALIGNMENT:
            return _RIGHT if column.figures else None
        row = int(self.order[index.row()])
        if role == _DISPLAY or (role == _TIP and not column.figures):
            return column.text(row)
        if role == _FOREGROUND and column.color is not None:
            name = column.color(row)
            return QColor(name) if name else None
        return None

    def texts_of(self, index: Index) -> list[str]:
        """The texts of a row, column by column."""
        row = int(self.order[index.row()])
        return [column.text(row) for column in self._columns]

    def look_of(self, index: Index) -> CellLook | None:
        """How a cell is painted."""
        if not index.isValid():
            return None
        column, row = self._columns[index.column()], int(self.order[index.row()])
        return CellLook(column.text(row), column.figures, column.color(row) if column.color is not None else None)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal or section >= len(self._columns):
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            return self._columns[section].title
        if role == Qt.ItemDataRole.ToolTipRole:
            return self._columns[section].meaning or None
        if role == Qt.ItemDataRole.TextAlignmentRole:
            right = self._columns[section].figures
            return (
                Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
            ) | Qt.AlignmentFlag.AlignVCenter
        return None

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        if not 0 <= column < len(self._columns) or self._columns[column].key is None:
            return
        self.layoutAboutToBeChanged.emit()
        held = np.argsort(np.asarray(self._columns[column].key), kind="stable")
        self.order = held[::-1] if order == Qt.SortOrder.DescendingOrder else held
        self.layoutChanged.emit()

    def cell(self, index: Index) -> tuple[str, object] | str | None:
        """Column of the filter and value of a cell, where it has one; else the expression that means the same, if
        any.
        """
        if not index.isValid():
            return None
        column, row = self._columns[index.column()], int(self.order[index.row()])
        if column.condition is not None:
            return column.condition(row) or None
        if not column.sql:
            return None
        return column.sql, column.value(row) if column.value is not None else column.text(row)

    def place_of(self, row: int) -> int:
        """Where a row stands now; -1 if it is not there."""
        found = np.flatnonzero(self.order == row)
        return int(found[0]) if found.size else -1


def address_in(text: str) -> str:
    """The IP address that a cell is, or begins or ends with; empty without one."""
    for word in (text, text.partition(" ")[0], text.rpartition(" ")[2]):
        with contextlib.suppress(ValueError):
            return str(ipaddress.ip_address(word))
    return ""


def filters_of(cell: tuple[str, object] | str | None) -> list[tuple[str, str]]:
    """What may be made of a cell: words for a menu, and the expression."""
    if cell is None:
        return []
    if isinstance(cell, str):
        words = cell if len(cell) <= _MENU_LETTERS else cell[: _MENU_LETTERS - 2] + " …"
        return [(f"Only {words}", cell), (f"Not {words}", expressions.opposite(cell))]
    column, value = cell
    if column in expressions.MOMENTS:
        return [
            (f"From {value}", expressions.since(column, value)),
            (f"Before {value}", expressions.opposite(expressions.since(column, value))),
        ]
    if isinstance(value, float):  # What was rounded to be read equals nothing.
        return [
            (f"Above {column} = {value:.6g}", expressions.above(column, value)),
            (f"Up to {column} = {value:.6g}", expressions.opposite(expressions.above(column, value))),
        ]
    found = [
        (f"Only {column} = {value}", expressions.only(column, value)),
        (f"Not {column} = {value}", expressions.without(column, value)),
    ]
    if isinstance(value, int):
        found.append((f"Above {column} = {value}", expressions.above(column, value)))
    return found


@runtime_checkable
class OffersForAddresses(Protocol):
    """A window that knows what can be done about an IP address in a cell."""

    def offers_for_address(self, address: str) -> Offers:
        """What is offered."""
        ...


class TableView(QTableView):
    """A calm table: rows selected whole, sortable, copied and saved as text; cells make filters."""

    narrowed = Signal(str)  # an expression to narrow the focus with
    entered = Signal(int)  # a row, as its model numbers it
    left = Signal()  # Backspace

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName(name)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setAlternatingRowColors(True)
        self.setShowGrid(False)
        self.setSortingEnabled(True)
        self.setTabKeyNavigation(False)
        self.setWordWrap(False)
        self.setFont(theme.figures_font())
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(21)
        self.horizontalHeader().setSortIndicatorClearable(True)
        self.horizontalHeader().setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        self.fit = ColumnFit(self)
        self.row_offers: Callable[[int], Offers] = lambda _row: []  # what else is offered for a row

    def setModel(self, model: QAbstractItemModel | None) -> None:
        super().setModel(model)
        if isinstance(model, ColumnTable):
            self.setItemDelegate(PlainCells(model, self))

    def _table(self) -> ColumnTable:
        model = self.model()
        assert isinstance(model, ColumnTable)
        return model

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            QGuiApplication.clipboard().setText(self.copied())
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.currentIndex().isValid():
            self.entered.emit(int(self._table().order[self.currentIndex().row()]))
        elif event.key() == Qt.Key.Key_Backspace:
            self.left.emit()
        else:
            super().keyPressEvent(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        index = self.indexAt(event.position().toPoint())
        if index.isValid():
            self.entered.emit(int(self._table().order[index.row()]))

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        cell = self._table().cell(self.indexAt(event.pos()))
        for text, expression in filters_of(cell):
            menu.addAction(text, partial(self.narrowed.emit, expression))
        index = self.indexAt(event.pos())
        for words, take in self.row_offers(int(self._table().order[index.row()])) if index.isValid() else []:
            menu.addAction(words, take)
        window = self.window()
        if (address := address_in(str(index.data() or ""))) and isinstance(window, OffersForAddresses):
            menu.addSeparator()
            for words, take in window.offers_for_address(address):
                menu.addAction(words, take)
        if cell is not None or menu.actions():
            menu.addSeparator()
        menu.addAction("Copy as text", lambda: QGuiApplication.clipboard().setText(self.copied()))
        menu.addAction("Save as CSV…", self.save)
        menu.exec(event.globalPos())

    def save(self) -> None:
        """Asks where, and saves the rows as they read."""
        path, _ = QFileDialog.getSaveFileName(self, "Save the table", "table.csv", "CSV (*.csv)")
        if path:
            self.write(Path(path))

    def write(self, path: Path) -> None:
        """Writes all rows as they read, as CSV (RFC 4180)."""
        model = self.model()
        columns = range(model.columnCount())
        with path.open("w", encoding="utf-8", newline="") as file:
            out = csv.writer(file)
            out.writerow([model.headerData(c, Qt.Orientation.Horizontal) for c in columns])
            out.writerows([[model.index(r, c).data() for c in columns] for r in range(model.rowCount())])

    def copied(self) -> str:
        """The selected rows (all, if none is) as text, columns apart by tabs."""
        model = self.model()
        rows = sorted({i.row() for i in self.selectionModel().selectedRows()}) or list(
            range(min(model.rowCount(), 100_000))
        )
        columns = range(model.columnCount())
        head = "\t".join(str(model.headerData(c, Qt.Orientation.Horizontal)) for c in columns)
        lines = ["\t".join(str(model.index(r, c).data() or "") for c in columns) for r in rows]
        return "\n".join([head, *lines])


class Listing(TableView):
    """A table with its own columns, one of which takes what room is left."""

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(name, parent)
        self.columns = ColumnTable(self)
        self.setModel(self.columns)

    def show_columns(
        self, columns: list[Column], rows: int, widths: tuple[tuple[int, int], ...], wide: int = 0
    ) -> None:
        """Shows other rows. widths: (section, pixels at least); wide: the section that takes what is left, -1 none."""
        self.columns.show_columns(columns, rows)
        self.fit.fit(dict(widths), wide)
