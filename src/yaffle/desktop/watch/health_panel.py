"""Chosen sets of flows in both directions: which are degraded, for how long, and by which part."""

import numpy as np
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.session.flow_health import HealthPicture, HealthRow
from yaffle.units import duration, share

_NONE = (
    "No set of flows is chosen. A [[flow_set]] in the collector's configuration, as where = \"site = 'Saltmarsh'\","
    " tells here how it fares in both directions, and whether its near end, the path or its far end is at fault."
)


class HealthPanel(QWidget):
    """A row a set and direction."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.picture: HealthPicture | None = None
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.table = Listing("Sets of flows")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.words)
        column.addWidget(self.table, 1)
        self.show_picture(None)

    def show_picture(self, picture: HealthPicture | None) -> None:
        """Shows another picture."""
        self.picture = picture
        rows = picture.rows if picture is not None else []
        self.table.setVisible(bool(rows))
        self.words.setText(
            f"Network at fault: {picture.fault.fault}. {picture.fault.words[:1].upper()}{picture.fault.words[1:]}."
            if picture is not None
            else _NONE
        )
        red = theme.current().red
        self.table.show_columns(
            [
                Column("set", lambda r: rows[r].of.name, [one.of.name for one in rows], figures=False),
                Column("direction", lambda r: _ends(rows[r]), figures=False),
                Column(
                    "now",
                    lambda r: rows[r].words,
                    [one.words for one in rows],
                    figures=False,
                    color=lambda r: red if rows[r].way.now else None,
                ),
                Column("degraded for", lambda r: _lasted(rows[r]), [_part(one) for one in rows]),
                Column("retransmissions", lambda r: _last(rows[r].way.retransmitted_percent, "%"),
                       meaning="retransmitted packets in the last interval that was told of"),
                Column("delay", lambda r: _last(rows[r].way.delay_ms, "ms"),
                       meaning="RTT; of kept waits the network delay of an exchange"),
                Column("median", lambda r: _figure(rows[r].way.median_ms, "ms")),
                Column("why", lambda r: _why(rows[r]), figures=False),
            ],
            len(rows),
            ((0, 170), (1, 190), (2, 70), (3, 130), (4, 104), (5, 66), (6, 66)),
            wide=7,
        )  # fmt: skip


def _why(row: HealthRow) -> str:
    return row.verdict.words if row.verdict is not None else ""


def _ends(row: HealthRow) -> str:
    near, far = row.way.near or "?", row.way.far or "?"
    return f"{near} → {far}"


def _part(row: HealthRow) -> float:
    known = ~np.isnan(row.way.degraded)
    return float(np.nanmean(row.way.degraded)) if known.any() else -1.0


def _lasted(row: HealthRow) -> str:
    part = _part(row)
    if part < 0:
        return "unknown"
    return f"{duration(int(np.nansum(row.way.degraded)) * row.of.over_ns)} ({share(part)})" if part else "–"


def _last(values: np.ndarray, unit: str) -> str:
    known = np.flatnonzero(np.isfinite(values))
    return _figure(float(values[known[-1]]), unit) if known.size else "–"


def _figure(value: float, unit: str) -> str:
    return f"{value:.3g} {unit}" if np.isfinite(value) else "–"
