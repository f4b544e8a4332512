"""What months of records cost: 30 million of them on disk, and receiving 100,000 a second over loopback, `python -m
benchmarks.history [FOLDER]`.

Times are given as ratios to a checksum (md5) of 100 MB made in the same run, and in ms for whoever knows the machine.
"""

import hashlib
import socket
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from struct import pack

import numpy as np

from yaffle.history.keeper import Keeper
from yaffle.history.layout import DAY_NS, HOUR_NS, LEVELS, folders
from yaffle.history.reception import Reception
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.records.flow_table import Exporter, FlowRecords, empty_flows

RECORDS, DAYS = 30_000_000, 30
_START = 1_790_000_000 * 10**9 // DAY_NS * DAY_NS
_RATE, _EACH, _SECONDS = 100_000, 25, 60


class _Clock:
    now_ns = _START

    def __call__(self) -> int:
        return self.now_ns


def write_history(folder: Path) -> None:
    """Made once: hours with a day's ups and downs, hosts of very different size."""
    if (folder / "made").exists():
        return
    clock, rng = _Clock(), np.random.default_rng(1)
    writer = HistoryWriter(folder, now_ns=clock, settle=False)
    hours = DAYS * 24
    share = 1 + 0.8 * np.sin(np.arange(hours) * 2 * np.pi / 24)
    counts = np.maximum(1, RECORDS * share / share.sum()).astype(int)
    for hour, count in enumerate(counts.tolist()):
        rows = empty_flows(count)
        start = _START + hour * HOUR_NS
        rows["first_ns"] = start + np.sort(rng.integers(0, HOUR_NS - 60 * 10**9, count))
        rows["last_ns"] = rows["first_ns"] + rng.integers(10**6, 60 * 10**9, count)
        rows["arrived_ns"] = rows["last_ns"]
        rows["src_lo"] = 0xC6336400 + np.minimum(rng.zipf(1.3, count), 4000)
        rows["dst_lo"] = 0xCB007100 + np.minimum(rng.zipf(1.5, count), 500)
        rows["src_port"], rows["dst_port"], rows["transport"] = (
            rng.integers(32_768, 61_000, count),
            rng.choice([53, 80, 443, 5432, 22], count),
            6,
        )
        rows["octets"], rows["packets"] = (
            (rng.pareto(1.2, count) * 3000 + 60).astype(np.int64),
            rng.integers(1, 40, count),
        )
        rows["ingress"], rows["egress"] = rng.integers(1, 4, count), rng.integers(4, 6, count)
        clock.now_ns = start + HOUR_NS - 1
        writer.append(FlowRecords(rows, [Exporter("192.0.2.1", 0, 2)]))
        if hour % 24 == 23:
            clock.now_ns = start + HOUR_NS + 600 * 10**9
            writer.tidy()
    writer.close()
    (folder / "made").touch()


def _best(work: Callable[[], object]) -> float:
    spent = []
    for _ in range(3):
        began = time.perf_counter()
        work()
        spent.append(time.perf_counter() - began)
    return statistics.median(spent)


def _questions(folder: Path) -> None:
    data = bytes(100_000_000)
    unit = _best(lambda: hashlib.md5(data, usedforsecurity=False).digest())
    history = History(folder)
    busy = _START + 7 * DAY_NS
    month = (_START, _START + DAYS * DAY_NS)
    single = sum(path.stat().st_size for _, hour in folders(folder / "records") for path in hour.iterdir())
    whole = sum(path.stat().st_size for path in folder.rglob("*.parquet"))
    print(f"{RECORDS:,} records: {single / RECORDS:.1f} bytes a record, {whole / RECORDS:.1f} with sums")
    for words, work in (
        ("top 50 hosts of a day", lambda: history.top("host", busy, busy + DAY_NS)),
        ("a month's series from sums of 1 h", lambda: history.series(*month, LEVELS[3])),
        ("one host's records of a day", lambda: history.flows_of(0, 0xC6336400 + 77, busy, busy + DAY_NS)),
        ("all of a day, for the window", lambda: history.rows(busy, busy + DAY_NS)),
        ("all of the month, for the window", lambda: history.rows(*month)),
    ):
        spent = _best(work)
        print(f"    {words}: {spent * 1000:.0f} ms, {spent / unit:.2f} times the checksum of 100 MB")


def _reception(folder: Path, seconds: int) -> None:
    fields = [(8, 4), (12, 4), (10, 4), (14, 4), (2, 8), (1, 8), (152, 8), (153, 8), (7, 2), (11, 2), (4, 1), (5, 1)]
    template = pack("!HHHH", 2, 8 + 4 * len(fields), 300, len(fields)) + b"".join(
        pack("!HH", *field) for field in fields
    )
    keeper = Keeper(HistoryWriter(folder))
    keeper.start()
    reception = Reception(keeper, udp=(0,))
    reception.start()
    window = subprocess.Popen([sys.executable, "-m", "benchmarks.watching", str(folder), str(seconds - 1)])
    rng, sent = np.random.default_rng(2), 0
    now_ms = time.time_ns() // 10**6
    bodies = []
    for _ in range(64):
        records = b"".join(
            bytes([198, 51, 100, int(rng.integers(1, 250)), 203, 0, 113, int(rng.integers(1, 250))])
            + pack("!IIQQQQHHBB", 1, 2, 10, 5000, now_ms, now_ms + 500, int(rng.integers(30_000, 60_000)), 443, 6, 0)
            for _ in range(_EACH)
        )
        bodies.append(pack("!HH", 300, 4 + len(records)) + records)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
        sender.connect(("127.0.0.1", reception.ports[0][1]))
        began = time.perf_counter()
        while (passed := time.perf_counter() - began) < seconds:
            due = int(passed * _RATE)
            while sent < due:
                body = bodies[sent // _EACH % 64] if sent else template + bodies[0]
                sender.send(pack("!HHIII", 10, 16 + len(body), int(time.time()), sent & 0xFFFFFFFF, 1) + body)
                sent += _EACH
            time.sleep(0.002)
    window.wait()
    time.sleep(1.5)
    reception.stop()
    keeper.stop()
    status = reception.status
    rate = sent / seconds
    print(
        f"received {status.records:,} of {sent:,} records ({rate:,.0f}/s for {seconds} s): {status.kernel_drops:,}"
        f" datagrams dropped by the kernel, {status.given_up:,} given up"
    )


def main(folder: Path) -> None:
    """Questions, then reception."""
    write_history(folder / "history-30m")
    _questions(folder / "history-30m")
    target = folder / f"received-{time.time_ns()}"
    _reception(target, _SECONDS)


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("bench-data"))
