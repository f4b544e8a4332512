"""The tree of who waits on what: application, server, client, connection, exchange; a level is computed when it is
opened.
"""

from collections.abc import Sequence
from typing import Any

from PySide6.QtCore import QAbstractItemModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtWidgets import QWidget

from yaffle.desktop.shared.ledger_bar import BAR_ROLE, Bounds, bar_words
from yaffle.session.apportion import EXCHANGE, Group, Level, groups, repeat_words
from yaffle.session.evidence import Evidence
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


class _Node:
    """One row; its group is made when it is shown."""

    __slots__ = ("_group", "children", "level", "parent", "row")

    def __init__(self, level: Sequence[Group], row: int, parent: "_Node | None") -> None:
        self.level, self.row, self.parent = level, row, parent
        self.children: list[_Node] | None = None
        self._group: Group | None = None

    @property
    def group(self) -> Group | None:
        """What it stands for; None for the root."""
        if self._group is None and self.row < len(self.level):
            self._group = self.level[self.row]
        return self._group

    def grow(self, level: Sequence[Group]) -> None:
        """Takes the groups of a level for children."""
        self.children = [_Node(level, k, self) for k in range(len(level))]


class WaitTree(QAbstractItemModel):
    """Keeps the groups that were opened."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._evidence: Evidence | None = None
        self._root = _Node((), 0, None)
        self._root.children = []

    def show_level(self, evidence: Evidence | None, top: Sequence[Group]) -> None:
        """Shows other waits, by their top level."""
        self.beginResetModel()
        self._evidence = evidence
        self._root = _Node((), 0, None)
        self._root.grow(top)
        self.endResetModel()

    def _node(self, index: Index) -> _Node:
        return index.internalPointer() if index.isValid() else self._root  # type: ignore[no-any-return]

    def _children(self, node: _Node) -> list[_Node]:
        if node.children is None:
            group = node.group
            assert self._evidence is not None and group is not None
            node.grow(groups(self._evidence, group.rows, group.trail))
        return node.children or []

    def group(self, index: Index) -> Group | None:
        """The group of a row."""
        return self._node(index).group

    def find(self, trail: tuple[str, ...]) -> QModelIndex:
        """The row of a trail, opened on the way; invalid if it is not in focus."""
        at = QModelIndex()
        for depth, part in enumerate(trail):
            children = self._children(self._node(at))
            level = children[0].level if children else ()
            place = level.place_of(part) if isinstance(level, Level) else -1
            if place < 0:
                return at if depth else QModelIndex()
            at = self.createIndex(place, 0, children[place])
        return at

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:
        children = self._children(self._node(parent))
        return self.createIndex(row, column, children[row]) if 0 <= row < len(children) else QModelIndex()

    def parent(self, index: Index = QModelIndex()) -> QModelIndex:  # type: ignore[override]
        node = self._node(index)
        if node.parent is None or node.parent is self._root:
            return QModelIndex()
        return self.createIndex(node.parent.row, 0, node.parent)

    def hasChildren(self, parent: Index = QModelIndex()) -> bool:
        node = self._node(parent)
        return bool(node.children) if node is self._root else node.group is not None and node.group.level < EXCHANGE

    def rowCount(self, parent: Index = QModelIndex()) -> int:
        node = self._node(parent)
        if parent.column() > 0 or (node.group is not None and node.group.level >= EXCHANGE):
            return 0
        return len(self._children(node))

    def columnCount(self, _parent: Index = QModelIndex()) -> int:
        return len(COLUMNS)

    def _tip(self, group: Group, column: int) -> str | None:
        if column == 0:
            return group.label
        if column == len(COLUMNS) - 1:
            return bar_words(group.charges, Bounds(group.low_ns, group.high_ns))
        if column == _RETRANSMISSIONS and group.repeats and self._evidence is not None:
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

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        group = self._node(index).group
        if group is None:
            return None
        column = index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            return (
                group.label, count(group.exchanges), count(group.users), duration(group.median_ns),
                duration(group.p95_ns),
                duration(group.worst_ns), count(group.repeats), duration(group.wait_ns), "",
            )[column]  # fmt: skip
        if role == BAR_ROLE and column == len(COLUMNS) - 1:
            level = self._node(index).level
            return (
                group.charges,
                float(level.widest_ns if isinstance(level, Level) else group.wait_ns),
                Bounds(group.low_ns, group.high_ns),
            )
        if role == Qt.ItemDataRole.ToolTipRole:
            return self._tip(group, column)
        if role == Qt.ItemDataRole.TextAlignmentRole and 0 < column < len(COLUMNS) - 1:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None
