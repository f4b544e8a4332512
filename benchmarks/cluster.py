"""One, then two workers of a real scheduler on this machine, against no cluster: `python -m benchmarks.cluster
[FOLDER]`.

Ten million small packets in eight files of a ring. Prints how long each takes, whether the documents are equal, what
tasks and this machine cost a packet, what is exchanged, and from these what 1, 10 and 100 workers would take, also
where one conversation is a third of everything. On two cores a second worker shares them with everyone else: the
processor's time of the tasks says what it would save on a machine of its own.
"""

import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

from benchmarks.captures import write_ring

if TYPE_CHECKING:
    from yaffle.cluster.crew import Crew

PACKETS, FILES = 10_000_000, 8
MONTH_PACKETS = 10**10
LARGEST = 1 / 3  # share of the largest conversation in the simulation of skew


def run(paths: list[Path], crew: "Crew | None") -> tuple[float, Any]:
    """Seconds, and the document."""
    from yaffle.analysis import analyse
    from yaffle.report.document import document

    began = time.perf_counter()
    analysis = analyse(paths, workforce=crew)
    return time.perf_counter() - began, document(analysis)


def simulated(packets: float, workers: int, here_ns: float, read_ns: float, account_ns: float, largest: float) -> float:
    """Seconds that so many packets take: what this machine does in turn, files read side by side, and parts, of which
    the largest conversation is one.
    """
    read_s = packets * read_ns / workers
    account_s = max(packets * account_ns / workers, packets * largest * account_ns)
    return (packets * here_ns + read_s + account_s) / 1e9


def main(folder: Path) -> None:
    """All of it."""
    from tests.cluster.processes import cluster

    from yaffle.cluster.crew import Crew
    from yaffle.warm_up import compile_once

    compile_once()
    paths = write_ring(folder, FILES, PACKETS, 20_000, 130, PACKETS // 4)
    run(paths, None)
    alone_s, alone = run(paths, None)
    print(f"no cluster (two threads): {alone_s:.1f} s", flush=True)
    took, work = [], (0.0, 0.0)
    with TemporaryDirectory(dir=folder) as name, cluster(Path(name, "logs"), 0) as made:
        for count in (1, 2):
            made.add_worker()
            for _ in range(2):  # The first loads kernels.
                with Crew(made.address, str(Path(name, "store"))) as crew:
                    spent, told = run(paths, crew)
                    written = crew.written_bytes
                    work = tuple(sum(done.work_s for done in part) for part in (crew.done[:FILES], crew.done[FILES:]))
            took.append(spent)
            same = "the same document" if told == alone else "ANOTHER DOCUMENT"
            print(
                f"{count} worker{'s'[: count > 1]}: {spent:.1f} s, {spent / alone_s:.2f} times as long as without,"
                f" {same}"
            )
            print(f"    tasks: reading {work[0]:.1f} s, accounting {work[1]:.1f} s of the processor", flush=True)
    read_ns, account_ns = (spent / PACKETS * 1e9 for spent in work)
    here_ns = max(0.0, took[0] * 1e9 / PACKETS - read_ns - account_ns)
    print(f"two workers: {took[0] / took[1]:.2f} times as fast as one on this machine")
    print(
        f"a packet: {read_ns:.0f} ns reading, {account_ns:.0f} ns accounting (both on workers), {here_ns:.0f} ns here;"
        f" {written / PACKETS:.0f} bytes exchanged"
    )
    for workers in (1, 10, 100):
        even, skewed = (
            simulated(MONTH_PACKETS, workers, here_ns, read_ns, account_ns, largest) / 3600 for largest in (0, LARGEST)
        )
        print(f"{MONTH_PACKETS:,} packets on {workers} workers: {even:.1f} h; with one third in one: {skewed:.1f} h")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("bench-data"))
