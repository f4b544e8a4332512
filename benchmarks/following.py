"""A capture that grows by 100,000 packets a second for a minute, followed by the window.

`python -m benchmarks.following [FOLDER] [SECONDS]`. Another process writes the file. Prints how old what the window
shows was at most, and whether the last document is that of one run.
"""

import bisect
import itertools
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("QT_LOGGING_RULES", "qt.qpa.*=false")

from benchmarks.captures import CHATTY, write_interleaved

RATE, SECONDS, CONNECTIONS, SNAP = 100_000, 60, 5_000, 130
RENEWED_S = 5  # after so long other connections take the place of nearly all
_EVERY_S = 0.05
_ASKED_EVERY_MS = 50  # whether all was shown
_WRITER = """
import sys, time
source, target, rate, every = sys.argv[1], sys.argv[2], float(sys.argv[3]), float(sys.argv[4])
with open(source, "rb") as read, open(target, "ab", buffering=0) as write:
    began = time.time()
    while block := read.read(int(rate * every)):
        write.write(block)
        print(time.time(), write.tell(), flush=True)
        time.sleep(max(0.0, began + write.tell() / rate - time.time()))
"""


def main(folder: Path, seconds: int = SECONDS) -> None:
    """Follows one such capture."""
    os.environ["YAFFLE_CONFIG_DIR"] = tempfile.mkdtemp(prefix="yaffle-bench-")
    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication

    from yaffle.analysis import analyse
    from yaffle.desktop.window.main_window import MainWindow
    from yaffle.kernel_cache import compiled
    from yaffle.report.document import document
    from yaffle.session.investigation import Investigation
    from yaffle.warm_up import warm_up

    packets = RATE * seconds
    path = folder / f"following-{seconds}.pcap"
    source = write_interleaved(path, packets, CONNECTIONS, SNAP, CHATTY, 10**9 // RATE, renewed=RENEWED_S * RATE)
    if not compiled():
        print("compiling the engine", flush=True)
        warm_up()
    application = QApplication([])
    window = MainWindow(Investigation())
    window.show()
    with tempfile.TemporaryDirectory(dir=folder) as room:
        target, log = Path(room) / "growing.pcap", Path(room) / "log"
        rate = source.stat().st_size / seconds
        with log.open("w") as told:
            writer = subprocess.Popen(
                [sys.executable, "-c", _WRITER, source, target, str(rate), str(_EVERY_S)], stdout=told
            )
            while not target.exists() or target.stat().st_size < rate * 0.5:
                time.sleep(0.05)
            shown: list[tuple[float, int]] = []
            window.files.loaded.connect(
                lambda opened: shown.append((time.time(), opened.analysis.capture.sources[0].size_bytes))
            )
            window.load([target])
            window.files.follow_growth(True)

            def whole() -> bool:
                evidence = window.investigation.evidence
                return evidence is not None and not evidence.analysis.provisional and bool(shown)

            def look() -> None:
                if writer.poll() is not None and whole() and shown[-1][1] >= target.stat().st_size:
                    application.quit()

            ended = QTimer()
            ended.timeout.connect(look)
            ended.start(_ASKED_EVERY_MS)
            application.exec()
        written = [tuple(map(float, line.split())) for line in log.read_text().splitlines()]
        ages = lags(written, shown)
        print(f"{packets:,} packets in {seconds} s, followed in {len(shown)} looks")
        print(
            f"    what was shown was {max(ages):.2f} s old at most, in the middle {sorted(ages)[len(ages) // 2]:.2f} s"
        )
        evidence = window.investigation.evidence
        assert evidence is not None
        same = json.dumps(document(evidence.analysis), default=str) == json.dumps(
            document(analyse([target])), default=str
        )
        print(f"    the last document is {'that' if same else 'NOT that'} of one run over the whole file")
    window.close()


def lags(written: list[tuple[float, ...]], shown: list[tuple[float, int]]) -> list[float]:
    """Seconds from the writing of the first byte that one look did not show to the next look that did."""
    sizes = [size for _, size in written]
    found = []
    for (_, before), (at, now) in itertools.pairwise(shown):
        if now > before:
            found.append(at - written[min(len(written) - 1, bisect.bisect_right(sizes, before))][0])
    return found or [0.0]


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("bench-data"), *map(int, sys.argv[2:3]))
