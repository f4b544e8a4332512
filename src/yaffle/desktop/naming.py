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
        self.table = QTableWidget(0, 4)
        self.table.setHorizontalHeaderLabels(["name", "server (empty: any)", "port (empty: any)", "host name (empty: any)"])
        self.table.verticalHeader().hide()
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        if server or port:
            self.add(Rule(application, server, port))
        elif application.startswith("port ") and application[5:].isdigit():
            self.add(Rule(application, port=int(application[5:])))
        elif "." in application:
            self.add(Rule(application, host=application))
        for rule in rules:
            self.add(rule)
        add, remove = QPushButton("Add"), QPushButton("Remove")
        add.clicked.connect(lambda: self.add(Rule("")))
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

    def add(self, rule: Rule) -> None:
        """One line more."""
        row = self.table.rowCount()
        self.table.insertRow(row)
        for column, text in enumerate((rule.name, rule.server, str(rule.port or ""), rule.host)):
            self.table.setItem(row, column, QTableWidgetItem(text))
        self.table.setCurrentCell(row, 0)

    def _entered(self) -> tuple[Rule, ...]:
        """The rules of the list. Raises ValueError with words for the user."""
        found = []
        for row in range(self.table.rowCount()):
            name, server, port, host = (self.table.item(row, k).text().strip() if self.table.item(row, k) else "" for k in range(4))
            if not (name or server or port or host):
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
            if not (server or port or host):
                raise ValueError(f"“{name}” needs a server, a port or a host name")
            found.append(Rule(name, server, int(port or 0), host.lower()))
        return tuple(found)

    def accept(self) -> None:
        """Takes the list, if it makes sense."""
        try:
            self.rules = self._entered()
        except ValueError as error:
            self._wrong.setText(str(error))
            return
        super().accept()
