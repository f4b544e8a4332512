"""Preferences: theme, letters, zone, units, thresholds."""

import zoneinfo
from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QCompleter,
    QDialog,
    QDoubleSpinBox,
    QFormLayout,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from yaffle.desktop.shared.dialog_parts import ok_cancel
from yaffle.session.preferences import Preferences


class PreferencesDialog(QDialog):
    """`preferences` is what was chosen when it is accepted."""

    def __init__(self, preferences: Preferences, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Preferences")
        self.preferences = preferences
        self.theme, self.zone, self.rates = QComboBox(), QComboBox(), QComboBox()
        self.theme.addItems(["light", "dark"])
        self.theme.setCurrentText(preferences.theme)
        zones = ["UTC", *sorted(zoneinfo.available_timezones() - {"UTC"})]
        self.zone.setEditable(True)
        self.zone.addItems(zones)
        self.zone.setCurrentText(preferences.zone)
        completer = QCompleter(zones, self)
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        completer.setFilterMode(Qt.MatchFlag.MatchContains)
        self.zone.setCompleter(completer)
        self.rates.addItems(["bit/s", "byte/s"])
        self.rates.setCurrentIndex(int(preferences.octet_rates))
        self.points = QSpinBox()
        self.points.setRange(0, 32)
        self.points.setSpecialValueText("as the desktop")
        self.points.setSuffix(" pt")
        self.points.setValue(preferences.font_points)
        self.silence = QDoubleSpinBox()
        self.silence.setRange(0.001, 3_600_000)
        self.silence.setDecimals(3)
        self.silence.setSuffix(" ms")
        self.silence.setValue(preferences.silence_ms)
        form = QFormLayout()
        form.addRow("Theme", self.theme)
        form.addRow("Font size", self.points)
        form.addRow("Times are shown in", self.zone)
        form.addRow("Rates are shown in", self.rates)
        form.addRow("Silences are listed from", self.silence)
        buttons = ok_cancel(self)
        column = QVBoxLayout(self)
        column.addLayout(form)
        column.addWidget(buttons)

    def accept(self) -> None:
        """Takes what was chosen."""
        points = self.points.value()
        self.preferences = replace(
            self.preferences,
            theme=self.theme.currentText(),
            zone=self.zone.currentText() if self.zone.findText(self.zone.currentText()) >= 0 else self.preferences.zone,
            font_points=points if points == 0 or points >= 6 else 6,
            octet_rates=self.rates.currentIndex() == 1,
            silence_ms=self.silence.value(),
        )
        super().accept()
