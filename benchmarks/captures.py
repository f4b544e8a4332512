"""Captures to measure with: many connections interleaved at random, written with array operations.

Each connection is a handshake and then cycles of packets: a request, an answer in segments, acknowledgements. In one
chatty cycle of fifty a segment is lost before the point and sent again. Timestamps, identification and acknowledgements
fit together.
"""

from pathlib import Path

import numpy as np

from yaffle.arrays import Array

START_NS = 1_773_124_000_000_000_000
MSS = 1448
HEAD = 66  # Ethernet, IPv4, TCP with timestamps
REQUEST = 200
CHUNK = 200_000

# One cycle, packet by packet: from the server?, first byte within the cycle, payload, bytes of the cycle acknowledged.
_DOWN = 4 * MSS + 500
_PLAIN = np.array(
    [
        (0, 0, REQUEST, 0),
        (1, 0, 0, REQUEST),
        (1, 0, MSS, REQUEST),
        (1, MSS, MSS, REQUEST),
        (0, REQUEST, 0, 2 * MSS),
        (1, 2 * MSS, MSS, REQUEST),
        (1, 3 * MSS, MSS, REQUEST),
        (0, REQUEST, 0, 4 * MSS),
        (1, 4 * MSS, 500, REQUEST),
        (0, REQUEST, 0, _DOWN),
    ]
)
# The third segment is lost; what follows brings duplicate acknowledgements, then the segment once more.
_LOSSY = np.array(
    [
        (0, 0, REQUEST, 0),
        (1, 0, MSS, REQUEST),
        (1, MSS, MSS, REQUEST),
        (0, REQUEST, 0, 2 * MSS),
        (1, 3 * MSS, MSS, REQUEST),
        (0, REQUEST, 0, 2 * MSS),
        (1, 4 * MSS, 500, REQUEST),
        (0, REQUEST, 0, 2 * MSS),
        (1, 2 * MSS, MSS, REQUEST),
        (0, REQUEST, 0, _DOWN),
    ]
)
CHATTY = np.stack([_PLAIN, _LOSSY])
# Nearly all packets full: 38 segments, acknowledged at once.
_FULL = np.array([(0, 0, REQUEST, 0), *((1, k * MSS, MSS, REQUEST) for k in range(38)), (0, REQUEST, 0, 38 * MSS)])
BULK = np.stack([_FULL, _FULL])


def _big(out: Array, at: int, values: Array, octets: int) -> None:
    for k in range(octets):
        out[:, at + k] = (values >> (8 * (octets - 1 - k))) & 255


def _frames(
    out: Array, connection: Array, place: Array, time_ns: Array, snap: int, scripts: Array, later_ns: int
) -> Array:
    """Fills rows of bytes (record header and packet); returns the length of each row."""
    length = scripts.shape[1]
    down = int(scripts[0, :, 3][scripts[0, :, 0] == 0].max())
    cycle, step = (place - 3) // length, (place - 3) % length
    lossy = ((connection * 7 + cycle) % 50 == 0).astype(np.int64)
    script = scripts[lossy, np.clip(step, 0, length - 1)]
    server, first, size, acked = (script[:, k].copy() for k in range(4))
    seq = np.where(server == 1, 1 + cycle * down + first, 1 + cycle * REQUEST + first)
    ack = np.where(server == 1, 1 + cycle * REQUEST + acked, 1 + cycle * down + acked)
    flags = np.where(size > 0, 0x18, 0x10)
    for at, values in ((0, (0, 0, 0, 0, 2)), (1, (1, 0, 0, 1, 18)), (2, (0, 1, 0, 1, 16))):
        here = place == at
        server[here], seq[here], size[here], ack[here], flags[here] = values
    wire = HEAD + size
    kept = np.minimum(wire, snap)
    out[:] = 0x41
    seen_ns = time_ns + later_ns
    for at, values in ((0, seen_ns // 10**9), (4, seen_ns % 10**9), (8, kept), (12, wire)):
        out[:, at : at + 4] = values.astype("<u4")[:, None].view(np.uint8)
    f = out[:, 16:]
    f[:, :12] = 2
    _big(f, 12, np.full(wire.size, 0x0800), 2)
    f[:, 14], f[:, 15] = 0x45, 0
    _big(f, 16, wire - 14, 2)
    _big(f, 18, (place // 2 + connection * 17) & 0xFFFF, 2)
    _big(f, 20, np.full(wire.size, 0x4000), 2)
    f[:, 22], f[:, 23], f[:, 24], f[:, 25] = np.where(server == (later_ns > 0), 64, 63), 6, 0, 0
    client = (198 << 24 | 51 << 16 | 100 << 8) + connection % 250
    host = (203 << 24 | 113 << 8) + connection % 40
    port, service = 20_000 + connection // 250, np.full(wire.size, 8080)
    _big(f, 26, np.where(server == 1, host, client), 4)
    _big(f, 30, np.where(server == 1, client, host), 4)
    _big(f, 34, np.where(server == 1, service, port), 2)
    _big(f, 36, np.where(server == 1, port, service), 2)
    _big(f, 38, seq + 1000, 4)
    _big(f, 42, np.where(place == 0, 0, ack + 1000), 4)
    f[:, 46], f[:, 47] = 0x80, flags
    _big(f, 48, np.full(wire.size, 60_000), 2)
    f[:, 50:54] = 0
    f[:, 54], f[:, 55], f[:, 56], f[:, 57] = 1, 1, 8, 10
    ticks = (time_ns - START_NS) // 10**6
    _big(f, 58, ticks + 1, 4)
    _big(f, 62, np.maximum(0, ticks - 5), 4)
    return 16 + kept


def write_interleaved(
    path: Path,
    packets: int,
    connections: int,
    snap: int,
    scripts: Array = CHATTY,
    gap_ns: int = 150,
    later_ns: int = 0,
    renewed: int = 0,
) -> Path:
    """Writes a nanosecond pcap; found again if it is there already. later_ns: as seen by a point one router further
    on, by so much later. renewed: packets after which all connections but one in a hundred are new ones; 0: never.
    """
    if path.exists():
        return path
    path.parent.mkdir(parents=True, exist_ok=True)
    _write(path, *_interleaved(packets, connections, gap_ns, renewed), snap, scripts, later_ns)
    return path


def write_ring(folder: Path, files: int, packets: int, connections: int, snap: int, renewed: int) -> list[Path]:
    """Writes one capture into several files in turn, as a ring of files; found again if they are there already."""
    paths = [folder / f"ring-{packets // 10**6}m-{number:02}.pcap" for number in range(files)]
    if not all(path.exists() for path in paths):
        folder.mkdir(parents=True, exist_ok=True)
        owner, place, time_ns = _interleaved(packets, connections, 150, renewed)
        for path, rows in zip(paths, np.array_split(np.arange(packets), files), strict=True):
            own = slice(int(rows[0]), int(rows[-1]) + 1)
            _write(path, owner[own], place[own], time_ns[own], snap, CHATTY, 0)
    return paths


def _interleaved(packets: int, connections: int, gap_ns: int, renewed: int) -> tuple[Array, Array, Array]:
    """Of each packet its connection, its place in it, and its time."""
    random = np.random.default_rng(7)
    owner = random.integers(0, connections, packets)
    if renewed:
        owner += np.where(owner % 100, connections * (np.arange(packets) // renewed), 0)
        connections = int(owner.max()) + 1
    order = np.argsort(owner, kind="stable")
    starts = np.searchsorted(owner[order], np.arange(connections))
    place = np.empty(packets, np.int64)
    place[order] = np.arange(packets) - starts[owner[order]]
    return owner, place, START_NS + np.cumsum(random.integers(1, 2 * gap_ns, packets))


def _write(path: Path, owner: Array, place: Array, time_ns: Array, snap: int, scripts: Array, later_ns: int) -> None:
    part = path.with_suffix(".part")
    with part.open("wb") as file:
        file.write(
            bytes.fromhex("4d3cb2a1020004000000000000000000") + snap.to_bytes(4, "little") + (1).to_bytes(4, "little")
        )
        for at in range(0, owner.size, CHUNK):
            here = slice(at, min(owner.size, at + CHUNK))
            out = np.empty((here.stop - at, 16 + min(snap, HEAD + MSS)), np.uint8)
            length = _frames(out, owner[here], place[here], time_ns[here], snap, scripts, later_ns)
            file.write(out[np.arange(out.shape[1])[None, :] < length[:, None]].tobytes())
    part.replace(path)
