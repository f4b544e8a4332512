"""Captures larger than memory: `python -m benchmarks.large [FOLDER [MILLION_PACKETS]]`.

A ring of ten files, 100 million packets unless told otherwise, within 4 GiB (`--memory 4GiB`), against 10 million
packets in memory, each in a process of its own: time per packet, the most that was in memory (what is mapped included),
and how long the case takes to open and to answer. It needs about 40 GB of disk.
"""

import sys
import threading
import time
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path
from tempfile import TemporaryDirectory

from benchmarks.captures import write_interleaved, write_ring
from benchmarks.engine import FILES, median_ms, questions

MEMORY_BYTES = 4 << 30
FILES_OF_RING = 10


class Resident:
    """The most that this process has in memory while the block runs, mapped files included."""

    def __enter__(self) -> "Resident":
        self.peak_bytes = self.anonymous_bytes = 0
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._watch, daemon=True)
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._ended.set()
        self._thread.join()

    def _watch(self) -> None:
        while not self._ended.wait(0.01):
            told = dict(line.split(":", 1) for line in Path("/proc/self/status").read_text().splitlines())
            here, anonymous = (int(told[name].split()[0]) * 1024 for name in ("VmRSS", "RssAnon"))
            self.peak_bytes = max(self.peak_bytes, here)
            self.anonymous_bytes = max(self.anonymous_bytes, anonymous)


def measure(label: str, paths: list[Path], memory_bytes: int, packets: int) -> float:
    """Prints the figures; returns the nanoseconds a packet took."""
    from yaffle.analysis import analyse
    from yaffle.case.folder import open_case, save_case
    from yaffle.memory_plan import planned
    from yaffle.session.investigation import Opened

    last: list[tuple[float, str]] = []

    def went(_share: float, words: str) -> bool:
        if not last or words != last[-1][1]:
            last.append((time.perf_counter(), words))
        return True

    with TemporaryDirectory(dir=paths[0].parent) as folder:
        case = Path(folder) / "large.yaffle"
        with Resident() as resident:
            began = time.perf_counter()
            analysis = analyse(paths, went, planned(paths, memory_bytes))
            analysed_s = time.perf_counter() - began
            opened = Opened(analysis)
            found_s = time.perf_counter() - began
            save_case(case, analysis, {}, settle=False)
            saved_s = time.perf_counter() - began
        print(
            f"{label}: analyzed in {analysed_s:.1f} s, findings after {found_s:.1f} s, case after {saved_s:.1f} s:"
            f" {saved_s / packets * 1e9:.0f} ns a packet; at most {resident.peak_bytes / (1 << 30):.2f} GiB in memory,"
            f" {resident.anonymous_bytes / (1 << 30):.2f} of it not mapped"
        )
        ends = [when for when, _ in last[1:]] + [began + analysed_s]
        for (when, words), end in zip(last, ends, strict=True):
            if end - when > 0.02 * analysed_s:
                print(f"    {end - when:6.1f} s  {words}")
        size = sum(file.stat().st_size for file in case.rglob("*") if file.is_file())
        print(f"    the case takes {size / packets:.0f} bytes a packet")
        del analysis, opened
        with Resident() as resident:
            began = time.perf_counter()
            again = Opened(open_case(case)[0])
            print(f"    opened with its findings in {time.perf_counter() - began:.1f} s")
            for name, question in questions(again).items():
                print(f"    {name}: {median_ms(question):.0f} ms", flush=True)
    return saved_s / packets * 1e9


def main(folder: Path, million: int) -> None:
    """Both, each in a process of its own."""
    small = write_interleaved(folder / "chatty-10m.pcap", *FILES["(a) 10 million small packets"][1:])
    packets = million * 10**6
    ring = write_ring(folder, FILES_OF_RING, packets, 20_000, 130, packets // FILES_OF_RING)
    took = []
    for label, paths, memory_bytes, count in (
        ("10 million packets in memory", [small], 1 << 40, 10_000_000),
        (f"{million} million packets within 4 GiB", ring, MEMORY_BYTES, packets),
    ):
        with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as apart:
            took.append(apart.submit(measure, label, paths, memory_bytes, count).result())
    print(f"a packet of the larger one costs {took[1] / took[0]:.2f} times as much")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("bench-data"), int(sys.argv[2]) if len(sys.argv) > 2 else 100)
