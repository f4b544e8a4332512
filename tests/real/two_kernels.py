"""Two kernels talk TCP across a bridge of ours that delays, drops, repeats and reorders, and keeps both of its sides.

Needs root and network namespaces. Everything runs in one process: a socket stays in the namespace it was made in.
"""

import contextlib
import ctypes
import fcntl
import heapq
import os
import random
import select
import socket
import struct
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

CLIENT, SERVER = "198.51.100.77", "203.0.113.77"
MS = 1_000_000
_CLONE_NEWNET = 0x40000000
_TCP_INFO = struct.Struct("8B24I4Q6I4Q4I")
_VNET_HDR, _HELLO = (
    15,
    struct.Struct("<BBHHHH"),
)  # PACKET_VNET_HDR: flags, kind, header, segment size, checksum start and offset


def available() -> str:
    """Why this cannot be done here; empty where it can."""
    if os.geteuid() != 0:
        return "needs root to make network namespaces"
    own = f"yaffle-try-{os.getpid()}"  # Tests run beside each other.
    made = subprocess.run(["ip", "netns", "add", own], capture_output=True, check=False) if _has("ip") else None
    if made is None or made.returncode:
        return "network namespaces cannot be made here"
    subprocess.run(["ip", "netns", "del", own], check=False)
    return ""


def _has(command: str) -> bool:
    return any(os.access(os.path.join(p, command), os.X_OK) for p in os.environ["PATH"].split(":"))


@contextlib.contextmanager
def inside(space: str) -> Iterator[None]:
    libc = ctypes.CDLL(None, use_errno=True)
    here = os.open("/proc/thread-self/ns/net", os.O_RDONLY)
    there = os.open(f"/run/netns/{space}", os.O_RDONLY)
    try:
        if libc.setns(there, _CLONE_NEWNET):
            raise OSError(ctypes.get_errno(), "setns")
        yield
    finally:
        libc.setns(here, _CLONE_NEWNET)
        os.close(here)
        os.close(there)


def _offloads_off(space: str, device: str) -> None:
    with inside(space), socket.socket() as s:
        for command in (0x17, 0x1F, 0x24, 0x2C):  # ETHTOOL_STXCSUM, STSO, SGSO, SGRO
            value = ctypes.create_string_buffer(struct.pack("II", command, 0))
            with contextlib.suppress(OSError):
                fcntl.ioctl(s, 0x8946, struct.pack("16sP", device.encode(), ctypes.addressof(value)))  # SIOCETHTOOL


def _sum16(data: bytes) -> int:
    """The Internet checksum (RFC 1071)."""
    total = sum(struct.unpack(f"!{len(data) // 2}H", data[: len(data) // 2 * 2])) + (
        data[-1] << 8 if len(data) % 2 else 0
    )
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def on_the_wire(frame: bytes, segment: int) -> list[bytes]:
    """What a device makes of a frame that a host handed down: segments of at most `segment` bytes, checksums filled
    in.
    """
    if frame[12:14] != b"\x08\x00" or frame[23] != 6:
        return [frame]
    header = 14 + (frame[14] & 15) * 4
    data = header + (frame[header + 12] >> 4) * 4
    end = 14 + struct.unpack_from("!H", frame, 16)[0]
    payload, found = frame[data:end], []
    step = segment or max(1, len(payload))
    for k, at in enumerate(range(0, max(1, len(payload)), step)):
        part = payload[at : at + step]
        head = bytearray(frame[:data])
        struct.pack_into("!HH", head, 16, data - 14 + len(part), (struct.unpack_from("!H", frame, 18)[0] + k) & 0xFFFF)
        struct.pack_into("!I", head, header + 4, (struct.unpack_from("!I", frame, header + 4)[0] + at) & 0xFFFFFFFF)
        if at + step < len(payload):
            head[header + 13] &= ~0x09  # FIN and PSH go with the last.
        head[24:26] = head[header + 16 : header + 18] = b"\0\0"
        head[24:26] = struct.pack("!H", _sum16(bytes(head[14:header])))
        pseudo = bytes(head[26:34]) + struct.pack("!BBH", 0, 6, len(head) - header + len(part))
        head[header + 16 : header + 18] = struct.pack("!H", _sum16(pseudo + bytes(head[header:]) + part))
        found.append(bytes(head) + part)
    return found


@dataclass
class Way:
    """What the bridge does to packets of one direction."""

    delay_ns: int = 10 * MS
    jitter_ns: int = 0
    drop: Callable[[int, bytes], bool] = lambda number, frame: False
    again: Callable[[int, bytes], bool] = lambda number, frame: False  # delivered twice
    late_ns: Callable[[int, bytes], int] = lambda number, frame: 0  # held back by this
    rate_bps: int = 0
    queue_bytes: int = 1 << 30
    dropped: list[bytes] = field(default_factory=list)
    free_at_ns: int = 0
    count: int = 0


class Bridge:
    """Namespaces, devices, the relay, and what it saw beside the client and beside the server."""

    def __init__(
        self,
        up: Way,
        down: Way,
        sysctl: dict[str, str] | None = None,
        seed: int = 1,
        kept_bytes: int = 128,
        ethertypes: tuple[bytes, ...] = (b"\x08\x00",),
        offload: bool = False,
        protocols: tuple[int, ...] = (6,),
    ) -> None:
        """protocols: to whose packets rates and losses apply."""
        self.up, self.down, self._protocols = up, down, protocols
        self._kept_bytes, self._ethertypes = kept_bytes, ethertypes
        self.seen: dict[str, list[tuple[int, int, bytes]]] = {"near_client": [], "near_server": []}
        self.latest_ns = 0  # by which a frame was handed on behind its time, at worst
        self._random = random.Random(seed)
        self._names = [f"yaffle-{os.getpid()}-{part}" for part in ("c", "b", "s")]
        client, middle, server = self._names
        run = lambda *words: subprocess.run(words, check=True, capture_output=True)  # noqa: E731
        for name in self._names:
            run("ip", "netns", "add", name)
        for end, near, address, other in ((client, "toc", CLIENT, SERVER), (server, "tos", SERVER, CLIENT)):
            run("ip", "link", "add", "eth", "netns", end, "type", "veth", "peer", "name", near, "netns", middle)
            run("ip", "-n", end, "addr", "add", f"{address}/32", "dev", "eth")
            run("ip", "-n", end, "link", "set", "eth", "up")
            run("ip", "-n", end, "route", "add", f"{other}/32", "dev", "eth", "scope", "link")
            run("ip", "-n", middle, "link", "set", near, "up")
            if not offload:
                _offloads_off(end, "eth")
            _offloads_off(middle, near)
            for key, value in (sysctl or {}).items():
                run("ip", "netns", "exec", end, "sysctl", "-qw", f"{key}={value}")
        station = {}
        for end in (client, server):
            with inside(end), socket.socket() as s:
                station[end] = fcntl.ioctl(s, 0x8927, struct.pack("16s16x", b"eth"))[18:24].hex(":")  # SIOCGIFHWADDR
        run("ip", "-n", client, "neigh", "add", SERVER, "lladdr", station[server], "dev", "eth")
        run("ip", "-n", server, "neigh", "add", CLIENT, "lladdr", station[client], "dev", "eth")
        with inside(middle):
            self._sides = [socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3)) for _ in range(2)]
            for side, device in zip(self._sides, ("toc", "tos"), strict=True):
                side.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 24)
                side.setsockopt(263, _VNET_HDR, 1)  # SOL_PACKET: each frame says how the device is to cut it.
                side.bind((device, 0))
                side.setblocking(False)
        self._hosts: list[socket.socket] = []
        for end in (client, server) if offload else ():
            with inside(end):
                host = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
            host.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 26)
            host.setsockopt(socket.SOL_SOCKET, 35, 1)  # SO_TIMESTAMPNS: when the kernel had it, not when we read it.
            host.bind(("eth", 0))
            host.setblocking(False)
            self._hosts.append(host)
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._relay, daemon=True)
        self._thread.start()

    def space(self, side: str) -> str:
        """The network namespace of the client or the server."""
        return self._names[0 if side == "client" else 2]

    def socket(self, side: str) -> socket.socket:
        """A TCP socket of the client or the server."""
        with inside(self._names[0 if side == "client" else 2]):
            return socket.socket(socket.AF_INET, socket.SOCK_STREAM)

    def _relay(self) -> None:
        due: list[tuple[int, int, int, bytes]] = []
        number = 0
        while not self._stop.is_set():
            now = time.time_ns()
            wait = min(0.05, max(0.0, (due[0][0] - now) / 1e9)) if due else 0.05
            ready, _, _ = select.select([*self._sides, *self._hosts], [], [], wait)
            for host in (h for h in ready if h in self._hosts):
                with contextlib.suppress(BlockingIOError):
                    while True:
                        frame, ancillary, _, _ = host.recvmsg(66_000, 128)
                        if frame[12:14] in self._ethertypes:
                            stamp = struct.unpack("qq", ancillary[0][2]) if ancillary else divmod(time.time_ns(), 10**9)
                            self.seen["near_client" if host is self._hosts[0] else "near_server"].append(
                                (stamp[0] * 10**9 + stamp[1], len(frame), frame[: self._kept_bytes])
                            )
            for side in (side for side in ready if side in self._sides):
                with contextlib.suppress(BlockingIOError):
                    while True:
                        data, address = side.recvfrom(66_000)
                        if address[2] != socket.PACKET_OUTGOING:
                            for frame in on_the_wire(data[_HELLO.size :], _HELLO.unpack_from(data)[3]):
                                number += 1
                                self._take(self._sides.index(side), frame, due, number)
            now = time.time_ns()
            while due and due[0][0] <= now:
                at, _, place, frame = heapq.heappop(due)
                self.latest_ns = max(self.latest_ns, now - at)
                with contextlib.suppress(OSError):
                    self._sides[place].send(bytes(_HELLO.size) + frame)
                    self._note(place, frame)

    def _note(self, place: int, frame: bytes) -> None:
        if frame[12:14] in self._ethertypes and not self._hosts:
            self.seen["near_client" if place == 0 else "near_server"].append(
                (time.time_ns(), len(frame), frame[: self._kept_bytes])
            )

    def _take(self, place: int, frame: bytes, due: list[tuple[int, int, int, bytes]], number: int) -> None:
        self._note(place, frame)
        way = self.up if place == 0 else self.down
        at = time.time_ns() + way.delay_ns + (self._random.randrange(way.jitter_ns) if way.jitter_ns else 0)
        if frame[12:14] == b"\x08\x00" and frame[23] in self._protocols:
            way.count += 1
            if way.drop(way.count, frame):
                way.dropped.append(frame)
                return
            if way.rate_bps:
                start = max(way.free_at_ns, time.time_ns())
                if (start - time.time_ns()) * way.rate_bps // 8_000_000_000 > way.queue_bytes:
                    way.dropped.append(frame)
                    return
                way.free_at_ns = start + len(frame) * 8_000_000_000 // way.rate_bps
                at += way.free_at_ns - time.time_ns()
            at += way.late_ns(way.count, frame)
            if way.again(way.count, frame):
                heapq.heappush(due, (at + 300_000, number + (1 << 40), 1 - place, frame))
        heapq.heappush(due, (at, number, 1 - place, frame))

    def close(self, folder: Path) -> dict[str, Path]:
        """Ends everything, writes both captures; gives their paths."""
        time.sleep(0.1)
        self._stop.set()
        self._thread.join()
        for side in [*self._sides, *self._hosts]:
            side.close()
        for name in self._names:
            subprocess.run(["ip", "netns", "del", name], check=False)
        paths = {}
        for point, packets in self.seen.items():
            paths[point] = folder / f"{point}.pcap"
            record = struct.Struct("<IIII")
            body = b"".join(record.pack(t // 10**9, t % 10**9, len(kept), wire) + kept for t, wire, kept in packets)
            paths[point].write_bytes(struct.pack("<IHHiIII", 0xA1B23C4D, 2, 4, 0, 0, self._kept_bytes, 1) + body)
        return paths


@dataclass
class Turn:
    """One exchange, as the applications do it."""

    ask: int = 300
    answer: int = 2000
    think_ns: int = 5 * MS
    server_pause_ns: int = 0  # in the middle of the answer
    client_pause_ns: int = 0  # in the middle of the request
    read_bps: int = 0
    rest_ns: int = 50 * MS  # before the next one


def _read(end: socket.socket, size: int, bps: int = 0) -> None:
    left = size
    while left:
        got = end.recv(min(left, 8192 if bps else 65536))
        if not got:
            raise ConnectionError
        left -= len(got)
        if bps:
            time.sleep(len(got) * 8 / bps)


def kernel_says(end: socket.socket) -> dict[str, int]:
    """What TCP_INFO holds, as far as the tests need it."""
    raw = end.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, 280)
    u32 = struct.unpack_from("24I", raw, 8)
    return {
        "total_retrans": u32[23],
        "bytes_retrans": struct.unpack_from("Q", raw, 208)[0] if len(raw) >= 216 else 0,
        "total_rto": struct.unpack_from("H", raw, 240)[0] if len(raw) >= 248 else -1,
        "min_rtt_us": struct.unpack_from("I", raw, 148)[0] if len(raw) >= 152 else 0,
    }


def talk(bridge: Bridge, turns: list[Turn], buffer_bytes: int = 0, congestion: str = "cubic") -> dict[str, object]:
    """One connection through the bridge; what both applications and both kernels had."""
    listener = bridge.socket("server")
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    listener.bind((SERVER, 8080))
    listener.listen()
    listener.setsockopt(socket.IPPROTO_TCP, socket.TCP_CONGESTION, congestion.encode())
    told: dict[str, object] = {"served_ns": [], "waited_ns": []}

    def serve() -> None:
        end, _ = listener.accept()
        end.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        for turn in turns:
            _read(end, turn.ask)
            whole = time.time_ns()
            time.sleep(turn.think_ns / 1e9)
            first = turn.answer // 2 if turn.server_pause_ns else turn.answer
            began = time.time_ns()
            end.sendall(bytes(first))
            if first < turn.answer:
                time.sleep(turn.server_pause_ns / 1e9)
                end.sendall(bytes(turn.answer - first))
            told["served_ns"].append(began - whole + turn.server_pause_ns)  # type: ignore[attr-defined]
        end.settimeout(20)
        with contextlib.suppress(OSError):
            end.recv(1)
        told["server"] = kernel_says(end)
        end.close()

    server = threading.Thread(target=serve, daemon=True)
    server.start()
    end = bridge.socket("client")
    end.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    end.setsockopt(socket.IPPROTO_TCP, socket.TCP_CONGESTION, congestion.encode())
    if buffer_bytes:
        end.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, buffer_bytes)
    began = time.time_ns()
    end.connect((SERVER, 8080))
    told["connect_ns"] = time.time_ns() - began
    for turn in turns:
        began = time.time_ns()
        first = turn.ask // 2 if turn.client_pause_ns else turn.ask
        end.sendall(bytes(first))
        if first < turn.ask:
            time.sleep(turn.client_pause_ns / 1e9)
            end.sendall(bytes(turn.ask - first))
        _read(end, turn.answer, turn.read_bps)
        told["waited_ns"].append(time.time_ns() - began)  # type: ignore[attr-defined]
        time.sleep(turn.rest_ns / 1e9)
    told["client"] = kernel_says(end)
    end.shutdown(socket.SHUT_WR)
    server.join(30)
    end.close()
    listener.close()
    return told
