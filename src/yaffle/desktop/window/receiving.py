"""Receiving flow records from the window: what to listen on and where to keep it, done by a process of its own."""

from pathlib import Path

import platformdirs
from PySide6.QtWidgets import QDialog, QFormLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from yaffle.desktop.shared.dialog_parts import ok_cancel, wrong_label
from yaffle.desktop.window.long_command import Long
from yaffle.history.layout import is_history

LISTEN = Long("listen", is_history, "Receiving has ended; what came is kept.")


def ports_of(text: str) -> list[int]:
    """Ports as people list them. Raises ValueError with words for the user."""
    found = []
    for word in text.replace(",", " ").split():
        if not (word.isdigit() and int(word) < 65536):
            raise ValueError(f"“{word}” is not a port: 1 to 65535")
        found.append(int(word))
    return found


class ReceiveDialog(QDialog):
    """`kept_in` is where to keep it, `arguments` what to listen with, when it is accepted."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Receive flow records")
        self.resize(520, 240)
        self.arguments: list[str] = []
        self.kept_in = Path()
        self.folder, self.udp, self.tcp, self.bind = (
            QLineEdit(text)
            for text in (str(platformdirs.user_data_path("yaffle") / "history"), "2055, 4739, 6343", "", "127.0.0.1")
        )
        self.udp.setToolTip("NetFlow v5 and v9, IPFIX and sFlow v5, on any of them")
        self.tcp.setToolTip("IPFIX over TCP")
        self.bind.setToolTip("Only this host is listened to; give an address of an interface, or 0.0.0.0, for others")
        form = QFormLayout()
        for name, part in (
            ("Keep in", self.folder),
            ("UDP ports", self.udp),
            ("TCP ports", self.tcp),
            ("On address", self.bind),
        ):
            form.addRow(name, part)
        self._wrong = wrong_label()
        buttons = ok_cancel(self)
        column = QVBoxLayout(self)
        column.addWidget(
            QLabel("Records are kept for months in this folder; the same as yaffle listen, until the window closes.")
        )
        column.addLayout(form)
        column.addWidget(self._wrong)
        column.addWidget(buttons)

    def accept(self) -> None:
        """Takes what was entered, if it makes sense."""
        try:
            udp, tcp = ports_of(self.udp.text()), ports_of(self.tcp.text())
            if not udp and not tcp:
                raise ValueError("give at least one port")
            if not self.folder.text().strip():
                raise ValueError("give a folder to keep the records in")
        except ValueError as error:
            self._wrong.setText(str(error))
            return
        self.kept_in = Path(self.folder.text().strip())
        self.arguments = ["--history", self.folder.text().strip(), "--bind", self.bind.text().strip()]
        self.arguments += [
            part for kind, ports in (("--udp", udp), ("--tcp", tcp)) for port in ports for part in (kind, str(port))
        ]
        super().accept()
