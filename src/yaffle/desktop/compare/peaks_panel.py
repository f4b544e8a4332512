"""The highest hours of a measure: what made them, and the complaints of that time."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.survey.measure_plots import value_text
from yaffle.session.peaks import Peak
from yaffle.units import date_and_moment, duration, share


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
            "Peak hours of the measure selected under baseline, highest first, with the top conversation where flow"
            " records cover it, and complaints of that time."
            if peaks
            else (
                "No peaks here: select a measure under baseline; its peak hours are listed here with the top"
                " conversation and the complaints of that time."
            )
        )
        red = theme.current().red
        made = _made_by(peaks)
        self.table.show_columns(
            [
                Column(
                    "hour",
                    lambda r: date_and_moment(peaks[r].first_ns)[:16],
                    [p.first_ns for p in peaks],
                    figures=False,
                ),
                Column("at", lambda r: peaks[r].at, [p.at for p in peaks], figures=False),
                Column("value", lambda r: value_text(peaks[r].value, peaks[r].unit), [p.value for p in peaks]),
                Column(
                    "duration",
                    lambda r: duration(peaks[r].lasted_ns),
                    [p.lasted_ns for p in peaks],
                    meaning="time within 10 % of the peak",
                ),
                *made,
                Column(
                    "complaints",
                    lambda r: "; ".join(f"⚑ {c.who}: {c.words}" for c in peaks[r].complaints) or "–",
                    [len(p.complaints) for p in peaks],
                    figures=False,
                    color=lambda r: red if peaks[r].complaints else None,
                ),
            ],
            len(peaks),
            ((0, 116), (1, 150 if made else 240), (2, 76), (3, 60), *(((4, 190), (5, 50), (6, 90)) if made else ())),
            wide=4 + len(made),
        )

    def _enter(self, row: int) -> None:
        if row < len(self._peaks):
            self.entered.emit((self._peaks[row].first_ns, self._peaks[row].last_ns))


def _made_by(peaks: list[Peak]) -> list[Column]:
    """Who carried most at each peak; no columns where no flow record covers any of them."""
    if not any(p.pair for p in peaks):
        return []
    return [
        Column("top conversation", lambda r: peaks[r].pair, [p.pair for p in peaks], figures=False),
        Column("share", lambda r: share(peaks[r].pair_share) if peaks[r].pair else "", [p.pair_share for p in peaks]),
        Column("application", lambda r: peaks[r].application, [p.application for p in peaks], figures=False),
    ]
