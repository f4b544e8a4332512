"""Apportion: who waits on what, with ledger bars; and how the selected waits moved over time, beside the volume."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
from PySide6.QtCore import QModelIndex, QPoint, Qt, Signal
from PySide6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QAbstractItemView, QHBoxLayout, QLabel, QMenu, QTreeView, QVBoxLayout, QWidget

from yaffle.desktop.apportion.wait_plots import BINS, WaitPlots
from yaffle.desktop.apportion.wait_tree import COLUMNS, WaitTree
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_fit import ColumnFit
from yaffle.desktop.shared.column_table import filters_of
from yaffle.desktop.shared.jobs import Latest
from yaffle.desktop.shared.ledger_bar import LedgerDelegate, PartyKey
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plain_cells import PlainCells
from yaffle.desktop.shared.station import Station
from yaffle.ledger import causes
from yaffle.session.apportion import ApportionPicture, picture, summary
from yaffle.session.behind import neighbours
from yaffle.session.expressions import above, only
from yaffle.session.investigation import Investigation
from yaffle.session.kept_waits import KeptWaits, kept_waits
from yaffle.session.scene import Scene
from yaffle.session.tiers_view import tiered_exchanges
from yaffle.session.wait_group import EXCHANGE, Group
from yaffle.session.wait_levels import groups, levels_along

_BARS, _INDENT = 120, 12  # pixels: of the bars at least, and of each level of the tree


class _Tree(QTreeView):
    """Enter narrows the focus to a row, Ctrl+C copies what is open."""

    chosen = Signal(QModelIndex)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.currentIndex().isValid():
            self.chosen.emit(self.currentIndex())
        elif event.matches(QKeySequence.StandardKey.Copy):
            QGuiApplication.clipboard().setText(self.copied())
        else:
            super().keyPressEvent(event)

    def copied(self) -> str:
        """The open rows as text, columns apart by tabs."""
        lines = ["\t".join(COLUMNS[:-1])]
        index = self.model().index(0, 0)
        while index.isValid():
            depth, up = 0, index.parent()
            while up.isValid():
                depth, up = depth + 1, up.parent()
            cells = [str(index.siblingAtColumn(c).data()) for c in range(len(COLUMNS) - 1)]
            lines.append("  " * depth + "\t".join(cells))
            index = self.indexBelow(index)
        return "\n".join(lines)


@dataclass(frozen=True)
class _Levels:
    """What the tree shows. kept: where it comes from a history."""

    scene: Scene
    levels: Sequence[Sequence[Group]]
    words: str
    below: Callable[[Group], Sequence[Group]]
    kept: KeptWaits | None = None


def _levels_of(scene: Scene) -> _Levels:
    """From the packets, where they tell of waits in the focus; else from what a history keeps."""
    trail = scene.focus.trail
    if (kept := kept_waits(scene)) is not None:
        filtered = ". The filter says nothing of kept waits" if scene.focus.filter else ""
        words = f"{kept.summary(trail)}{filtered}"
        return _Levels(scene, kept.levels_along(trail), words, lambda group: kept.groups(group.trail), kept)
    levels = levels_along(scene.evidence, scene.filtered, trail)
    return _Levels(scene, levels, summary(scene), lambda group: groups(scene.evidence, group.rows, group.trail))


class Apportion(Station):
    """The third station."""

    examine_wanted = Signal(int)
    exchange_wanted = Signal(int, object)  # connection, moment in ns (more than a C integer holds)
    visit_wanted = Signal(int, object)  # connection, moment in ns
    tiers_wanted = Signal(int, object)  # connection, moment in ns
    test_wanted = Signal(str, str)  # kind, target
    hour_wanted = Signal(object)  # a group that is an hour of kept waits
    name_wanted = Signal(str, str, int)  # application, server, port

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(investigation, parent)
        self._latest, self._below = Latest(self), Latest(self)
        self._of = QLabel()
        for latest in (self._latest, self._below):
            latest.failed.connect(lambda text: self._of.setText(f"View not updated: {text}"))
        self._kept: KeptWaits | None = None  # where what is shown comes from a history
        self._showing = False  # another level is being shown: rows become current on the way
        self.tree_model = WaitTree(self)
        self.tree = _Tree()
        self.tree.setModel(self.tree_model)
        self.tree.setAccessibleName("Waits by application, server, client, connection")
        self.tree.setUniformRowHeights(True)
        self.tree.setIndentation(_INDENT)
        self.tree.setAlternatingRowColors(True)
        self.tree.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.tree.setFont(theme.figures_font())
        self.tree.setItemDelegate(PlainCells(self.tree_model, self.tree))
        self.tree.setItemDelegateForColumn(len(COLUMNS) - 1, LedgerDelegate(self))
        self.tree.setExpandsOnDoubleClick(False)
        self.tree.doubleClicked.connect(self._chosen)
        self.tree.chosen.connect(self._chosen)
        self.tree.selectionModel().currentChanged.connect(lambda *_: self._show_group())
        self.tree.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.tree.customContextMenuRequested.connect(self._menu)
        self._fit = ColumnFit(self.tree)
        self.tree.expanded.connect(lambda _: self._fit_tree())
        self.tree_model.level_shown.connect(self._fit_tree)
        self._words = QLabel()
        self._words.setObjectName("heading")
        self._words.setWordWrap(True)
        self._of.setObjectName("faint")
        self._of.setWordWrap(True)
        top = QHBoxLayout()
        top.addWidget(self._words, 1)
        top.addWidget(PartyKey())
        self.plots = WaitPlots()
        self.plots.cause_chosen.connect(self._show_group)
        self.plots.exchange_wanted.connect(self.exchange_wanted)
        self.plots.narrowed.connect(investigation.narrow)
        lower = QWidget()
        under = QVBoxLayout(lower)
        under.setContentsMargins(0, 0, 0, 0)
        under.addWidget(self._of)
        under.addWidget(self.plots, 1)
        body = Panes("apportion station: body", Qt.Orientation.Vertical)
        body.arrange([self.tree, lower], [280, 260])
        column_ = QVBoxLayout(self)
        column_.setContentsMargins(8, 6, 8, 6)
        column_.addLayout(top)
        column_.addWidget(body, 1)
        self._undo = [
            investigation.opened_changed.connect(self._changed),
            investigation.focus_changed.connect(self._changed),
        ]
        self._changed()

    @property
    def pictures(self) -> tuple[Latest, ...]:
        """What computes away from the interface thread."""
        return (self._latest, self._below, self.tree_model.latest)

    def _show_nothing(self) -> None:
        self.tree_model.show_levels(None, (), ())
        self._words.setText("Open a capture with Ctrl+O to see whose delay it is.")
        self._of.setText("")
        self.plots.show_picture(None, None)

    def _ask(self, scene: Scene) -> None:
        """Has the waits in focus grouped again; the tree opens where the trail leads."""
        self._latest.ask(lambda _progress: _levels_of(scene), self._show_levels)

    def _show_levels(self, found: "_Levels") -> None:
        scene, levels, words = found.scene, found.levels, found.words
        self._kept = found.kept
        self._words.setText(words.replace(" %", "\u00a0%"))
        self._showing = True
        trail = scene.focus.trail
        first = (levels[0][0].trail[0],) if len(levels[0]) else ()
        self.tree_model.show_levels(scene.evidence, levels, trail or first, found.below)
        index = self.tree_model.find(trail) if trail else self.tree_model.index(0, 0)
        if index.isValid():
            self.tree.expand(index)
            up = index.parent()
            while up.isValid():
                self.tree.expand(up)
                up = up.parent()
            self.tree.setCurrentIndex(index)
            self.tree.scrollTo(index, QAbstractItemView.ScrollHint.EnsureVisible)
        self._showing = False
        self._fit_tree()
        self._show_group()

    def _fit_tree(self) -> None:
        if self._showing:  # Once, when all of it is shown.
            return
        last = len(COLUMNS) - 1
        self._fit.fit({0: 200, last: _BARS}, last)

    def selected(self) -> Group | None:
        """The group of the current row."""
        return self.tree_model.group(self.tree.currentIndex()) if self.tree.currentIndex().isValid() else None

    def _chosen(self, index: QModelIndex) -> None:
        group = self.tree_model.group(index)
        if group is None:
            return
        if group.period is not None:
            self.hour_wanted.emit(group)
        elif group.level == EXCHANGE:
            row = int(group.trail[EXCHANGE])
            waits = self._model.evidence.waits if self._model.evidence is not None else None
            if waits is not None:
                self.exchange_wanted.emit(int(group.trail[3]), int(waits.first_ns[row]))
        elif group.level == 3:
            self.examine_wanted.emit(int(group.trail[3]))
        else:
            self._model.look(self._model.focus.with_trail(group.trail))

    def _show_group(self) -> None:
        if self._showing:
            return
        scene, group = self._model.scene, self.selected()
        if scene is None or group is None:
            self._of.setText("")
            self.plots.show_picture(None, None)
            return
        rows, columns, kept = group.rows, self.plots.columns(), self._kept
        hour = [group.label] if group.period is not None else []
        self._of.setText(f"Waits for {' › '.join((*group.trail[:3], *hour))}")
        self._below.ask(
            lambda progress: (
                picture(scene, rows, BINS, columns, progress) if kept is None else kept.picture(group, BINS, progress)
            ),
            lambda found: self._show_picture(scene, found),
        )

    def _show_picture(self, scene: Scene, found: ApportionPicture) -> None:
        self.plots.show_picture(scene.evidence, found)
        if found.behind:
            self._of.setText(f"{self._of.text()}. {found.behind}")

    def _menu(self, place: QPoint) -> None:
        index = self.tree.indexAt(place)
        group = self.tree_model.group(index) if index.isValid() else None
        if group is None:
            return
        menu = QMenu(self.tree)
        address, _, port = (group.trail[1] if group.level >= 1 else "").rpartition(" ")
        cells = {0: ("application", group.trail[0]), 1: ("server", address), 2: ("client", group.trail[-1])}
        if (
            group.level == EXCHANGE
            and self._model.evidence is not None
            and (asked := self._model.evidence.label(int(group.trail[EXCHANGE])))
        ):
            cells[EXCHANGE] = ("label", asked)
        if group.level == EXCHANGE and self._model.evidence is not None:
            if asked := self._model.evidence.label(int(group.trail[EXCHANGE])):
                menu.addAction(
                    "All that waited longest for such a request", partial(self._across, "longest_behind", asked)
                )
                menu.addAction("All that such requests asked for", partial(self._across, "in_front", asked))
            for one in neighbours(self._model.evidence, int(group.trail[EXCHANGE])):
                menu.addAction(one.words, partial(self.exchange_wanted.emit, one.connection, one.first_ns))
        for text, expression in filters_of(cells.get(group.level)):
            menu.addAction(text, partial(self._model.narrow, expression))
        median_ms = group.median_ns / 1e6
        if group.rows.size:  # The filter and the table of the slowest are of packets.
            words = f"Above the median: wait_ms > {median_ms:.6g}"
            menu.addAction(words, lambda: self._model.narrow(above("wait_ms", median_ms)))
        evidence = self._model.evidence
        if group.level >= 3 and group.rows.size and evidence is not None:
            begun = int(evidence.waits.first_ns[group.rows[np.argmax(evidence.waits.wait_ns[group.rows])]])
            menu.addAction("The visit it belongs to", lambda: self.visit_wanted.emit(int(group.trail[3]), begun))
            if tiered_exchanges(evidence, int(group.trail[3])).size:
                menu.addAction("Its tiers", lambda: self.tiers_wanted.emit(int(group.trail[3]), begun))
        if 1 <= group.level <= 2 and not group.beside:
            client = group.trail[2] if group.level == 2 else ""
            kind, target = (
                ("reach", client)
                if client
                else ("connect", f"[{address}]:{port}" if ":" in address else f"{address}:{port}")
            )
            menu.addAction(f"Test now: {kind} {target}…", partial(self.test_wanted.emit, kind, target))
        menu.addSeparator()
        if group.level <= 1:
            menu.addAction(
                "Name this application…", lambda: self.name_wanted.emit(group.trail[0], address, int(port or 0))
            )
        for k in np.argsort(-group.charges)[:4].tolist():
            if group.charges[k] > 0 and group.rows.size:
                menu.addAction(f"Slowest exchanges by {causes.charge_name(k)}", partial(self.plots.choose_cause, k))
        menu.addSeparator()
        menu.addAction("Copy as text", lambda: QGuiApplication.clipboard().setText(self.tree.copied()))
        menu.exec(self.tree.viewport().mapToGlobal(place))

    def _across(self, column: str, label: str) -> None:
        """From a request to those in front of it or behind it, of whatever application."""
        focus = self._model.focus
        self._model.look(focus.with_trail(()).with_filter(only(column, label)))

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.plots.dress()
