"""How quick the window is on a case of a million packets: `python -m benchmarks.desktop [FOLDER]`.

Medians, in ms, from the key or click to the finished picture (which is drawn into memory, offscreen). Then frames a
second of zooming and scrolling.
"""

import os
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("QT_LOGGING_RULES", "qt.qpa.*=false")

from benchmarks.captures import CHATTY, write_interleaved

PACKETS, CONNECTIONS, GAP_NS = 1_000_000, 5_000, 900_000
ROUNDS = 5


class Stalls:
    """How long the interface stands still at most while somebody investigates: complaint to culprit to packet."""

    def investigate(self, window: Any, finish: Callable[[], None]) -> None:
        """Three ways through the window, as in its tests; prints the longest single event of each."""
        model = window.investigation
        evidence = model.evidence
        third = (evidence.last_ns - evidence.first_ns) // 3
        ways = {
            "period, slowest client, its packets": (
                lambda: model.look(model.focus.with_period((evidence.first_ns + third, evidence.first_ns + 2 * third))),
                lambda: window.go(2),
                lambda: window.apportion.tree.expandToDepth(0),
                lambda: model.examine(model.worst_connection()),
                lambda: window.go(3),
                lambda: window.examine.step_silence(1),
            ),
            "filter, traffic mix, drill down": (
                lambda: window.go(1),
                lambda: model.look(model.focus.with_trail(()).with_filter("wait_ms > 2").with_period(None)),
                lambda: window.survey.make_up.table.entered.emit(0),
                lambda: window.survey.make_up.table.left.emit(),
                lambda: model.look(model.focus.with_filter("")),
            ),
            "follow a finding, compare, path": (
                window.follow_first,
                lambda: window.go(5),
                lambda: window.go(4),
                lambda: window.go(0),
            ),
        }
        for name, steps in ways.items():
            longest = 0.0
            for step in steps:
                began = time.perf_counter()
                step()
                longest = max(longest, time.perf_counter() - began, self._rest(window))
            print(f"    {name}: longest stall {1000 * longest:.0f} ms", flush=True)

    @staticmethod
    def _rest(window: Any) -> float:
        """Lets everything be computed; the longest that handling events took at once."""
        from PySide6.QtWidgets import QApplication

        longest = 0.0
        while True:
            began = time.perf_counter()
            QApplication.processEvents()
            longest = max(longest, time.perf_counter() - began)
            if not window.busy:
                return longest
            time.sleep(0.0005)


def main(folder: Path) -> None:
    """Opens the case and uses it."""
    os.environ["YAFFLE_CONFIG_DIR"] = tempfile.mkdtemp(prefix="yaffle-bench-")
    from PySide6.QtWidgets import QApplication

    from yaffle.desktop.window.main_window import MainWindow
    from yaffle.desktop.window.station_rail import STATIONS
    from yaffle.kernel_cache import compiled
    from yaffle.session.investigation import Investigation
    from yaffle.warm_up import warm_up

    path = write_interleaved(folder / "desk-1m.pcap", PACKETS, CONNECTIONS, 130, CHATTY, GAP_NS)
    if not compiled():
        print("compiling the engine", flush=True)
        warm_up()
    application = QApplication([])
    window = MainWindow(Investigation())
    window.show()
    stalls = Stalls()
    model = window.investigation
    longest = 0.0

    def finish() -> None:
        nonlocal longest
        while True:
            began = time.perf_counter()
            application.processEvents()
            longest = max(longest, time.perf_counter() - began)
            if not window.busy:
                break
            time.sleep(0.0005)
        window.grab()

    def median_ms(step: Callable[[int], object]) -> float:
        spent = []
        for k in range(ROUNDS):
            began = time.perf_counter()
            step(k)
            finish()
            spent.append(1000 * (time.perf_counter() - began))
        return statistics.median(spent)

    began = time.perf_counter()
    window.load([path])
    finish()
    print(f"{PACKETS:,} packets opened into a full window in {time.perf_counter() - began:.2f} s", flush=True)
    for k, name in enumerate(STATIONS):

        def show(_round: int, k: int = k) -> None:
            window.survey._stale = window.apportion._stale = True  # noqa: SLF001  As if the focus had moved meanwhile.
            window.go(0 if k else 1)
            window.go(k)

        print(f"    {name} shown: {median_ms(show):.0f} ms", flush=True)
    evidence = model.evidence
    assert evidence is not None
    tenth = (evidence.last_ns - evidence.first_ns) // 10
    for k in (1, 2):
        window.go(k)
        finish()
        print(
            f"    {STATIONS[k]}, filter to new picture:"
            f" {median_ms(lambda n: model.look(model.focus.with_filter(f'wait_ms > {1 + n / 10}'))):.0f} ms"
        )
        model.look(model.focus.with_filter(""))
        finish()
        begins = evidence.first_ns
        moved = median_ms(
            lambda n, begins=begins: model.look(model.focus.with_period((begins + n * tenth, begins + (n + 3) * tenth)))
        )
        print(f"    {STATIONS[k]}, period to new picture: {moved:.0f} ms")
        model.look(model.focus.with_period(None))
        finish()
    print(f"    longest the window did not answer: {1000 * longest:.0f} ms")
    stalls.investigate(window, finish)

    def frames(step: Callable[[int], object], count: int = 40) -> float:
        began = time.perf_counter()
        for k in range(count):
            step(k)
            application.processEvents()  # Paints, as a screen would have it.
        return count / (time.perf_counter() - began)

    window.go(1)
    finish()
    plot = window.survey.plots.plots[0]
    print(f"    zooming the survey: {frames(lambda k: plot.setXRange(k, 900 - 10 * k, padding=0)):.0f} frames/s")
    window.go(3)
    model.examine(model.worst_connection())
    finish()
    bar, table = window.examine.ladder.verticalScrollBar(), window.examine.packet_table.verticalScrollBar()
    print(f"    scrolling the ladder: {frames(lambda k: bar.setValue(k * 37)):.0f} frames/s")
    print(f"    scrolling the packets: {frames(lambda k: table.setValue(k * 3)):.0f} frames/s")
    print(
        "    zooming the sequence plot:"
        f" {frames(lambda k: window.examine.sequence.setXRange(k, 900 - 10 * k, padding=0)):.0f} frames/s"
    )
    window.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("bench-data"))
