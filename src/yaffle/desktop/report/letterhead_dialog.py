"""What stands above every report: logo, address, and the order of sections where a case says nothing else."""

from dataclasses import replace
from pathlib import Path

from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from yaffle.desktop.shared.dialog_parts import ok_cancel, wrong_label
from yaffle.errors import YaffleError
from yaffle.report.plan import Letterhead
from yaffle.session.letterhead import with_logo


class LetterheadDialog(QDialog):
    """`letterhead` is what the user chose."""

    def __init__(self, letterhead: Letterhead, order: tuple[str, ...], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Letterhead of your reports")
        self._letterhead, self._order = letterhead, order
        self.logo = QLabel()
        choose, remove = QPushButton("Choose…"), QPushButton("Remove")
        choose.clicked.connect(self.choose)
        remove.clicked.connect(lambda: self.take_logo(None))
        row = QHBoxLayout()
        row.addWidget(self.logo, 1)
        row.addWidget(choose)
        row.addWidget(remove)
        self.address = QPlainTextEdit(letterhead.address)
        self.address.setTabChangesFocus(True)
        self.address.setFixedHeight(90)
        self.same_order = QCheckBox("Sections of all reports stand in the order of this one")
        self.same_order.setChecked(bool(letterhead.order) and letterhead.order == order)
        self.same_order.setEnabled(bool(order) or bool(letterhead.order))
        self._wrong = wrong_label()
        form = QFormLayout()
        form.addRow("logo", row)
        form.addRow("address", self.address)
        column = QVBoxLayout(self)
        column.addWidget(QLabel("It is kept with your preferences, not with the case."))
        column.addLayout(form)
        column.addWidget(self.same_order)
        column.addWidget(self._wrong)
        column.addWidget(ok_cancel(self))
        self.resize(460, 280)
        self._say()

    @property
    def letterhead(self) -> Letterhead:
        """As it stands in the dialog."""
        order = (self._order or self._letterhead.order) if self.same_order.isChecked() else ()
        return replace(self._letterhead, address=self.address.toPlainText().strip(), order=order)

    def choose(self) -> None:
        """Asks for a picture."""
        path, _ = QFileDialog.getOpenFileName(self, "Logo", "", "Pictures (*.png *.jpg *.jpeg)")
        if path:
            self.take_logo(Path(path))

    def take_logo(self, path: Path | None) -> None:
        """Takes a picture, or none; says what is wrong with it."""
        try:
            self._letterhead = with_logo(self._letterhead, path)
            self._wrong.setText("")
        except YaffleError as error:
            self._wrong.setText(str(error))
        self._say()

    def _say(self) -> None:
        self.logo.setText("one is chosen" if self._letterhead.logo else "none")
