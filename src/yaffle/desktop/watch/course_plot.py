"""A watched member over time: its measure, its limit, when it was raised, when it was answered."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt

from yaffle.desktop.shared import theme
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.session.watching import Course
from yaffle.watching.event_words import what
from yaffle.watching.states import RAISED
from yaffle.watching.watch import ABOVE, BELOW


def draw_course(plot: Plot, found: Course, first_ns: int, last_ns: int) -> None:
    """Draws it over a period, instead of what the plot showed."""
    plot.getPlotItem().clear()
    look, row = theme.current(), found.row
    seconds = (found.times_ns - first_ns) / 1e9
    for low, high, state in row.stretches:
        color = pg.mkColor(look.red if state == RAISED else look.faint)
        color.setAlpha(38)
        ends = ((low - first_ns) / 1e9, (high - first_ns) / 1e9)
        region = pg.LinearRegionItem(ends, movable=False, brush=color, pen=pg.mkPen(None))
        plot.addItem(region, ignoreBounds=True)
    plot.plot(seconds, found.values, pen=pg.mkPen(look.moss, width=1.3), connect="finite")
    top = float(np.nanmax(found.values)) if np.isfinite(found.values).any() else 1.0
    keys = [Key(what(row.watch), look.moss), Key("raised", look.red, Mark.SQUARE)]
    if row.watch.rule in (ABOVE, BELOW):
        top = max(top, row.watch.limit)
        plot.addItem(pg.InfiniteLine(row.watch.limit, 0, pen=pg.mkPen(look.ink, style=Qt.PenStyle.DashLine)))
        keys.append(Key("limit", look.ink, Mark.DASHED))
    if found.marks:
        at = np.array([(one.time_ns - first_ns) / 1e9 for one in found.marks])
        plot.plot(at, np.full(at.size, top * 1.04), pen=None, symbol="t", symbolSize=9, symbolBrush=look.ink,
                  symbolPen=None)  # fmt: skip
        keys.append(Key("response or its effect", look.ink, Mark.TRIANGLE))
    plot.set_quantity(f"{what(row.watch)} of {row.subject}", row.watch.unit)
    plot.set_keys(*keys)
    plot.axis.base_ns = first_ns
    plot.axis.picture = None
    plot.setXRange(0, max(1e-3, (last_ns - first_ns) / 1e9), padding=0)
    plot.setYRange(0, max(top, 1e-6) * 1.1, padding=0)
