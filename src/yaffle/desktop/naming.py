"""The user's own names of applications: by server, by port, or both."""

import ipaddress

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QHBoxLayout, QHeaderView, QLabel, QPushButton, QTableWidget, QTableWidgetItem, QVBoxLayout, QWidget

from yaffle.findings.places import Rule


class NamingDialog(QDialog):
    """`rules` is what was entered when it is accepted; the first that fits counts."""

    def __init__(self, rules: tuple[Rule, ...], application: str, server: str, port: int, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Names of applications")
        self.resize(560, 300)
        self.rules = rules
        self.table = QTableWidget(0, 3)
        self.table.setHorizontalHeaderLabels(["name", "server (empty: any)", "port (empty: any)"])
        self.table.verticalHeader().hide()
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        if server or port:
            self.add(application, server, port)
        elif application.startswith("port ") and application[5:].isdigit():
            self.add(application, "", int(application[5:]))
        for rule in rules:
            self.add(rule.name, rule.server, rule.port)
        add, remove = QPushButton("Add"), QPushButton("Remove")
        add.clicked.connect(lambda: self.add("", "", 0))
        remove.clicked.connect(lambda: self.table.removeRow(self.table.currentRow()))
        self._wrong = QLabel()
        self._wrong.setObjectName("wrong")
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        row = QHBoxLayout()
        row.addWidget(add)
        row.addWidget(remove)
        row.addStretch(1)
        column = QVBoxLayout(self)
        column.addWidget(QLabel("What runs at a server or port is called so everywhere in this case. The first line that fits counts."))
        column.addWidget(self.table)
        column.addLayout(row)
        column.addWidget(self._wrong)
        column.addWidget(buttons)

    def add(self, name: str, server: str, port: int) -> None:
        """One line more."""
        row = self.table.rowCount()
        self.table.insertRow(row)
        for column, text in enumerate((name, server, str(port) if port else "")):
            self.table.setItem(row, column, QTableWidgetItem(text))
        self.table.setCurrentCell(row, 0)

    def _entered(self) -> tuple[Rule, ...]:
        """The rules of the list. Raises ValueError with words for the user."""
        found = []
        for row in range(self.table.rowCount()):
            name, server, port = (self.table.item(row, k).text().strip() if self.table.item(row, k) else "" for k in range(3))
            if not name and not server and not port:
                continue
            if not name:
                raise ValueError(f"line {row + 1} has no name")
            if server:
                try:
                    server = str(ipaddress.ip_address(server))
                except ValueError:
                    raise ValueError(f"“{server}” is not an address") from None
            if port and not (port.isdigit() and 0 < int(port) < 65536):
                raise ValueError(f"“{port}” is not a port: 1 to 65535")
            if not server and not port:
                raise ValueError(f"“{name}” needs a server or a port")
            found.append(Rule(name, server, int(port or 0)))
        return tuple(found)

    def accept(self) -> None:
        """Takes the list, if it makes sense."""
        try:
            self.rules = self._entered()
        except ValueError as error:
            self._wrong.setText(str(error))
            return
        super().accept()
