"""The whole analysis against a checksum of the same file: `python -m benchmarks.engine [FOLDER]`.

(a) 10 million packets of about 100 captured bytes over 20,000 connections, interleaved at random; (b) a million full
ones. Each ratio is the median of three pairs run in turn, so that a machine that speeds up or slows down moves both.
The case is left to the page cache: how fast a disk settles is not the engine's doing. What the program takes once, for
its compiled code and modules, is told apart: a small capture is analysed before.

Where the machine is one of many on another one, memory that nobody used for a while has gone back to that, and to have
it again costs several times what it costs a machine of its own. So three more pairs are run whose memory was in use a
moment before.
"""

import hashlib
import statistics
import sys
import threading
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from multiprocessing import get_context
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING

import numpy as np

from benchmarks.captures import BULK, CHATTY, write_interleaved

if TYPE_CHECKING:
    from yaffle.session.investigation import Opened

PAIRS = 3
_USED_BYTES = 250  # a packet: what an analysis takes, and its case in the page cache


def checksum_s(path: Path) -> float:
    """Seconds that a checksum of the file takes."""
    began = time.perf_counter()
    digest = hashlib.md5(usedforsecurity=False)
    with path.open("rb") as file:
        while block := file.read(1 << 20):
            digest.update(block)
    return time.perf_counter() - began


class Memory:
    """Greatest amount of anonymous memory while the block runs: what is mapped from files does not count."""

    def __enter__(self) -> "Memory":
        self.base_bytes = self.peak_bytes = self._now()
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._watch, daemon=True)
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join()

    def _watch(self) -> None:
        while not self._stop.wait(0.01):
            self.peak_bytes = max(self.peak_bytes, self._now())

    @staticmethod
    def _now() -> int:
        lines = Path("/proc/self/status").read_text().splitlines()
        return sum(int(line.split()[1]) * 1024 for line in lines if line.startswith(("RssAnon", "RssShmem")))


def have_memory(octets: int) -> None:
    """Has the machine find so much memory, and gives it back, so that who wants it next has it at once."""
    np.ones(octets, np.uint8)


def median_ms(question: Callable[[], object]) -> float:
    """Median of five askings, ms."""
    spent = []
    for _ in range(5):
        began = time.perf_counter()
        question()
        spent.append(1000 * (time.perf_counter() - began))
    return statistics.median(spent)


def analysed_into_case(path: Path, case: Path) -> "Opened":
    """The whole way: file to finished tables in a case. The case is written while the findings are worked out."""
    from yaffle.analysis import analyse
    from yaffle.case.folder import save_case
    from yaffle.session.investigation import Opened

    analysis = analyse([path])
    with ThreadPoolExecutor(1) as other:
        saved = other.submit(save_case, case, analysis, {}, settle=False)
        opened = Opened(analysis)
        saved.result()
    return opened


def measure(label: str, path: Path, packets: int) -> float:
    """Prints the figures of one file; returns the median seconds of its analysis."""
    from yaffle.case.folder import open_case
    from yaffle.session.investigation import Opened

    ratios: dict[bool, list[float]] = {False: [], True: []}
    spent, peaks = [], []
    small = write_interleaved(path.with_name("small.pcap"), 20_000, 200, 130)
    with TemporaryDirectory(dir=path.parent) as folder:
        with Memory() as once:
            analysed_into_case(small, Path(folder) / "small.yaffle")
        case = Path(folder) / "bench.yaffle"
        for at_hand in [False] * PAIRS + [True] * PAIRS:
            base = checksum_s(path)
            if at_hand:
                have_memory(packets * _USED_BYTES)
            with Memory() as memory:
                began = time.perf_counter()
                analysed_into_case(path, case)
                took = time.perf_counter() - began
            ratios[at_hand].append(took / base)
            if not at_hand:
                spent.append(took)
                peaks.append((memory.peak_bytes - memory.base_bytes) / packets)
        reopen = median_ms(lambda: open_case(case))
        analysis, _ = open_case(case)
        opened = Opened(analysis)
        print(
            f"{label}: {in_words(ratios[False])}, {packets / statistics.median(spent):,.0f} packets/s\n"
            f"    in memory that was in use a moment before: {in_words(ratios[True])}"
        )
        print(
            f"    memory {max(peaks):.0f} bytes a packet ({min(peaks):.0f} at least), beside"
            f" {(once.peak_bytes - once.base_bytes) / 1e6:.0f} MB once; reopened in {reopen:.0f} ms"
        )
        for name, question in questions(opened).items():
            print(f"    {name}: {median_ms(question):.0f} ms", flush=True)
    return statistics.median(spent)


def in_words(ratios: list[float]) -> str:
    """The median of some ratios, and between what they lie."""
    return f"{statistics.median(ratios):.2f} times its checksum ({min(ratios):.2f} to {max(ratios):.2f})"


def questions(opened: "Opened") -> dict[str, Callable[[], object]]:
    """Typical questions to an opened case."""
    from yaffle.session.make_up import make_up
    from yaffle.session.survey import series

    evidence = opened.evidence
    packets = evidence.analysis.capture.packets
    last = min(evidence.last_ns, evidence.first_ns + 600 * 10**9)
    return {
        "filter with two predicates": lambda: ((packets.payload_bytes > 1000) & (packets.flow == 17)).nonzero(),
        "volume in intervals of 10 ms": lambda: series(
            evidence, None, evidence.first_ns, last, (last - evidence.first_ns) // 10**7
        ),
        "top 50 hosts": lambda: make_up(evidence, None, "host", 50),
    }


FILES = {
    "(a) a tenth": ("chatty-1m.pcap", 1_000_000, 2_000, 130, CHATTY),
    "(a) 10 million small packets": ("chatty-10m.pcap", 10_000_000, 20_000, 130, CHATTY),
    "(b) 1 million full packets": ("bulk-1m.pcap", 1_000_000, 200, 1514, BULK),
}


def main(folder: Path) -> None:
    """Both files, each in a process of its own, and how the cost grows."""
    from yaffle.kernel_cache import compiled
    from yaffle.warm_up import warm_up

    if not compiled():
        print("compiling the engine", flush=True)
        warm_up()
    took = {}
    for label, (name, packets, *shape) in FILES.items():
        path = write_interleaved(folder / name, packets, *shape)
        with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as apart:
            took[label] = apart.submit(measure, label, path, packets).result()
    print(f"ten times the packets cost {took['(a) 10 million small packets'] / took['(a) a tenth']:.1f} times as much")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("bench-data"))
