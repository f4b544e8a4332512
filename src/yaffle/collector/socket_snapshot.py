"""This host's sockets and interfaces as they are now, for a window that looks: written beside the history meanwhile."""

import time
from pathlib import Path

import numpy as np
import pyarrow as pa

from yaffle.arrays import Array
from yaffle.capture.addresses import labels_of
from yaffle.collector.host_reader import HostReader
from yaffle.collector.sock_diag import LISTEN, STATES
from yaffle.collector.socket_flows import ends_of
from yaffle.collector.socket_owners import Owner
from yaffle.records.counter_table import COUNTS

NOW, WANTED, SOCKETS_FILE, INTERFACES_FILE = "now", "wanted", "sockets.arrow", "interfaces.arrow"
_WANTED_S = 15.0  # So long after it was last said, somebody looks.
_V6, _NO_FLOOR = 10, 0xFFFFFFFF
_RISING = (
    "retransmissions", "timeouts", "busy_us", "receiver_limited_us", "sender_limited_us", "sent", "received",
)  # fmt: skip
_PLAIN = ("round_trip_us", "floor_us", "window", "segment", "not_sent", "acknowledged", "delivery_rate", *_RISING)


def want(folder: Path) -> None:
    """Says that somebody looks. Raises OSError."""
    (folder / NOW).mkdir(exist_ok=True)
    (folder / NOW / WANTED).touch()


def is_wanted(folder: Path) -> bool:
    """Whether somebody looks."""
    try:
        return time.time() - (folder / NOW / WANTED).stat().st_mtime < _WANTED_S
    except OSError:
        return False


class Snapshots:
    """Tables of sockets, each with what moved since the one before."""

    def __init__(self, device: str) -> None:
        self._device = device
        self._before: Array | None = None
        self._taken_ns = 0

    def table(self, held: Array, owned: dict[int, Owner], now_ns: int) -> pa.Table:
        """A row a socket. held: SOCKET; what rose is told by its rise a second, and since the socket began."""
        held = held[np.argsort(held["head"]["cookie"], kind="stable")]
        head, info = held["head"], held["info"]
        known = held["beside"]["known"] > 0
        columns: dict[str, object] = {
            "time_ns": np.full(held.size, now_ns),
            "device": [self._device] * held.size,
            "transport": np.where(held["beside"]["transport"] == 17, "UDP", "TCP").tolist(),
            "state": [STATES[min(state, len(STATES) - 1)] for state in head["state"].tolist()],
        }
        for end, words in (("own", head["own"]), ("other", head["other"])):
            high, low, ipv6 = ends_of(words, head["family"] == _V6)
            labels = labels_of(high, low, ipv6.view(np.uint8))
            columns[end] = [labels.texts[code] for code in labels.codes.tolist()]
            columns[f"{end}_port"] = head[f"{end}_port"].astype(np.int64)
        people = [owned.get(inode) for inode in head["inode"].tolist()]
        columns["program"] = [one.program if one else "" for one in people]
        columns["process"] = [one.process if one else 0 for one in people]
        columns["unit"] = [one.unit if one else "" for one in people]
        columns["user"] = head["user"].astype(np.int64)
        for name in ("receive_queue", "send_queue"):
            columns[name] = head[name].astype(np.int64)
        columns["drops"] = held["beside"]["drops"].astype(np.int64)
        for name in _PLAIN:
            columns[name] = np.where(known, info[name].astype(np.int64), 0)
        columns["floor_us"] = np.where(info["floor_us"] == _NO_FLOOR, 0, columns["floor_us"])  # type: ignore[call-overload]
        columns |= self._rises(held, known, now_ns)
        columns["listening"] = (head["state"] == LISTEN) | (head["other_port"] == 0)
        self._before, self._taken_ns = held, now_ns
        return pa.table({name: pa.array(values) for name, values in columns.items()})

    def _rises(self, held: Array, known: Array, now_ns: int) -> dict[str, Array]:
        """What rose since the table before; nothing in the first one."""
        before = self._before
        if before is None or not before.size:
            return {f"{name}_rise": np.zeros(held.size, np.int64) for name in (*_RISING, "drops")} | {
                "span_ns": np.zeros(held.size, np.int64)
            }
        cookie = held["head"]["cookie"]
        place = np.minimum(np.searchsorted(before["head"]["cookie"], cookie), before.size - 1)
        old = before["head"]["cookie"][place] == cookie
        found = {}
        for name in _RISING:
            former = np.where(old, before["info"][name][place].astype(np.int64), 0)
            found[f"{name}_rise"] = np.where(known, np.maximum(0, held["info"][name].astype(np.int64) - former), 0)
        dropped = np.where(old, before["beside"]["drops"][place].astype(np.int64), 0)
        found["drops_rise"] = np.maximum(0, held["beside"]["drops"].astype(np.int64) - dropped)
        return found | {"span_ns": np.full(held.size, now_ns - self._taken_ns)}


def interfaces_now(reader: HostReader) -> pa.Table:
    """A row an interface with what it counted, and beside each what the host's processors did for all of them."""
    counters = reader.counters()
    sums = reader.interrupts()
    columns: dict[str, object] = {name: counters.rows[name] for name in ("time_ns", "speed_bps", *COUNTS)}
    columns["name"] = [counters.name(0, number) for number in counters.rows["interface"].tolist()]
    columns |= {name: [value] * counters.rows.size for name, value in sums.items()}
    return pa.table({name: pa.array(values) for name, values in columns.items()})


def write_snapshot(folder: Path, name: str, table: pa.Table) -> None:
    """Puts a table where the window looks, whole. Raises OSError."""
    path = folder / NOW / name
    part = path.with_suffix(".part")
    with pa.OSFile(str(part), "wb") as file, pa.ipc.new_file(file, table.schema) as writer:
        writer.write_table(table)
    part.replace(path)


def read_snapshot(folder: Path, name: str) -> pa.Table | None:
    """The last one; None without. Raises OSError where it cannot be read."""
    path = folder / NOW / name
    if not path.exists():
        return None
    try:
        return pa.ipc.open_file(pa.BufferReader(path.read_bytes())).read_all()
    except pa.ArrowException as error:
        raise OSError(f"{path}: {error}") from error
