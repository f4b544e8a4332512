"""The list of measures that Survey draws: name, what is counted, of which connections, how it is drawn."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from yaffle.desktop.shared.dialog_parts import ok_cancel, wrong_label
from yaffle.desktop.shared.filter_edit import FilterEdit
from yaffle.history.locked_database import FilterError
from yaffle.session.catalogue_values import BY_TITLE
from yaffle.session.filtering import Filter
from yaffle.session.measures import COUNTED, DEFAULT, MARKS, Measure

_MOST = 12
_SHOWN = 20


class MeasuresDialog(QDialog):
    """`measures` is what was chosen when it is accepted."""

    def __init__(
        self,
        measures: tuple[Measure, ...],
        table: Filter | None,
        parent: QWidget | None = None,
        kept: dict[str, list[str]] | None = None,
    ) -> None:
        """kept: measures of what a history keeps, each with what it can be of."""
        super().__init__(parent)
        self.setWindowTitle("Measures over time")
        self.resize(820, 360)
        self.measures = measures
        self._filter, self._kept = table, kept or {}
        self.table = QTableWidget(0, 5)
        self.table.setHorizontalHeaderLabels(["name", "measure", "filter or object", "drawn as", "unit"])
        self.table.verticalHeader().hide()
        self.table.horizontalHeader().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        for section, width in ((0, 150), (1, 170), (3, 90), (4, 70)):
            self.table.setColumnWidth(section, width)
        add, remove, usual = QPushButton("Add"), QPushButton("Remove"), QPushButton("Defaults")
        add.clicked.connect(lambda: self.add(Measure("", "volume")))
        remove.clicked.connect(self._remove)
        usual.clicked.connect(lambda: self._fill(DEFAULT))
        self._wrong = wrong_label()
        buttons = ok_cancel(self)
        row = QHBoxLayout()
        for part in (add, remove, usual):
            row.addWidget(part)
        row.addStretch(1)
        column = QVBoxLayout(self)
        column.addWidget(
            QLabel(
                "Each measure is drawn over the period in focus. A filter takes the same columns as the focus; measures"
                " of a history have an object instead: a host, a device or an interface."
            )
        )
        column.addWidget(self.table)
        column.addLayout(row)
        column.addWidget(self._wrong)
        column.addWidget(buttons)
        self._fill(measures)

    def _fill(self, measures: tuple[Measure, ...]) -> None:
        self.table.setRowCount(0)
        for measure in measures:
            self.add(measure)

    def add(self, measure: Measure) -> None:
        """One line more."""
        row = self.table.rowCount()
        if row >= _MOST:
            self._wrong.setText(f"More than {_MOST} measures cannot be read in one picture.")
            return
        self.table.insertRow(row)
        name = QLineEdit(measure.name)
        name.setPlaceholderText("as counted")
        counted, mark, unit = QComboBox(), QComboBox(), QTableWidgetItem(measure.unit)
        unit.setFlags(Qt.ItemFlag.ItemIsEnabled)
        text = FilterEdit(self._filter)
        text.setText(measure.of or measure.filter)
        for k, (key, (_, meaning)) in enumerate(COUNTED.items()):
            counted.addItem(key)
            counted.setItemData(k, meaning, Qt.ItemDataRole.ToolTipRole)
        for key in self._kept:
            if key not in COUNTED:
                counted.addItem(key)
                counted.setItemData(counted.count() - 1, BY_TITLE[key].words, Qt.ItemDataRole.ToolTipRole)
        counted.setCurrentText(measure.counted)
        counted.currentTextChanged.connect(lambda key: self._other(key, unit, text))
        mark.addItems(MARKS)
        mark.setCurrentText(measure.mark)
        for column, part in enumerate((name, counted, text, mark)):
            self.table.setCellWidget(row, column, part)
        self.table.setItem(row, 4, unit)
        self.table.setRowHeight(row, 30)
        self.table.selectRow(row)

    def _other(self, key: str, unit: QTableWidgetItem, text: QLineEdit) -> None:
        """Another measure: one that a history keeps is of something, the first there is unless told."""
        unit.setText(Measure("", key).unit)
        choices = self._kept.get(key, [])
        text.setToolTip("\n".join(choices[:_SHOWN]))
        if choices and text.text() not in choices:
            text.setText(choices[0])

    def _remove(self) -> None:
        row = self.table.currentRow()
        self.table.removeRow(row if row >= 0 else self.table.rowCount() - 1)

    def chosen(self) -> tuple[Measure, ...]:
        """What stands in the list."""
        found = []
        for row in range(self.table.rowCount()):
            cells = [self.table.cellWidget(row, column) for column in range(4)]
            name, text = (cell.text().strip() if isinstance(cell, QLineEdit) else "" for cell in cells[::2])
            counted, mark = (cell.currentText() if isinstance(cell, QComboBox) else "" for cell in cells[1::2])
            kept = Measure("", counted).is_kept
            found.append(Measure(name or counted, counted, "" if kept else text, mark, text if kept else ""))
        return tuple(found)

    def accept(self) -> None:
        """Takes the list, if every filter in it can be used."""
        for measure in self.chosen():
            if measure.is_kept and self._kept.get(measure.counted) and measure.of not in self._kept[measure.counted]:
                self._wrong.setText(
                    f"{measure.name}: choose an object, one of {', '.join(self._kept[measure.counted][:_SHOWN])}"
                )
                return
            if measure.filter and self._filter is not None:
                try:
                    self._filter.rows(measure.filter)
                except FilterError as error:
                    self._wrong.setText(f"{measure.name}: {error}")
                    return
        self.measures = self.chosen() or DEFAULT
        super().accept()
