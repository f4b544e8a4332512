"""A complaint as it comes in: who, what, when, in which words."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QFormLayout, QLineEdit, QPlainTextEdit, QVBoxLayout, QWidget

from yaffle.desktop.shared.dialog_parts import ok_cancel, wrong_label
from yaffle.session.kept import Complaint
from yaffle.session.period_words import EXAMPLES, PeriodError, period_ns
from yaffle.units import date_and_moment, zone


class ComplaintDialog(QDialog):
    """`complaint` is what was entered when it is accepted."""

    removed = Signal()

    def __init__(
        self,
        whole: tuple[int, int],
        period: tuple[int, int] | None,
        former: Complaint | None,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Complaint")
        self.resize(460, 300)
        self._whole = whole
        self.complaint: Complaint | None = former
        self.who, self.what, self.when, self.words = QLineEdit(), QLineEdit(), QLineEdit(), QPlainTextEdit()
        self.who.setPlaceholderText("a person, a site, a host: Northpoint, desk-3")
        self.what.setPlaceholderText("an application or what was done: ticket desk")
        self.when.setPlaceholderText(EXAMPLES)
        self.words.setPlaceholderText("as it was said")
        if former is not None:
            self.who.setText(former.who)
            self.what.setText(former.what)
            self.words.setPlainText(former.words)
            period = (former.first_ns, former.last_ns)
        if period is not None:
            self.when.setText(f"{date_and_moment(period[0])} to {date_and_moment(period[1])}")
        self._wrong = wrong_label()
        form = QFormLayout()
        for name, part in (("Who", self.who), ("What", self.what), ("When", self.when), ("Words", self.words)):
            form.addRow(name, part)
        buttons = ok_cancel(self)
        if former is not None:
            remove = buttons.addButton("Remove", QDialogButtonBox.ButtonRole.DestructiveRole)
            remove.clicked.connect(self._remove)
        column = QVBoxLayout(self)
        column.addLayout(form)
        column.addWidget(self._wrong)
        column.addWidget(buttons)

    def _remove(self) -> None:
        self.removed.emit()
        self.reject()

    def accept(self) -> None:
        """Takes what was entered, if the time can be understood."""
        try:
            period = period_ns(self.when.text(), *self._whole, zone()) or self._whole
        except PeriodError as error:
            self._wrong.setText(str(error))
            return
        self.complaint = Complaint(
            self.who.text().strip(), self.what.text().strip(), self.words.toPlainText().strip(), *period
        )
        super().accept()
