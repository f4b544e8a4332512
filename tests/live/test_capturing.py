"""Captured in a namespace of its own: what is written is what another socket saw, and everything is counted."""

import contextlib
import fcntl
import ipaddress
import json
import os
import shutil
import signal
import socket
import struct
import subprocess
import sys
import threading
import time

import pytest

from tests.collector.test_collector import until
from tests.live.plain_filter import selects
from tests.live.test_packet_filter import HOSTS, PORTS, frame
from tests.real.two_kernels import available, inside
from yaffle.analysis import analyse
from yaffle.capture.reader import read_captures
from yaffle.demo.pier_air import make_pier_air

REAL = pytest.mark.skipif(bool(available()), reason=available() or "can")
_AUX, _SOL_PACKET = 8, 263
_CAP_NET_RAW, _PR_CAPBSET_DROP = 13, 24


class Wire:
    """Two namespaces, each with an interface `eth`; all that is sent at one end is seen at the other."""

    def __init__(self):
        self.near, self.far = (f"yaffle-{os.getpid()}-{end}" for end in ("near", "far"))
        for space in (self.near, self.far):
            self.run("ip", "netns", "add", space)
        self.join()

    def join(self):
        """Puts a cable between them."""
        self.run(
            "ip", "link", "add", "eth", "netns", self.near, "type", "veth", "peer", "name", "eth", "netns", self.far
        )
        for space in (self.near, self.far):
            self.run("ip", "netns", "exec", space, "sysctl", "-qw", "net.ipv6.conf.eth.disable_ipv6=1")
            self.run("ip", "-n", space, "link", "set", "eth", "up", "arp", "off")

    def run(self, *words):
        subprocess.run(words, check=True, capture_output=True)

    def sending(self):
        """A socket that sends frames at the near end."""
        with inside(self.near):
            own = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
            own.bind(("eth", 0))
        return own

    def seeing(self):
        """A socket that sees at the far end what comes, with the tags that the kernel took out put back."""
        with inside(self.far):
            own = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
            own.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 26)
            own.setsockopt(_SOL_PACKET, _AUX, 1)
            own.bind(("eth", 3))
        own.settimeout(0.5)
        return own

    def command(self, *words):
        """The command line at the far end."""
        return [
            "ip",
            "netns",
            "exec",
            self.far,
            sys.executable,
            "-m",
            "yaffle",
            "capture",
            "--interface",
            "eth",
            *words,
        ]

    def close(self):
        for space in (self.near, self.far):
            left = subprocess.run(["ip", "netns", "pids", space], capture_output=True, text=True, check=False)
            for process in left.stdout.split():  # Of a test that failed.
                os.kill(int(process), signal.SIGKILL)
            subprocess.run(["ip", "netns", "del", space], check=False, capture_output=True)


@pytest.fixture
def wire():
    one = Wire()
    yield one
    one.close()


def seen_by(own):
    """All frames that a socket saw, until it is quiet."""
    found = []
    while True:
        try:
            data, told, _, _ = own.recvmsg(70_000, 256)
        except TimeoutError:
            return found
        for level, kind, value in told:
            if (level, kind) == (_SOL_PACKET, _AUX):
                status, _, _, _, _, tci, tpid = struct.unpack_from("IIIHHHH", value)
                if status & 0x10:
                    data = data[:12] + struct.pack("!HH", tpid if status & 0x40 else 0x8100, tci) + data[12:]
        found.append(data)


def started(words, ring, **more):
    """A capture that has opened its socket."""
    before = set(ring.glob("*.pcapng"))
    process = subprocess.Popen(words, stdout=subprocess.PIPE, text=True, **more)
    until = time.monotonic() + 60
    while not set(ring.glob("*.pcapng")) - before:
        assert time.monotonic() < until and process.poll() is None
        time.sleep(0.02)
    return process


def ended(process):
    """Its last word, after SIGINT."""
    process.send_signal(signal.SIGINT)
    out, _ = process.communicate(timeout=60)
    assert process.returncode == 0
    return json.loads(out)


def packets_of(folder):
    """Octets of all packets of a ring, in order, block by block; what cannot be a block ends a file."""
    found, times = [], []
    for path in sorted(folder.glob("*.pcapng")):
        data, at = path.read_bytes(), 0
        while at + 12 <= len(data):
            kind, size = struct.unpack_from("<II", data, at)
            if size < 12 or at + size > len(data):
                break
            if kind == 6:
                high, low, kept = struct.unpack_from("<III", data, at + 12)
                found.append(data[at + 28 : at + 28 + kept])
                times.append(high << 32 | low)
            at += size
    return found, times


@REAL
def test_it_is_octet_for_octet_what_another_socket_saw(wire, tmp_path):
    ring, frames = tmp_path / "ring", [frame(seed) for seed in range(3000)]
    capture = started(wire.command("--ring", str(ring), "--json", "-"), ring)
    other, own = wire.seeing(), wire.sending()
    for one in frames:
        own.send(one.ljust(14, b"\0"))
    other_saw = seen_by(other)
    told = ended(capture)
    kept, times = packets_of(ring)
    assert kept == other_saw and len(kept) == len(frames)
    assert (told["captured"], told["dropped"], told["format"]) == (len(frames), 0, "yaffle-capture")
    assert [one["name"] for one in told["interfaces"]] == ["eth"] and told["trouble"] == ""
    assert abs(times[0] / 1e9 - time.time()) < 60 and times == sorted(times)
    assert any(one[12:14] == b"\x81\x00" for one in kept)


@REAL
@pytest.mark.parametrize(("hosts", "ports"), [([HOSTS[0], HOSTS[3]], []), ([], PORTS[:2]), (HOSTS[1:2], PORTS)])
def test_the_kernel_selects_what_is_selected_plainly(wire, tmp_path, hosts, ports):
    ring, frames = tmp_path / "ring", [frame(seed).ljust(60, b"\0") for seed in range(2000)]
    words = [word for host in hosts for word in ("--host", host)] + [
        word for port in ports for word in ("--port", str(port))
    ]
    capture = started(wire.command("--ring", str(ring), "--json", "-", *words), ring)
    own = wire.sending()
    for one in frames:
        own.send(one)
    time.sleep(0.3)
    told = ended(capture)
    kept, _ = packets_of(ring)
    assert kept == [one for one in frames if selects(one, hosts, ports)]
    assert told["captured"] == len(kept) > 50


@REAL
def test_masked_from_the_start(wire, tmp_path):
    ring = tmp_path / "ring"
    capture = started(wire.command("--ring", str(ring), "--mask", "--json", "-"), ring)
    own, times = wire.sending(), 40
    for port in range(times):
        own.send(tcp_frame(HOSTS[0], HOSTS[1], 40_000 + port, b"GET /secret HTTP/1.1"))
    told = ended(capture)
    assert told["captured"] == times
    data = b"".join(path.read_bytes() for path in ring.glob("*.pcapng"))
    assert b"secret" not in data
    packed = [ipaddress.ip_address(host).packed for host in HOSTS[:2]]
    assert not any(address in data for address in packed)
    capture = read_captures(sorted(ring.glob("*.pcapng")))
    flows = capture.conversations
    assert (
        flows.point.size == times and len({(int(a), int(b)) for a, b in zip(flows.a_lo, flows.b_lo, strict=True)}) == 1
    )
    assert set(capture.packets.wire_bytes.tolist()) == {14 + 40 + 20}


def tcp_frame(source, target, port, payload):
    ends = ipaddress.ip_address(source).packed + ipaddress.ip_address(target).packed
    head = struct.pack("!BBHHHBBH", 0x45, 0, 40 + len(payload), 1, 0, 64, 6, 0) + ends
    segment = struct.pack("!HHIIBBHHH", port, 80, 1, 1, 0x50, 0x18, 1000, 0, 0)
    return bytes(6) + b"\x02" + bytes(5) + b"\x08\x00" + head + segment + payload


@REAL
def test_slices_keep_the_length_on_the_wire(wire, tmp_path):
    ring = tmp_path / "ring"
    capture = started(wire.command("--ring", str(ring), "--json", "-", "--slice", "64"), ring)
    own = wire.sending()
    for size in (60, 100, 1500):
        own.send(frame(3)[:40].ljust(size, b"x"))
    time.sleep(0.3)
    ended(capture)
    kept, _ = packets_of(ring)
    assert [len(one) for one in kept] == [60, 64, 64]
    held = read_captures(sorted(ring.glob("*.pcapng")))
    assert held.packets.wire_bytes.tolist() == [60, 100, 1500]


@REAL
def test_the_ring_is_bounded_and_its_files_can_be_read_after_a_kill(wire, tmp_path):
    ring = tmp_path / "ring"
    capture = started(wire.command("--ring", str(ring), "--limit-bytes", "1MiB"), ring, start_new_session=True)
    own, body = wire.sending(), frame(3)[:40].ljust(1000, b"y")
    over = time.monotonic() + 3
    while time.monotonic() < over:
        for _ in range(100):
            own.send(body)
        time.sleep(0.01)
        assert size_of(ring) <= 1 << 20
    time.sleep(1)
    for process in (capture.pid, *children(capture.pid)):
        os.kill(process, signal.SIGKILL)
    capture.wait()
    kept, times = packets_of(ring)
    assert 500 < len(kept) <= 1 << 10 and all(one == body for one in kept)
    assert time.time_ns() - times[-1] < 4 * 10**9
    again = started(wire.command("--ring", str(ring), "--json", "-", "--limit-bytes", "1MiB"), tmp_path / "ring")
    time.sleep(1)
    told = ended(again)
    assert size_of(ring) <= 1 << 20
    assert told["files"] == [str(path) for path in sorted(ring.glob("*.pcapng"))]


def size_of(ring):
    """Octets of all files; one that goes meanwhile has none."""
    total = 0
    for path in ring.glob("*.pcapng"):
        with contextlib.suppress(FileNotFoundError):
            total += path.stat().st_size
    return total


def children(process):
    with open(f"/proc/{process}/task/{process}/children") as told:
        own = [int(word) for word in told.read().split()]
    return own + [one for child in own for one in children(child)]


@REAL
def test_files_that_are_too_old_go(wire, tmp_path):
    ring = tmp_path / "ring"
    capture = started(wire.command("--ring", str(ring), "--json", "-", "--limit-time", "2s"), ring)
    own = wire.sending()
    for k in range(60):
        own.send(frame(3)[:40].ljust(100, bytes([k])))
        time.sleep(0.08)
    _, times = packets_of(ring)
    assert 1.0 < (times[-1] - times[0]) / 1e9 < 3.5
    told = ended(capture)
    assert told["captured"] == 60 and len(told["files"]) > 3


@REAL
def test_a_full_disk_is_said_and_writing_goes_on(wire, tmp_path):
    ring = tmp_path / "ring"
    ring.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=40m", "tmpfs", str(ring)], check=True)
    try:
        capture = started(wire.command("--ring", str(ring), "--json", "-"), ring)
        filler = ring / "filler"
        filler.write_bytes(bytes(38 << 20))
        own, body = wire.sending(), frame(3)[:40].ljust(1400, b"z")
        for _ in range(30):
            for _ in range(200):
                own.send(body)
            time.sleep(0.02)
        time.sleep(1.5)
        filler.unlink()
        time.sleep(1.5)
        for _ in range(50):
            own.send(body)
        time.sleep(1)
        told = ended(capture)
        kept, _ = packets_of(ring)
        assert told["captured"] == 6050 and 0 < told["unwritten"] < 6050
        assert len(kept) == told["captured"] - told["unwritten"]
        assert len(told["files"]) > 1 and told["trouble"] == ""
    finally:
        subprocess.run(["umount", str(ring)], check=False)


@REAL
def test_an_interface_that_goes_and_comes_back(wire, tmp_path):
    ring = tmp_path / "ring"
    capture = started(wire.command("--ring", str(ring), "--json", "-"), ring)
    wire.sending().send(frame(3)[:40].ljust(100, b"1"))
    time.sleep(0.3)
    wire.run("ip", "-n", wire.far, "link", "del", "eth")
    time.sleep(1.5)
    wire.join()
    time.sleep(2)
    wire.sending().send(frame(3)[:40].ljust(100, b"2"))
    time.sleep(0.3)
    told = ended(capture)
    kept, _ = packets_of(ring)
    assert [one[-1:] for one in kept] == [b"1", b"2"] and told["trouble"] == ""


@REAL
def test_all_interfaces_are_told_apart(wire, tmp_path):
    ring = tmp_path / "ring"
    wire.run("ip", "-n", wire.far, "link", "set", "lo", "up")
    words = [word if word != "eth" else "any" for word in wire.command("--ring", str(ring), "--json", "-")]
    capture = started(words, ring)
    wire.sending().send(frame(3)[:40].ljust(100, b"1"))
    with inside(wire.far), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as own:
        own.sendto(b"within", ("127.0.0.1", 9))
    time.sleep(0.5)
    told = ended(capture)
    counts = {one["name"]: one["captured"] for one in told["interfaces"]}
    assert counts["eth"] == 1 and 1 <= counts["lo"] <= 2  # And what came back: nobody has that port.
    sources = read_captures(sorted(ring.glob("*.pcapng"))).sources
    assert {face.name for source in sources for face in source.interfaces} == {"eth", "lo"}


@REAL
def test_everything_is_counted_at_any_rate(wire, tmp_path):
    """What was sent is captured or dropped, whatever the ring could take."""
    ring = tmp_path / "ring"
    capture = started(wire.command("--ring", str(ring), "--json", "-", "--slice", "128"), ring)
    body, sent = frame(3)[:40].ljust(128, b"q"), []

    def send():
        own, count, until = wire.sending(), 0, time.monotonic() + 2
        while time.monotonic() < until:
            own.send(body)
            count += 1
        sent.append(count)

    threads = [threading.Thread(target=send) for _ in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    time.sleep(0.5)
    told = ended(capture)
    assert told["captured"] + told["dropped"] == sum(sent) > 10_000
    assert len(packets_of(ring)[0]) == told["captured"] - told["unwritten"]


@REAL
def test_the_time_counts_from_the_open_socket(wire, tmp_path):
    done = subprocess.run(
        wire.command("--ring", str(tmp_path / "r"), "--seconds", "1", "--json", "-"),
        capture_output=True,
        text=True,
        timeout=60,
        check=True,
    )
    told = json.loads(done.stdout)
    assert told["captured"] == 0 and len(told["files"]) == 1
    assert analyse([told["files"][0]]).capture.packets.time_ns.size == 0


def without_right():
    import ctypes

    assert ctypes.CDLL(None).prctl(_PR_CAPBSET_DROP, _CAP_NET_RAW, 0, 0, 0) == 0


@REAL
def test_without_the_right_it_says_what_helps(tmp_path):
    words = [sys.executable, "-m", "yaffle", "capture", "--interface", "lo", "--ring", str(tmp_path / "ring")]
    done = subprocess.run(words, capture_output=True, text=True, preexec_fn=without_right, timeout=60, check=False)
    assert done.returncode == 2
    assert "CAP_NET_RAW" in done.stderr and "sudo setcap cap_net_raw+ep" in done.stderr
    assert not (tmp_path / "ring").exists()


@pytest.mark.parametrize(
    ("more", "words"),
    [
        (("--interface", "nope7"), "there is no such interface"),
        (("--interface", "lo", "--host", "pier"), "no address"),
        (("--interface", "lo", "--limit-bytes", "3"), "--limit-bytes: 3 is no amount from 1024KiB up"),
        (("--interface", "lo", "--limit-time", "soon"), "--limit-time soon: expected a duration"),
    ],
)
def test_what_cannot_be_captured_is_said(tmp_path, more, words):
    command = [sys.executable, "-m", "yaffle", "capture", "--ring", str(tmp_path / "ring"), *more]
    done = subprocess.run(command, capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode == 2 and words in done.stderr


@REAL
def test_what_a_radio_hears_is_captured_as_such(tmp_path):
    """A device of the kernel's kind for radios that listen, into which a process puts what one heard."""
    air = analyse([make_pier_air(tmp_path / "air.pcapng")])
    (tmp_path / "heard").mkdir()
    shutil.copy(tmp_path / "air.pcapng", tmp_path / "heard")
    frames = packets_of(tmp_path / "heard")[0][:400]
    space, name = f"yaffle-{os.getpid()}-air", "mon0"
    subprocess.run(["ip", "netns", "add", space], check=True)
    try:
        with inside(space):
            device = os.open("/dev/net/tun", os.O_RDWR)
            fcntl.ioctl(device, 0x400454CA, struct.pack("16sH22x", name.encode(), 0x1002))  # TUNSETIFF: tap, no header
            fcntl.ioctl(device, 0x400454CD, 803)  # TUNSETLINK: ARPHRD_IEEE80211_RADIOTAP
            subprocess.run(["ip", "link", "set", name, "up"], check=True)
        ring = tmp_path / "ring"
        command = [sys.executable, "-m", "yaffle", "capture", "--interface", name, "--ring", str(ring)]
        with (tmp_path / "log").open("wb") as log:
            process = subprocess.Popen(["ip", "netns", "exec", space, *command], stdout=log, stderr=log)
            until(lambda: list(ring.glob("*.pcapng")), "a file")
            time.sleep(0.5)
            for frame_ in frames:
                os.write(device, frame_)
            time.sleep(1.5)
            process.send_signal(signal.SIGINT)
            assert process.wait(20) == 0, (tmp_path / "log").read_text()
        os.close(device)
    finally:
        subprocess.run(["ip", "netns", "del", space], check=False)
    found = analyse(sorted(ring.glob("*.pcapng"))).radio
    assert {one.bssid for one in found.access_points} == {one.bssid for one in air.radio.access_points}
    assert found.heard.size >= 300
