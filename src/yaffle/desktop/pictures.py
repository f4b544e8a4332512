"""Runs the whole example without a screen: opens the demo, follows a finding, takes a picture of each main view."""

import os
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from yaffle.demo import weeks
from yaffle.history.layout import DAY_NS
from yaffle.session.baselines import OUT
from yaffle.session.focus import Focus

_LAST_JOBS_MS = 3000

if TYPE_CHECKING:
    from yaffle.desktop.window.main_window import MainWindow


def take_pictures(captures: list[Path], weeks: Path, inside: list[Path], folder: Path) -> list[Path]:
    """One PNG a view, 1280x800, from the real window driven as a user would."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QEventLoop, QTimer
    from PySide6.QtWidgets import QApplication

    from yaffle.desktop.shared import theme
    from yaffle.desktop.shared.jobs import let_all_end
    from yaffle.desktop.window.main_window import MainWindow
    from yaffle.errors import YaffleError
    from yaffle.session.investigation import Investigation

    application = QApplication.instance() or QApplication(["yaffle"])
    assert isinstance(application, QApplication)
    theme.apply(application, theme.LIGHT)
    window = MainWindow(Investigation())
    window.show()

    def wait(ms: int) -> None:
        loop = QEventLoop()
        QTimer.singleShot(ms, loop.quit)
        loop.exec()

    paths = []
    switches, air, uplink, ramp = inside
    told = (
        (captures, _shots),
        ([weeks], _shots_of_weeks),
        ([switches], _shots_of_switches),
        ([air, uplink], _shots_of_air),
        ([ramp], _shots_of_cycles),
    )
    for evidence, shots in told:
        window.load(evidence)
        while window.task.job is not None:
            wait(30)
        if window.investigation.opened is None:
            raise YaffleError("the demo could not be opened")
        for name, show in shots(window).items():
            show()
            wait(60)
            while window.busy:
                wait(20)
            wait(120)
            path = folder / f"{name}.png"
            if not window.grab().save(str(path)):
                raise YaffleError(f"{path}: cannot be written")
            paths.append(path)
    window.close()
    let_all_end(_LAST_JOBS_MS)
    return paths


def _shots(window: "MainWindow") -> dict[str, Callable[[], None]]:
    """What each picture is taken of, by name, in this order."""

    from yaffle.desktop.path.station import MAP, SEGMENTS, STREAMS
    from yaffle.desktop.window.station_rail import PATH, REPORT

    findings = window.investigation.findings

    def follow(cause: str, station: int) -> None:
        found = next((k for k, f in enumerate(findings) if f.cause == cause and f.connections), None)
        if found is not None:
            window.investigation.follow(findings[found])
        window.go(station)

    def examine() -> None:
        follow("loss", 3)
        window.examine.step_silence(1)

    def apportion() -> None:
        """The web server in front of the one that held things up: it opens into what it waited for."""
        follow("processing", 2)
        window.investigation.look(window.investigation.focus.with_trail(("ticket desk", "203.0.113.22 443")))

    def tiers() -> None:
        follow("processing", 3)
        evidence = window.investigation.evidence
        if evidence is not None and evidence.analysis.behind.parts.of.size:
            parts = evidence.analysis.behind.parts
            longest = int(evidence.wait_of_exchange[parts.of[np.argmax(parts.ns)]])
            connection, began = int(evidence.waits.connection[longest]), int(evidence.waits.first_ns[longest])
            window.apportion.tiers_wanted.emit(connection, began)

    def survey(part: int) -> None:
        window.investigation.look(Focus())
        window.go(1)
        window.survey.parts.setCurrentIndex(part)

    def path(page: int) -> None:
        window.investigation.look(Focus())
        window.go(PATH)
        window.path.parts.setCurrentIndex(page)

    def chosen_way() -> None:
        path(MAP)
        window.path.map.flows.setCurrentIndex(
            next(
                (
                    k
                    for k in range(window.path.map.flows.count())
                    if window.path.map.flows.itemText(k).startswith("Northpoint → ticket desk")
                ),
                0,
            )
        )

    def report() -> None:
        window.investigation.look(Focus())
        window.go(REPORT)

    return {
        "gather": lambda: window.go(0),
        "survey": lambda: survey(0),
        "apportion": apportion,
        "examine": examine,
        "tiers": tiers,
        "path": lambda: path(SEGMENTS),
        "streams": lambda: path(STREAMS),
        "map": chosen_way,
        "report": report,
    }


def _shots_of_weeks(window: "MainWindow") -> dict[str, Callable[[], None]]:
    """The same of the four weeks of flow records."""
    from PySide6.QtWidgets import QApplication

    from yaffle.desktop.survey.station import FLOWS, TESTS
    from yaffle.desktop.window.station_rail import COMPARE, WATCH

    line = "203.0.113.242 line"

    def flows() -> None:
        window.go(1)
        window.survey.parts.setCurrentIndex(FLOWS)

    def page(number: int) -> None:
        window.investigation.look(Focus())
        window.go(1)
        window.survey.parts.setCurrentIndex(number)

    def tests() -> None:
        """What a call from Quay House to Saltmarsh would have sounded like."""
        page(TESTS)
        while window.busy:
            QApplication.processEvents()
        window.survey.tests.table.selectRow(1)

    def normal() -> None:
        window.investigation.look(Focus())
        window.go(COMPARE)
        window.compare.normal.choose(OUT, "interface", line)

    def kept() -> None:
        """The week in which the archive copy ran into the morning, for one site."""
        first_ns = weeks.START_NS + 14 * DAY_NS
        trail = ("ticket desk", "203.0.113.22 443", "site Saltmarsh")
        window.investigation.look(Focus((first_ns, first_ns + 7 * DAY_NS - 1), trail))
        window.go(2)

    def watch() -> None:
        window.investigation.look(Focus())
        window.go(WATCH)

    return {
        "kept": kept,
        "flows": flows,
        "watch": watch,
        "tests": tests,
        "normal": normal,
    }


def _shots_of_switches(window: "MainWindow") -> dict[str, Callable[[], None]]:
    """The same of what switches reported."""
    from yaffle.desktop.path.queues_page import CHANGES
    from yaffle.desktop.path.station import QUEUES
    from yaffle.desktop.window.station_rail import PATH

    def queues() -> None:
        window.go(PATH)
        window.path.parts.setCurrentIndex(QUEUES)

    def changes() -> None:
        queues()
        window.path.queues.below.setCurrentIndex(CHANGES)

    return {"queues": queues, "path-change": changes}


def _shots_of_air(window: "MainWindow") -> dict[str, Callable[[], None]]:
    """The same of what a radio heard: the scanner that moves late and signs on slowly."""
    from PySide6.QtWidgets import QApplication

    from yaffle.desktop.path.radio_page import POINTS
    from yaffle.desktop.path.station import RADIO
    from yaffle.desktop.window.station_rail import PATH

    def radio() -> None:
        window.go(PATH)
        window.path.parts.setCurrentIndex(RADIO)
        while window.busy:
            QApplication.processEvents()
        window.path.radio.stations.selectRow(3)

    def point() -> None:
        radio()
        window.path.radio.below.setCurrentIndex(POINTS)

    return {"radio": radio, "access-point": point}


def _shots_of_cycles(window: "MainWindow") -> dict[str, Callable[[], None]]:
    """The same of a ramp's drives, while a camera sends its recording."""
    from yaffle.desktop.path.station import CYCLIC
    from yaffle.desktop.window.station_rail import PATH

    def cyclic() -> None:
        window.go(PATH)
        window.path.parts.setCurrentIndex(CYCLIC)

    return {"cyclic": cyclic}
