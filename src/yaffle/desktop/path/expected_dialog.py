"""The user's rules: which marking an application's packets should bear."""

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from yaffle.desktop.shared.list_dialog import ListDialog
from yaffle.inventory.expected_markings import Expected, code_point


class ExpectedDialog(ListDialog):
    """`rules` is what was entered when it is accepted."""

    def __init__(self, rules: tuple[Expected, ...], applications: list[str], parent: QWidget | None = None) -> None:
        words = "Packets of an application with another DSCP become findings, with the place where they are re-marked."
        super().__init__(
            "Expected DSCP", words, ["application, or voice, or video", "DSCP: EF, AF41 or 46"], 520, parent
        )
        self.rules = rules
        for rule in rules:
            self.add(rule)
        self._names = QComboBox()
        self._names.addItems(applications)
        self._names.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self._names.setMinimumContentsLength(26)
        take = QPushButton("Take")
        take.setToolTip("A line for this application")
        take.clicked.connect(lambda: self.add_line([self._names.currentText(), ""]))
        row = QHBoxLayout()
        row.addWidget(QLabel("seen here"))
        row.addWidget(self._names, 1)
        row.addWidget(take)
        layout = self.layout()
        assert isinstance(layout, QVBoxLayout)
        layout.insertLayout(2, row)

    def add(self, rule: Expected) -> None:
        """One line more."""
        self.add_line([rule.application, rule.marking.partition(",")[0]])

    def take(self) -> None:
        found: dict[str, Expected] = {}
        for number, (name, text) in self.lines():
            if not name:
                raise ValueError(f"line {number} has no application")
            if name in found:
                raise ValueError(f"“{name}” stands twice")
            found[name] = Expected(name, code_point(text))
        self.rules = tuple(found.values())
