"""The highest hours of flow records: what made them, and the complaints of that time."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.session.peaks import Peak
from yaffle.units import date_and_moment, rate, share


class PeaksPanel(QWidget):
    """`entered` carries the period of a peak."""

    entered = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._peaks: list[Peak] = []
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.table = Listing("Highest hours")
        self.model = self.table.columns
        self.table.setToolTip("Enter looks at that hour")
        self.table.entered.connect(self._enter)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.words)
        column.addWidget(self.table, 1)
        self.show_peaks([])

    def show_peaks(self, peaks: list[Peak]) -> None:
        """Shows other peaks."""
        self._peaks = peaks
        self.words.setText(
            "Hours that were higher than those beside them, highest first, with the pair and the application that"
            " carried most, and complaints of about that time."
            if peaks
            else (
                "No flow records here: open a capture, a capture of export traffic, or a history, and its highest hours"
                " stand here with what made them."
            )
        )
        red = theme.current().red
        self.table.show_columns(
            [
                Column(
                    "hour",
                    lambda r: date_and_moment(peaks[r].first_ns)[:16],
                    [p.first_ns for p in peaks],
                    figures=False,
                ),
                Column("at", lambda r: peaks[r].exporter, [p.exporter for p in peaks], figures=False),
                Column("mean", lambda r: rate(peaks[r].bits_per_s), [p.bits_per_s for p in peaks]),
                Column("top conversation", lambda r: peaks[r].pair, [p.pair for p in peaks], figures=False),
                Column("share", lambda r: share(peaks[r].pair_share), [p.pair_share for p in peaks]),
                Column("application", lambda r: peaks[r].application, [p.application for p in peaks], figures=False),
                Column(
                    "complaints",
                    lambda r: "; ".join(f"⚑ {c.who}: {c.words}" for c in peaks[r].complaints) or "–",
                    [len(p.complaints) for p in peaks],
                    figures=False,
                    color=lambda r: red if peaks[r].complaints else None,
                ),
            ],
            len(peaks),
            ((0, 122), (1, 170), (2, 84), (3, 220), (4, 56), (5, 100)),
            wide=6,
        )

    def _enter(self, row: int) -> None:
        if row < len(self._peaks):
            self.entered.emit((self._peaks[row].first_ns, self._peaks[row].last_ns))
