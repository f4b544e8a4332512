"""A ticket says a day, an hour, perhaps a port: straight to that moment."""

from PySide6.QtWidgets import QDialog, QFormLayout, QLineEdit, QVBoxLayout, QWidget

from yaffle.desktop.shared.dialog_parts import ok_cancel, wrong_label
from yaffle.session.period_words import EXAMPLES, PeriodError, period_ns
from yaffle.units import zone


class TicketDialog(QDialog):
    """`period` and `port` (0: any) are what was entered when it is accepted."""

    def __init__(self, whole: tuple[int, int], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Go to a ticket's moment")
        self.resize(420, 150)
        self._whole = whole
        self.period, self.port = whole, 0
        self.when, self.port_text = QLineEdit(), QLineEdit()
        self.when.setPlaceholderText("2026-03-03 08:40 +- 10 min")
        self.when.setToolTip(EXAMPLES)
        self.port_text.setPlaceholderText("any")
        self._wrong = wrong_label()
        form = QFormLayout()
        form.addRow("When", self.when)
        form.addRow("Port of the server", self.port_text)
        buttons = ok_cancel(self)
        column = QVBoxLayout(self)
        column.addLayout(form)
        column.addWidget(self._wrong)
        column.addWidget(buttons)

    def accept(self) -> None:
        """Takes what was entered, if it can be understood."""
        text = self.port_text.text().strip()
        try:
            self.period = period_ns(self.when.text(), *self._whole, zone()) or self._whole
            if text and not (text.isdigit() and 0 < int(text) < 65536):
                raise PeriodError(f"“{text}” is not a port: 1 to 65535")
        except PeriodError as error:
            self._wrong.setText(str(error))
            return
        self.port = int(text or 0)
        super().accept()
