"""Every table and plot of every station at three sizes, light and dark: titles and figures whole, keys beside curves,
axes with a quantity and a unit.
"""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QFontMetrics
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QTableView, QTabWidget, QTreeView, QWidget

from tests.desktop.test_examine import settle
from tests.desktop.test_story import load, window  # noqa: F401
from yaffle.desktop.shared.plots import Plot
from yaffle.desktop.window.station_rail import APPORTION, COMPARE, EXAMINE, PATH, STATIONS, SURVEY, WATCH

SIZES = ((1024, 700), (1280, 800), (1920, 1200))
_BARE = ("", "trend", "client, network, server")  # Painted, without a text to be cut.


def pages(part: QWidget, depth: int = 0):
    """Every combination of open tabs of a part of the window, one after the other."""
    found = [tabs for tabs in part.findChildren(QTabWidget) if tabs.isVisible()]
    outer = [tabs for tabs in found if not any(other is not tabs and other.isAncestorOf(tabs) for other in found)]
    for tabs in outer:
        for k in range(tabs.count()):
            tabs.setCurrentIndex(k)
            yield tabs.tabText(k)
            if depth < 2:
                for inner in pages(tabs.widget(k), depth + 1):
                    yield f"{tabs.tabText(k)}, {inner}"
    if not outer and not depth:
        yield "as it is"


def header_of(view):
    return view.horizontalHeader() if isinstance(view, QTableView) else view.header()


def cut_titles(view) -> list[str]:
    """Titles of columns that are wider than their column."""
    header, model = header_of(view), view.model()
    metrics = QFontMetrics(header.font())
    found = []
    for c in range(model.columnCount() if model is not None else 0):
        title = str(model.headerData(c, Qt.Orientation.Horizontal) or "")
        if title and metrics.horizontalAdvance(title) + 8 > header.sectionSize(c):
            found.append(title)
    return found


def cut_figures(view) -> list[str]:
    """Figures that are wider than their cell, in the first rows."""
    model, metrics, found = view.model(), QFontMetrics(view.font()), []
    if not isinstance(view, QTableView) or model is None:
        return []
    for r in range(min(30, model.rowCount())):
        for c in range(model.columnCount()):
            index = model.index(r, c)
            align = index.data(Qt.ItemDataRole.TextAlignmentRole)
            text = str(index.data() or "")
            if align is not None and int(align) & int(Qt.AlignmentFlag.AlignRight):
                if metrics.horizontalAdvance(text) > view.columnWidth(c):
                    found.append(f"{model.headerData(c, Qt.Orientation.Horizontal)}: {text}")
    return found


def wrong_plot(plot: Plot) -> list[str]:
    """What a plot lacks: a quantity, a unit, room for its keys, keys that lie over the curves."""
    found, head, item = [], plot.head, plot.getPlotItem()
    if plot.height() < 40:
        return []  # A strip of one row, explained in words beside it.
    if not head.quantity:
        found.append("no quantity")
    if item.legend is not None:
        found.append("a legend inside")
    top = item.vb.sceneBoundingRect().top()
    if head.height() > top + 1:
        found.append(f"head of {head.height()} px over curves that begin at {top:.0f}")
    if head.height_for(plot.width()) > head.height():
        found.append("keys cut")
    if len({curve.opts["pen"].color().name() for curve in item.listDataItems() if _drawn(curve)}) > 1 and not head.keys:
        found.append("several colors without keys")
    values = plot.values
    if values.unit in ("bit/s", "s", "B") and not values.logMode and values.shown_unit not in head.quantity:
        found.append(f"unit {values.shown_unit} not named")
    if values.labelText or values.labelUnits:
        found.append("a turned title")
    return found


def _drawn(curve) -> bool:
    pen, (x, _) = curve.opts["pen"], curve.getData()
    return x is not None and len(x) > 1 and hasattr(pen, "color") and pen.style() != Qt.PenStyle.NoPen


def problems(window) -> list[str]:  # noqa: F811
    found = []
    for number, name in enumerate(STATIONS):
        window.go(number)
        for page in pages(window.stations.currentWidget()):
            station = window.stations.currentWidget()
            while window.busy:
                QTest.qWait(10)  # Who draws meanwhile takes time from what is waited for.
            window.repaint()
            yield_to_events()
            for view in (*station.findChildren(QTableView), *station.findChildren(QTreeView)):
                if view.isVisible() and view.width() > 60:
                    where = f"{name}, {page}, {view.accessibleName()}"
                    found += [f"{where}: title cut: {title}" for title in cut_titles(view) if title not in _BARE]
                    found += [f"{where}: figure cut: {text}" for text in cut_figures(view)]
            for plot in station.findChildren(Plot):
                if plot.isVisible():
                    found += [f"{name}, {page}, plot “{plot.head.quantity}”: {words}" for words in wrong_plot(plot)]
    return sorted(set(found))


def yield_to_events() -> None:
    from PySide6.QtWidgets import QApplication

    for _ in range(3):
        QApplication.processEvents()


def test_nothing_is_cut_or_covered_on_the_morning(window, qtbot, morning):  # noqa: F811
    load(window, qtbot, morning)
    model = window.investigation
    model.examine(model.worst_connection())
    model.look(model.focus.with_trail(()))
    for size in SIZES:
        window.resize(*size)
        settle(window, qtbot)
        assert problems(window) == [], size
        assert window.width() == size[0]  # Also when all stations were seen: no page wants more.
    window.resize(*SIZES[0])
    window.switch_theme()
    try:
        assert problems(window) == [], "dark"
    finally:
        window.switch_theme()  # The next window begins as this one ends.


def test_nothing_is_cut_or_covered_on_a_history(window, qtbot, two_weeks):  # noqa: F811
    load(window, qtbot, [two_weeks])
    window.resize(*SIZES[0])  # Where there is least room.
    settle(window, qtbot)
    assert problems(window) == []


def test_the_walk_finds_what_is_cut(window, qtbot, morning):  # noqa: F811
    load(window, qtbot, morning[1:2])
    window.go(SURVEY)
    settle(window, qtbot)
    window.survey.troubles.setColumnWidth(1, 20)
    window.survey.plots.plots[0].set_quantity("")
    found = cut_titles(window.survey.troubles) + wrong_plot(window.survey.plots.plots[0])
    assert set(found) >= {"count", "no quantity"}


def test_the_stations_walked_are_all_there_are():
    assert len(STATIONS) == 8
    assert tuple(np.arange(1, 7)) == (SURVEY, APPORTION, EXAMINE, PATH, COMPARE, WATCH)
