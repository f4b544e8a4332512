"""What the traffic is made of: one ranked list, by a dimension of choice, with a way down into each line and back."""

from collections.abc import Callable

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QButtonGroup, QCheckBox, QHBoxLayout, QLabel, QToolButton, QVBoxLayout, QWidget

from yaffle.desktop.shared.bars import ShareBar, Trend
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.session.make_up import DIMENSIONS, NEXT, Part
from yaffle.units import count, share, size

_DECADES = 1000.0  # Largest to least from which bars are drawn by magnitude.


class MakeUpPanel(QWidget):
    """Asks for another make-up by `wanted`; what is shown comes from outside."""

    wanted = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.by = DIMENSIONS[0]
        self.inside: tuple[tuple[str, str], ...] = ()
        self._parts: list[Part] = []
        self.table = Listing("What the traffic is made of")
        self.model = self.table.columns
        self._bars, self._trends = ShareBar(self), Trend(self)
        self.table.setItemDelegateForColumn(1, self._bars)
        self.table.setItemDelegateForColumn(4, self._trends)
        self.table.entered.connect(self.down)
        self.table.left.connect(self.back)
        self.table.setToolTip("Enter drills down, Backspace goes back")
        self.choice = QButtonGroup(self)
        row = QHBoxLayout()
        row.setSpacing(1)
        for k, name in enumerate(DIMENSIONS):
            button = QToolButton()
            button.setText(name)
            button.setObjectName("small")
            button.setCheckable(True)
            button.setChecked(k == 0)
            button.setToolTip(f"Traffic by {name}")
            self.choice.addButton(button, k)
            row.addWidget(button)
        self.choice.idClicked.connect(lambda k: self._choose(DIMENSIONS[k]))
        row.addStretch(1)
        self.magnitude = QCheckBox("log scale")
        self.magnitude.setToolTip("Bars on a logarithmic scale")
        self.magnitude.toggled.connect(self._scale)
        self._where = QLabel()
        self._where.setObjectName("faint")
        self._back = QToolButton()
        self._back.setText("back")
        self._back.setToolTip("Up one level (Backspace)")
        self._back.clicked.connect(self.back)
        way = QHBoxLayout()
        way.addWidget(self._where, 1)
        way.addWidget(self.magnitude)
        way.addWidget(self._back)
        column = QVBoxLayout(self)
        column.setContentsMargins(2, 2, 2, 2)
        column.setSpacing(3)
        column.addLayout(row)
        column.addLayout(way)
        column.addWidget(self.table, 1)
        self._say_where()

    def show_parts(self, parts: list[Part]) -> None:
        """Shows another make-up."""
        self._parts = parts
        self._bars.values, self._trends.trends = [float(p.octets) for p in parts], [p.trend for p in parts]
        columns = [
            Column(
                self.by,
                lambda r: parts[r].label,
                [p.label for p in parts],
                figures=False,
                condition=lambda r: parts[r].where,
            ),
            Column("share", lambda r: share(parts[r].share), [p.share for p in parts]),
            Column("bytes", lambda r: size(parts[r].octets), [p.octets for p in parts]),
            Column("packets", lambda r: count(parts[r].packets), [p.packets for p in parts]),
            Column("trend", lambda r: "", figures=False, meaning="over the period, each row scaled separately"),
        ]
        if self.by == "application":
            columns.append(
                Column(
                    "name source",
                    lambda r: parts[r].told,
                    figures=False,
                    meaning="where the name comes from, or why there is none",
                )
            )
        self.table.show_columns(columns, len(parts), ((1, 88), (4, 60)))
        values = [p.octets for p in parts if p.octets > 0]
        wide = bool(values) and max(values) > _DECADES * min(values)
        self.magnitude.setEnabled(bool(values))
        if wide != self.magnitude.isChecked() and not self._touched:
            self._quietly(lambda: self.magnitude.setChecked(wide))
        self._bars.by_magnitude = self.magnitude.isChecked()
        self._say_where()

    _touched = False

    def _quietly(self, change: Callable[[], None]) -> None:
        self.magnitude.blockSignals(True)
        change()
        self.magnitude.blockSignals(False)

    def _scale(self, by_magnitude: bool) -> None:
        self._touched = True
        self._bars.by_magnitude = by_magnitude
        self.table.viewport().update()

    def _choose(self, by: str) -> None:
        if by != self.by:
            self.by = by
            self.wanted.emit()

    def down(self, row: int) -> None:
        """Into a line: what it is made of, by the next dimension."""
        if row >= len(self._parts) or len(self.inside) >= 4:
            return
        self.inside = (*self.inside, (self.by, self._parts[row].label))
        taken = {by for by, _ in self.inside}
        nearest = NEXT[self.by]
        self.by = nearest if nearest not in taken else next(d for d in DIMENSIONS if d not in taken)
        self._press()

    def back(self) -> None:
        """Out of the last line entered."""
        if self.inside:
            self.by = self.inside[-1][0]
            self.inside = self.inside[:-1]
            self._press()

    def _press(self) -> None:
        self.choice.button(DIMENSIONS.index(self.by)).setChecked(True)
        self.wanted.emit()

    def _say_where(self) -> None:
        self._where.setText(
            "within " + " › ".join(label for _, label in self.inside)
            if self.inside
            else "all traffic; Enter drills down"
        )
        self._back.setVisible(bool(self.inside))
