"""The tree of who waits on what: application, server, client, connection, exchange; a level is computed when it is
opened.
"""

from collections.abc import Callable, Sequence
from typing import Any

from PySide6.QtCore import QAbstractItemModel, QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtWidgets import QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.jobs import Latest
from yaffle.desktop.shared.ledger_bar import BAR_ROLE, Bar, Bounds, bar_of, bar_words
from yaffle.desktop.shared.plain_cells import CellLook
from yaffle.session.behind_groups import has_tiers
from yaffle.session.evidence import Evidence
from yaffle.session.wait_group import EXCHANGE, Group, GroupLevel, repeat_words
from yaffle.units import count, duration

Index = QModelIndex | QPersistentModelIndex

COLUMNS = (
    "application / server / client",
    "exchanges",
    "clients",
    "median",
    "p95",
    "max",
    "retransmissions",
    "total wait",
    "client, network, server",
)
_RETRANSMISSIONS = COLUMNS.index("retransmissions")
_MEANING = (
    "application, server, client, connection, exchange",
    "requests with their answers, and failed connection attempts",
    "clients that waited",
    "half of the waits are shorter (nearest rank)",
    "95 of 100 waits are shorter",
    "the longest wait",
    "retransmitted segments on these connections",
    "sum of all waits in focus",
    "the wait to scale, cut by who is charged",
)


_BESIDE = "Other exchanges than the row above: their time is a part of its server time, or has it as a part."


# What a role is told by, as Qt hands it over: a number. A picture asks for thousands of cells, most for nothing.
_DISPLAY, _TIP, _ALIGNMENT, _FONT, _BAR = (
    int(role)
    for role in (
        Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole, Qt.ItemDataRole.TextAlignmentRole,
        Qt.ItemDataRole.FontRole, BAR_ROLE,
    )
)  # fmt: skip
_RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
_LAST = len(COLUMNS) - 1


class _Node:
    """One row; its group is made when it is shown."""

    __slots__ = ("_bar", "_cells", "_group", "children", "level", "parent", "row")

    def __init__(self, level: Sequence[Group], row: int, parent: "_Node | None") -> None:
        self.level, self.row, self.parent = level, row, parent
        self.children: list[_Node] | None = None
        self._group: Group | None = None
        self._cells: tuple[str, ...] = ()
        self._bar: Bar | None = None

    @property
    def group(self) -> Group | None:
        """What it stands for; None for the root."""
        if self._group is None and self.row < len(self.level):
            self._group = self.level[self.row]
        return self._group

    @property
    def cells(self) -> tuple[str, ...]:
        """Its texts, column by column; there is a group."""
        group = self.group
        if not self._cells and group is not None:
            self._cells = (
                group.label, count(group.exchanges), count(group.users), duration(group.median_ns),
                duration(group.p95_ns), duration(group.worst_ns), count(group.repeats), duration(group.wait_ns), "",
            )  # fmt: skip
        return self._cells

    @property
    def bar(self) -> Bar | None:
        """Its ledger bar."""
        group = self.group
        if self._bar is None and group is not None:
            full_ns = self.level.widest_ns if isinstance(self.level, GroupLevel) else group.wait_ns
            self._bar = bar_of(group.charges, float(full_ns), Bounds(group.low_ns, group.high_ns))
        return self._bar

    def grow(self, level: Sequence[Group]) -> None:
        """Takes the groups of a level for children."""
        self.children = [_Node(level, k, self) for k in range(len(level))]


class WaitTree(QAbstractItemModel):
    """Keeps the groups that were opened."""

    level_shown = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._evidence: Evidence | None = None
        self._root = _Node((), 0, None)
        self._root.children = []
        self.latest = Latest(self)
        self._below: Callable[[Group], Sequence[Group]] | None = None
        self._waiting: list[_Node] = []  # whose level is computed, one after the other
        self._beside_font = theme.figures_font()
        self._beside_font.setItalic(True)

    def show_levels(
        self,
        evidence: Evidence | None,
        levels: Sequence[Sequence[Group]],
        trail: tuple[str, ...],
        below: Callable[[Group], Sequence[Group]] | None = None,
    ) -> None:
        """Shows other waits: their top level, and the levels below it along a trail. below: computes the level that a
        group opens.
        """
        self.beginResetModel()
        self._evidence, self._waiting, self._below = evidence, [], below
        self.latest.forget()
        node = self._root = _Node((), 0, None)
        for depth, level in enumerate(levels):
            node.grow(level)
            place = level.place_of(trail[depth]) if depth < len(trail) and isinstance(level, GroupLevel) else -1
            if place < 0:
                break
            node = (node.children or [])[place]
        self._root.children = self._root.children or []
        self.endResetModel()

    def _node(self, index: Index) -> _Node:
        return index.internalPointer() if index.isValid() else self._root  # type: ignore[no-any-return]

    def group(self, index: Index) -> Group | None:
        """The group of a row."""
        return self._node(index).group

    def find(self, trail: tuple[str, ...]) -> QModelIndex:
        """The row of a trail, as far as its levels are known; invalid if it is not in focus."""
        at = QModelIndex()
        for depth, part in enumerate(trail):
            children = self._node(at).children or []
            level = children[0].level if children else ()
            place = level.place_of(part) if isinstance(level, GroupLevel) else -1
            if place < 0:
                return at if depth else QModelIndex()
            at = self.createIndex(place, 0, children[place])
        return at

    # --- levels, computed away from the interface thread when they are opened ---
    def canFetchMore(self, parent: Index) -> bool:
        node = self._node(parent)
        return self._opens(node) and node.children is None and node not in self._waiting

    def fetchMore(self, parent: Index) -> None:
        if self.canFetchMore(parent):
            self._waiting.append(self._node(parent))
            if len(self._waiting) == 1:
                self._compute()

    def _opens(self, node: _Node) -> bool:
        group = node.group
        if group is None or group.level < EXCHANGE:
            return group is not None and group.period is None
        return self._evidence is not None and has_tiers(self._evidence, int(group.trail[EXCHANGE]))

    def _compute(self) -> None:
        node, below = self._waiting[0], self._below
        group = node.group
        if below is None or group is None:
            return
        self.latest.ask(lambda _progress: below(group), lambda level: self._computed(node, level))

    def _computed(self, node: _Node, level: Sequence[Group]) -> None:
        if not self._waiting or self._waiting[0] is not node:
            return  # Another picture is shown by now.
        self._waiting.pop(0)
        if len(level):
            self.beginInsertRows(self.createIndex(node.row, 0, node), 0, len(level) - 1)
            node.grow(level)
            self.endInsertRows()
        else:
            node.children = []
        self.level_shown.emit()
        if self._waiting:
            self._compute()

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:
        children = self._node(parent).children or []
        return self.createIndex(row, column, children[row]) if 0 <= row < len(children) else QModelIndex()

    def parent(self, index: Index = QModelIndex()) -> QModelIndex:  # type: ignore[override]
        node = self._node(index)
        if node.parent is None or node.parent is self._root:
            return QModelIndex()
        return self.createIndex(node.parent.row, 0, node.parent)

    def hasChildren(self, parent: Index = QModelIndex()) -> bool:
        node = self._node(parent)
        return bool(node.children) if node is self._root or node.children is not None else self._opens(node)

    def rowCount(self, parent: Index = QModelIndex()) -> int:
        return 0 if parent.column() > 0 else len(self._node(parent).children or [])

    def columnCount(self, _parent: Index = QModelIndex()) -> int:
        return len(COLUMNS)

    def _tip(self, group: Group, column: int) -> str | None:
        if column == 0:
            address, _, port = group.trail[1].rpartition(" ") if group.beside else ("", "", "")
            return f"{group.label}, {address} port {port}\n{_BESIDE}" if group.beside else group.label
        if column == len(COLUMNS) - 1:
            return bar_words(group.charges, Bounds(group.low_ns, group.high_ns))
        if column == _RETRANSMISSIONS and group.repeats and group.rows.size and self._evidence is not None:
            return repeat_words(self._evidence, group)
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation == Qt.Orientation.Horizontal:
            if role == Qt.ItemDataRole.DisplayRole:
                return COLUMNS[section]
            if role == Qt.ItemDataRole.ToolTipRole:
                return _MEANING[section]
            if role == Qt.ItemDataRole.TextAlignmentRole and 0 < section < len(COLUMNS) - 1:
                return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None

    def texts_of(self, index: Index) -> Sequence[str]:
        """The texts of a row, column by column."""
        return self._node(index).cells

    def look_of(self, index: Index) -> CellLook | None:
        """How a cell is painted."""
        node, column = self._node(index), index.column()
        group = node.group
        if group is None:
            return None
        font = self._beside_font if group.beside and column == 0 else None
        return CellLook(node.cells[column], 0 < column < _LAST, font=font)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role not in (_DISPLAY, _TIP, _ALIGNMENT, _FONT, _BAR):
            return None
        column = index.column()
        if role == _ALIGNMENT:
            return _RIGHT if 0 < column < _LAST else None
        node = self._node(index)
        group = node.group
        if group is None:
            return None
        if role == _DISPLAY:
            return node.cells[column]
        if role == _BAR:
            return node.bar if column == _LAST else None
        if role == _TIP:
            return self._tip(group, column)
        return self._beside_font if group.beside and column == 0 else None
