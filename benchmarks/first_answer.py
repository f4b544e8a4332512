"""The first five minutes: `python -m benchmarks.first_answer [FOLDER]`. Seconds, as people meet them.

From a checkout whose code was never compiled: the answer for a small capture and for the largest that goes through
plain kernels; once all is compiled, the next start; from a wheel in dist/ (`make wheel`) that never ran; then the demo,
until its window shows the morning, and until the four weeks are there.
"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
import zipfile
from pathlib import Path

from benchmarks.captures import write_interleaved

SMALL, LARGEST_PLAIN = 2_000, 15_000
PATIENCE_S = 600
ROOT = Path(__file__).parents[1]


def _seconds(arguments: list[str], **environment: str) -> float:
    begun = time.monotonic()
    subprocess.run(
        [sys.executable, *arguments], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        env={**os.environ, "QT_QPA_PLATFORM": "offscreen", **environment},
    )  # fmt: skip
    return time.monotonic() - begun


def _say(words: str, seconds: float, target: str = "") -> None:
    print(f"{words:58} {seconds:6.1f} s{target and f'   target {target}'}", flush=True)


def _wait_for(found: Path, pattern: str) -> float:
    begun = time.monotonic()
    while not any(found.glob(pattern)):
        if time.monotonic() - begun > PATIENCE_S:
            raise TimeoutError(f"{found / pattern} did not come")
        time.sleep(0.2)
    return time.monotonic() - begun


def answers(folder: Path, cache: Path) -> None:
    """The command, from nothing and again."""
    captures = {n: write_interleaved(folder / f"first-{n}.pcap", n, 40, 100) for n in (SMALL, LARGEST_PLAIN)}
    for number, path in captures.items():
        seconds = _seconds(["-m", "yaffle", "analyse", str(path)], YAFFLE_CACHE_DIR=str(cache))
        _say(f"never compiled, {number:,} packets", seconds, "10 s")
    _wait_for(cache, "kernels-*/complete")
    again = ["-m", "yaffle", "analyse", str(captures[SMALL])]
    _say(
        "compiled, the next start",
        statistics.median(_seconds(again, YAFFLE_CACHE_DIR=str(cache)) for _ in range(5)),
        "1.0 s",
    )


def from_wheel(folder: Path, wheel: Path) -> None:
    """What the wheel brings, in a folder of its own, with the packages that are installed here."""
    place, cache = folder / "installed", folder / "cache-of-wheel"
    with zipfile.ZipFile(wheel) as packed:
        packed.extractall(place)
    arguments = ["-m", "yaffle", "analyse", str(folder / f"first-{SMALL}.pcap")]
    _say("from the wheel, never ran", _seconds(arguments, YAFFLE_CACHE_DIR=str(cache), PYTHONPATH=str(place)), "5 s")


def the_demo(folder: Path, cache: Path) -> None:
    """From the command to the window with the morning; the weeks are written beside."""
    to = folder / "demo"
    made = _seconds(["-m", "yaffle", "demo", "--to", str(to)], YAFFLE_CACHE_DIR=str(cache))
    shown = _seconds(["-m", "benchmarks.first_answer", "--window", *map(str, sorted(to.glob("*.pcapng")))],
                     YAFFLE_CACHE_DIR=str(cache), YAFFLE_CONFIG_DIR=str(folder / "settings"))  # fmt: skip
    _say("demo: the window shows the morning", made + shown, "45 s")
    _say("demo: four weeks of flow records are there", made + shown + _wait_for(to, "four-weeks.yaffle"), "15 s")


def open_window(paths: list[Path]) -> None:
    """Ends once the window shows the files."""
    from PySide6.QtWidgets import QApplication

    from yaffle.desktop.shared.jobs import let_all_end
    from yaffle.desktop.window.main_window import MainWindow
    from yaffle.session.investigation import Investigation

    application = QApplication([])
    window = MainWindow(Investigation())
    window.show()
    window.load(paths)
    while window.investigation.opened is None or window.busy:
        application.processEvents()
        time.sleep(0.01)
    window.close()
    let_all_end(PATIENCE_S * 1000)


def main() -> None:
    """All of it, in a folder that is removed."""
    if sys.argv[1:2] == ["--window"]:
        open_window([Path(p) for p in sys.argv[2:]])
        return
    with tempfile.TemporaryDirectory(dir=sys.argv[1] if len(sys.argv) > 1 else None) as name:
        folder = Path(name)
        answers(folder, folder / "cache")
        wheels = sorted((ROOT / "dist").glob("yaffle-*.whl"))
        if wheels:
            from_wheel(folder, wheels[-1])
        else:
            print("from the wheel: there is none; `make wheel` makes it")
        the_demo(folder, folder / "cache")


if __name__ == "__main__":
    main()
