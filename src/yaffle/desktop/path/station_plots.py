"""One station over time: signal and noise with its moves, retries, data rate, and what came by it."""

import math

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt

from yaffle.arrays import Array
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.shared.plot_head import Key, Mark
from yaffle.desktop.shared.plots import Plot
from yaffle.radio.frames import address_text
from yaffle.radio.moves import Roam
from yaffle.session.radio_course import StationCourse
from yaffle.units import duration, moment, share

_LEAST_SHARE, _LEAST_BPS = 0.001, 1e6  # that are shown
_NAMES_PX, _LEAST_PX = 26, 60  # below all that is drawn, for the names of moves; of a plot that is not laid out yet
_ROOM = 0.12  # of the period, that the name of a move takes
_LEAST_S = 1e-4  # of waits, from which on decades are drawn
_SHAPES = ((Mark.DIAMOND, "d"), (Mark.SQUARE, "s"))  # of what servers were asked for a station


def figure(value: float, unit: str) -> str:
    """A number with its unit; an en dash where it is not known."""
    return "–" if math.isnan(value) else f"{value:,.0f} {unit}" if abs(value) >= 10 else f"{value:,.1f} {unit}"


def share_of(part_ns: int, of_ns: int) -> str:
    """A part of a time, in per cent; an en dash where it is not known."""
    if not part_ns or of_ns <= 0:
        return "–"
    return share(part_ns / of_ns) if part_ns >= _LEAST_SHARE * of_ns else f"< {share(_LEAST_SHARE)}"


def place(plot: Plot, first_ns: int, seconds: Array) -> None:
    """The period that a plot shows."""
    plot.axis.base_ns = first_ns
    plot.axis.picture = None
    span = float(seconds[-1] + (seconds[1] - seconds[0] if seconds.size > 1 else 1.0))
    plot.setXRange(0, max(1e-3, span), padding=0)


def draw(plot: Plot, seconds: Array, values: Array, color: str) -> None:
    """A line where it was heard, and dots, so that what was heard for a moment shows, too."""
    if not np.isfinite(values).any():
        return
    plot.plot(seconds, values, pen=pg.mkPen(color, width=1.3), connect="finite", symbol="o", symbolSize=3,
              symbolBrush=color, symbolPen=None)  # fmt: skip


class StationPlots(Panes):
    """Shows what it is given."""

    def __init__(self) -> None:
        super().__init__("path radio page: drawn", Qt.Orientation.Vertical)
        self.course: StationCourse | None = None
        self.signal, self.retries = Plot("signal", "dBm"), Plot("retries", "%")
        self.rate, self.waits = Plot("data rate", "bit/s"), Plot("waits and voice", "s")
        self.waits.offer_decades(_LEAST_S, at_first=True)
        self.plots = (self.signal, self.retries, self.rate, self.waits)
        for plot in self.plots:
            plot.share_cursor(list(self.plots))
            plot.read_with(self._read)
        self.arrange(list(self.plots), [130, 80, 80, 90])

    def show_course(self, found: StationCourse | None) -> None:
        """Draws one station; None says what stands here."""
        self.course = found
        for plot in self.plots:
            plot.getPlotItem().clear()
        if found is None or not found.starts_ns.size:
            self.signal.set_quantity("a station over time stands here")
            for plot in self.plots[1:]:
                plot.set_quantity("")
            return
        look, first = theme.current(), int(found.starts_ns[0])
        seconds = (found.starts_ns - first) / 1e9
        self._draw_waits(found, first)
        self.refresh()  # Each plot has its height now.
        self._draw_signal(found, first, seconds)
        draw(self.retries, seconds, found.retry_from, look.moss)
        draw(self.retries, seconds, found.retry_to, look.ink)
        self.retries.set_quantity("data frames sent again", "%")
        self.retries.set_keys(Key("from it", look.moss), Key("to it", look.ink))
        self.retries.setYRange(0, 100, padding=0)
        draw(self.rate, seconds, found.rate_mbps * 1e6, look.moss)
        self.rate.set_quantity("data rate, median", "bit/s")
        self.rate.show_values(float(np.nan_to_num(found.rate_mbps).max(initial=0.0)) * 1e6 + _LEAST_BPS)
        for plot in self.plots:
            place(plot, first, seconds)

    def _draw_signal(self, found: StationCourse, first: int, seconds: Array) -> None:
        look = theme.current()
        draw(self.signal, seconds, found.signal, look.moss)
        draw(self.signal, seconds, found.noise, look.faint)
        keys = [Key("signal", look.moss), Key("noise", look.faint)]
        known = np.concatenate([found.signal, found.noise])
        known = known[np.isfinite(known)]
        low, high = (float(known.min()), float(known.max())) if known.size else (-100.0, -30.0)
        height = max(_LEAST_PX, self.signal.getPlotItem().vb.height())
        low -= max(6.0, _NAMES_PX * (high - low) / (height - _NAMES_PX)) if found.row.roams else 6.0
        self.signal.setYRange(low, high + 3, padding=0)
        for roam in found.row.roams:
            line = pg.InfiniteLine((roam.time_ns - first) / 1e9, 90, pen=pg.mkPen(look.ink, style=Qt.PenStyle.DotLine))
            self.signal.addItem(line, ignoreBounds=True)
        self._name_moves(found.row.roams, first, float(seconds[-1]), low)
        if found.row.roams:
            keys.append(Key("a move", look.ink, Mark.DOTTED))
        for failure in found.row.failures:
            line = pg.InfiniteLine((failure.time_ns - first) / 1e9, 90, pen=pg.mkPen(look.red))
            self.signal.addItem(line, ignoreBounds=True)
        if found.row.failures:
            keys.append(Key("a failure", look.red))
        self.signal.set_quantity(f"{found.row.station.address} as it was heard", "dBm")
        self.signal.set_keys(*keys)

    def _name_moves(self, roams: list[Roam], first: int, span_s: float, low: float) -> None:
        """From where and to where, beside those lines that have room for it."""
        moments = [(one.time_ns - first) / 1e9 for one in roams]
        for roam, at_s, following in zip(roams, moments, [*moments[1:], float("inf")], strict=False):
            if following - at_s < _ROOM * span_s:
                continue
            words = f"{address_text(roam.old)[-5:]} to {address_text(roam.new)[-5:]}"
            text = pg.TextItem(words, color=theme.current().faint, anchor=(0, 1))
            self.signal.addItem(text, ignoreBounds=True)
            text.setPos(at_s, low)

    def _draw_waits(self, found: StationCourse, first: int) -> None:
        """Exchanges and voice that came by the station."""
        look, waits = theme.current(), found.waits
        self.waits.setVisible(bool(waits.began_ns.size or waits.voice or found.asked))
        keys, top = [], _LEAST_S
        if waits.began_ns.size:
            x, y = (waits.began_ns - first) / 1e9, np.maximum(waits.wait_ns / 1e9, _LEAST_S)
            self.waits.plot(x, y, pen=None, symbol="o", symbolSize=4, symbolBrush=look.server, symbolPen=None)
            keys.append(Key("an exchange's wait", look.server, Mark.DOT))
            top = max(top, float(y.max()))
        for words, times, jitter in waits.voice:
            y = np.maximum(jitter / 1e9, _LEAST_S)
            self.waits.plot((times - first) / 1e9, y, pen=pg.mkPen(look.network, width=1.4))
            keys.append(Key(words, look.network))
            top = max(top, float(y.max()))
        for (name, (times, waited)), (shape, symbol) in zip(found.asked.items(), _SHAPES, strict=False):
            y = np.maximum(waited / 1e9, _LEAST_S)
            self.waits.plot((times - first) / 1e9, y, pen=None, symbol=symbol, symbolSize=8, symbolBrush=look.ink,
                            symbolPen=None)  # fmt: skip
            keys.append(Key(f"{name} for it", look.ink, shape))
            top = max(top, float(y.max()))
        self.waits.set_quantity("its waits and voice", "s")
        self.waits.set_keys(*keys[:4])
        self.waits.show_values(top)

    def _read(self, x: float, _y: float) -> str:
        found = self.course
        if found is None or not found.starts_ns.size:
            return ""
        k = int(np.argmin(np.abs((found.starts_ns - found.starts_ns[0]) / 1e9 - x)))
        parts = [figure(float(found.signal[k]), "dBm"), f"SNR {figure(float(found.signal[k] - found.noise[k]), 'dB')}"]
        parts.append(figure(float(found.rate_mbps[k]), "Mbit/s"))
        width_ns = int(found.starts_ns[1] - found.starts_ns[0]) if found.starts_ns.size > 1 else 1
        parts += [
            f"moved from {address_text(one.old)} to {address_text(one.new)}"
            for one in found.row.roams
            if abs(one.time_ns - int(found.starts_ns[k])) <= width_ns
        ][:1]
        began = (found.waits.began_ns - found.starts_ns[0]) / 1e9
        if began.size and abs(float(began[(near := int(np.argmin(np.abs(began - x))))]) - x) < 1.0:
            parts.append(f"an exchange waited {duration(int(found.waits.wait_ns[near]))}")
        return f" {moment(int(found.starts_ns[k]))}  {', '.join(parts)} "

    def dress(self) -> None:
        """Takes the colors of the theme."""
        for plot in self.plots:
            plot.dress()
        self.show_course(self.course)
