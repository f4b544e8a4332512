"""A month of records in a store: put there, opened from there, and asked by one and two workers: `python -m
benchmarks.stored_history [FOLDER]`.

The store is a folder that all see: an object store on this machine would say more of itself than of Yaffle. Times are
given as ratios of one run. The month is that of `benchmarks.history`: 30 million records.
"""

import os
import shutil
import sys
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory

from benchmarks.history import DAYS, RECORDS, write_history
from yaffle.history.layout import DAY_NS, LEVELS, USUAL_DAYS, folders
from yaffle.history.mirror import mirror_at, mirrored
from yaffle.history.shipping import Shipper
from yaffle.history.store import History

_WIDE = (0, 1 << 62)


def _spent(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def _pairs(history: History) -> list[dict[str, object]]:
    """The largest of two million pairs of hosts: what workers find is nearly as much as what they read."""
    found: list[dict[str, object]] = history.top("pair", *_WIDE, level=LEVELS[0]).to_pylist()
    return found


def _hosts(history: History) -> list[dict[str, object]]:
    found: list[dict[str, object]] = history.top("host", *_WIDE, level=LEVELS[0]).to_pylist()
    return found


def _fetching(history: History, here: History) -> None:
    month = (here.first_ns, here.first_ns + DAYS * DAY_NS, LEVELS[3])
    for words, ask in (
        ("a month's series from sums of 1 h", lambda one: one.series(*month)),
        ("pairs of hosts of all records", _pairs),
    ):
        local_s = min(_spent(partial(ask, here)) for _ in range(2))
        fetched_s, again_s = _spent(partial(ask, history)), _spent(partial(ask, history))
        print(
            f"{words}: {fetched_s / local_s:.1f} times as long as in a folder when it is fetched,"
            f" {again_s / local_s:.2f} times when it was"
        )


def _by_workers(folder: Path, here: History) -> None:
    from tests.cluster.processes import cluster

    from yaffle.cluster.questions import Questions

    asks = (("hosts of all records", _hosts), ("pairs of hosts of all records", _pairs))
    local_s = [min(_spent(partial(ask, here)) for _ in range(2)) for _, ask in asks]
    took: list[list[float]] = []
    with cluster(folder / "logs", 0) as made:
        for count in (1, 2):
            made.add_worker()
            with Questions(made.address, str(folder / "exchange"), here.folder) as crew:
                asked = History(here.folder, crew)
                took.append([])
                for (words, ask), alone_s in zip(asks, local_s, strict=True):
                    same = [one["octets"] for one in ask(asked)] == [one["octets"] for one in ask(here)]
                    took[-1].append(min(_spent(partial(ask, asked)) for _ in range(2)))
                    told = "the same answer" if same else "ANOTHER ANSWER"
                    workers = f"{count} worker{'s'[: count > 1]} of one thread"
                    print(f"{words}: {workers}: {took[-1][-1] / alone_s:.2f} times as long as two threads here, {told}")
    for (words, _), one_s, two_s in zip(asks, *took, strict=True):
        print(f"{words}: two workers {one_s / two_s:.2f} times as fast as one on this machine")


def main(folder: Path) -> None:
    """All of it."""
    own = folder / "history"
    write_history(own)
    with TemporaryDirectory(dir=folder) as name:
        os.environ["XDG_CACHE_HOME"] = str(Path(name, "cache"))
        url = f"file://{name}/store/kept"
        copy_s = _spent(lambda: shutil.copytree(own, Path(name, "copy")))
        shipper = Shipper(own, url, {**USUAL_DAYS, "records": 3650})
        ship_s, nothing_s = (_spent(lambda: shipper.ship([])) for _ in range(2))
        files = sum(len(list(hour.glob("*.parquet"))) for level in LEVELS for _, hour in folders(own / level.name))
        print(f"{RECORDS:,} records, {files:,} files: put there in {ship_s / copy_s:.1f} times a copy of the folder")
        print(f"    nothing new: {nothing_s * 1000:.0f} ms")
        first_s = _spent(lambda: mirrored(url))
        root = mirrored(url)
        mirror = mirror_at(root)
        assert mirror is not None
        print(f"opened: {first_s * 1000:.0f} ms the first time, {_spent(mirror.refresh) * 1000:.0f} ms looked at again")
        here = History(own)
        _fetching(History(root), here)
        _by_workers(Path(name), here)


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("bench-data"))
