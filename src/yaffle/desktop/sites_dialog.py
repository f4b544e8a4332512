"""The user's own names of address ranges: sites."""

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QHBoxLayout, QHeaderView, QLabel, QPushButton, QTableWidget, QTableWidgetItem, QVBoxLayout, QWidget

from yaffle.findings.places import Site


class SitesDialog(QDialog):
    """`sites` is what was entered when it is accepted; the narrowest range that holds an address counts."""

    def __init__(self, sites: tuple[Site, ...], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Sites")
        self.resize(460, 300)
        self.sites = sites
        self.table = QTableWidget(0, 2)
        self.table.setHorizontalHeaderLabels(["name", "range, as 198.51.100.0/24"])
        self.table.verticalHeader().hide()
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        for site in sites:
            self.add(site)
        add, remove = QPushButton("Add"), QPushButton("Remove")
        add.clicked.connect(lambda: self.add(Site("", "")))
        remove.clicked.connect(lambda: self.table.removeRow(self.table.currentRow()))
        self._wrong = QLabel()
        self._wrong.setObjectName("wrong")
        self._wrong.setWordWrap(True)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        row = QHBoxLayout()
        row.addWidget(add)
        row.addWidget(remove)
        row.addStretch(1)
        column = QVBoxLayout(self)
        column.addWidget(QLabel("Hosts in a range belong to its site everywhere in this case; several ranges may have one name."))
        column.addWidget(self.table)
        column.addLayout(row)
        column.addWidget(self._wrong)
        column.addWidget(buttons)

    def add(self, site: Site) -> None:
        """One line more."""
        row = self.table.rowCount()
        self.table.insertRow(row)
        for column, text in enumerate((site.name, site.network)):
            self.table.setItem(row, column, QTableWidgetItem(text))
        self.table.setCurrentCell(row, 0)

    def _entered(self) -> tuple[Site, ...]:
        """The sites of the list. Raises ValueError with words for the user."""
        found = []
        for row in range(self.table.rowCount()):
            name, network = (self.table.item(row, k).text().strip() if self.table.item(row, k) else "" for k in range(2))
            if not (name or network):
                continue
            if not name:
                raise ValueError(f"line {row + 1} has no name")
            site = Site(name, network)
            try:
                _ = site.range
            except ValueError:
                raise ValueError(f"“{network}” is not a range of addresses: write for example 198.51.100.0/24") from None
            found.append(site)
        return tuple(found)

    def accept(self) -> None:
        """Takes the list, if it makes sense."""
        try:
            self.sites = self._entered()
        except ValueError as error:
            self._wrong.setText(str(error))
            return
        super().accept()
