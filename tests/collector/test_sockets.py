"""Sockets as the kernel tells them: cut as plainly read, and their flow records against two real kernels."""

import random
import socket
import struct
import threading
import time

import numpy as np
import pytest

from tests.real import two_kernels
from tests.real.two_kernels import Bridge, Turn, Way, inside, kernel_says, talk
from yaffle.analysis import analyse
from yaffle.collector.flow_sender import FlowSender, address_of
from yaffle.collector.sock_diag import HEAD, INFO_SIZE, LISTEN, SOCKET, SocketWatch, rows_of
from yaffle.collector.socket_flows import SocketFlows, ends_of
from yaffle.history.layout import LEVELS
from yaffle.history.sums import summed
from yaffle.records.flow_table import ADDITIVE, MEASURED, SOCKETS, Exporter, FlowRecords, empty_flows
from yaffle.records.ipfix_writer import write_ipfix

REAL = pytest.mark.skipif(bool(two_kernels.available()), reason=two_kernels.available() or "can")
S = 10**9


def plainly(found, transport):
    """What stands in netlink messages, one after the other."""
    rows, at = [], 0
    while at + 16 <= len(found):
        length, kind = struct.unpack_from("=IH", found, at)
        if length < 16 or at + length > len(found):
            break
        if kind in (2, 3) and (kind == 3 or length >= 20):
            break
        if kind == 20 and length >= 16 + HEAD.itemsize:
            row = bytearray(found[at + 16 : at + 16 + HEAD.itemsize].ljust(SOCKET.itemsize, b"\0"))
            known, drops, traffic_class = 0, 0, 0
            place, end = at + 16 + HEAD.itemsize, at + length
            own = transport
            while place + 4 <= end:
                size, name = struct.unpack_from("=HH", found, place)
                if size < 4 or place + size > end:
                    break
                value = found[place + 4 : place + size]
                if name == 2:
                    known = min(len(value), INFO_SIZE)
                    row[HEAD.itemsize : HEAD.itemsize + known] = value[:known]
                elif name in (5, 6) and value:
                    traffic_class |= value[0]
                elif name == 7 and len(value) >= 36:
                    drops = struct.unpack_from("=I", value, 32)[0]
                elif name == 10 and value:
                    own = value[0]
                place += size + 3 & ~3
            struct.pack_into("=IIII", row, HEAD.itemsize + INFO_SIZE, known, own, traffic_class, drops)
            rows.append(bytes(row))
        at += length + 3 & ~3
    return b"".join(rows)


def message(seed):
    rng = random.Random(seed)
    head = rng.randbytes(HEAD.itemsize)
    parts = []
    for _ in range(rng.randrange(5)):
        body = rng.randbytes(rng.choice([0, 1, 3, 36, 40, 232, 280, 300]))
        parts.append(struct.pack("=HH", 4 + len(body), rng.choice([1, 2, 5, 6, 7, 10, 15])) + body)
    told = head + b"".join(part.ljust(len(part) + 3 & ~3, b"\0") for part in parts)
    return struct.pack("=IHHII", 16 + len(told), 20, 2, 1, 0) + told


def test_messages_are_cut_as_they_are_read_plainly():
    for seed in range(60):
        told = b"".join(message(seed * 100 + k) for k in range(seed % 7))
        assert rows_of(told, 6)[0].tobytes() == plainly(told, 6)


def test_what_is_broken_ends_it():
    rng = random.Random(5)
    told = b"".join(message(k) for k in range(6))
    for _ in range(300):
        broken = bytearray(told[: rng.randrange(len(told))])
        for _ in range(rng.randrange(4)):
            if broken:
                broken[rng.randrange(len(broken))] = rng.randrange(256)
        assert rows_of(bytes(broken), 6)[0].tobytes() == plainly(bytes(broken), 6)


def test_a_refusal_is_told():
    assert rows_of(struct.pack("=IHHIIi", 36, 2, 0, 1, 0, -13) + bytes(16), 6)[1] == 13


def test_all_sockets_of_this_host_are_found():
    with socket.create_server(("127.0.0.1", 0)) as listening, SocketWatch() as watch:
        ends = [socket.create_connection(listening.getsockname()) for _ in range(50)]
        others = [listening.accept()[0] for _ in ends]
        rows = watch.sockets()
        port = listening.getsockname()[1]
        assert ((rows["head"]["own_port"] == port) & (rows["head"]["state"] == LISTEN)).sum() == 1
        assert ((rows["head"]["other_port"] == port) & (rows["head"]["state"] == 1)).sum() == 50
        for one in (*ends, *others):
            one.close()
        time.sleep(0.1)
        ended = watch.ended()
        assert (ended["head"]["other_port"] == port).sum() == 50
        assert not watch.ended().size


def test_version_4_on_a_socket_of_both():
    words = np.array([[0, 0, 0xFFFF, 0xC0000201], [0x20010DB8, 0, 0, 5], [0xC0000202, 0, 0, 0]], np.uint32)
    high, low, wide = ends_of(words, np.array([True, True, False]))
    assert high.tolist() == [0, 0x20010DB800000000, 0] and wide.tolist() == [False, True, False]
    assert low.tolist() == [0xC0000201, 5, 0xC0000202]


def told_of(rows, port, sending):
    """The sums of records of one direction of the connections with a port at the server."""
    own = rows[rows["src_port" if sending == "server" else "dst_port"] == port]
    return {name: int(own[name][own[name] >= 0].sum()) for name in (*ADDITIVE, "octets", "packets")}


@REAL
def test_repeats_and_timeouts_of_connections_are_those_of_both_kernels(tmp_path):
    """Looks go on while the connection lasts, and it ends between two of them."""
    rng = random.Random(4)
    bridge = Bridge(Way(), Way(drop=lambda n, f: len(f) > 200 and rng.random() < 0.05))
    rows = {"client": [], "server": []}
    watches, flows = {}, {}
    for side in rows:
        with inside(bridge.space(side)):
            watches[side], flows[side] = SocketWatch(), SocketFlows(side)

    def look():
        for side, watch in watches.items():
            found = flows[side].seen(watch.sockets(), watch.ended(), time.time_ns())
            rows[side].append(found.rows)

    look()
    over = threading.Event()
    looking = threading.Thread(target=lambda: [look() for _ in iter(lambda: over.wait(0.2), True)])
    looking.start()
    told = talk(bridge, [Turn(answer=200_000)] * 8)
    time.sleep(0.3)
    over.set()
    looking.join()
    look()
    bridge.close(tmp_path)
    found = {side: told_of(np.concatenate(rows[side]), 8080, side) for side in rows}
    for side in rows:
        assert found[side]["retransmissions"] == told[side]["total_retrans"]
        if told[side]["total_rto"] >= 0:
            assert found[side]["timeouts"] == told[side]["total_rto"]
    assert told["server"]["total_retrans"] > 5
    sent = 8 * 200_000
    assert found["server"]["octets"] == sent + told["server"]["bytes_retrans"]
    # What came is told once, nothing of repeats there, and the end of the stream counts as an octet.
    came = np.concatenate(rows["client"])
    came = came[came["src_port"] == 8080]
    assert came["octets"].sum() - sent in (0, 1) and (came["retransmissions"] == -1).all()
    assert (came["protocol"] == SOCKETS).all() and flows["client"].vanished == 0


@REAL
def test_the_receiver_s_part_is_the_kernel_s(tmp_path):
    """A program that reads slowly closes the window: what the sender's kernel says of it, to a twentieth."""
    bridge = Bridge(Way(delay_ns=2_000_000), Way(delay_ns=2_000_000))
    with inside(bridge.space("server")):
        watch, flows = SocketWatch(), SocketFlows("server")
    flows.seen(watch.sockets(), watch.ended(), time.time_ns())
    listener, end = bridge.socket("server"), bridge.socket("client")
    end.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 8192)
    listener.bind((two_kernels.SERVER, 8081))
    listener.listen()
    end.connect((two_kernels.SERVER, 8081))
    far, _ = listener.accept()
    far.setblocking(False)
    data, rows = bytes(300_000), []
    began = time.monotonic()
    while time.monotonic() - began < 2.5:
        try:
            far.send(data)
        except BlockingIOError:
            pass
        time.sleep(0.02)
        end.recv(4000)
        if len(rows) < (time.monotonic() - began) * 2:
            rows.append(flows.seen(watch.sockets(), watch.ended(), time.time_ns()).rows)
    raw = far.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, 280)
    rows.append(flows.seen(watch.sockets(), watch.ended(), time.time_ns()).rows)
    assert kernel_says(far)["total_retrans"] >= 0
    busy_us, receiver_us, sender_us = struct.unpack_from("3Q", raw, 168)
    found = told_of(np.concatenate(rows), 8081, "server")
    assert found["receiver_limited_ns"] == pytest.approx(receiver_us * 1000, rel=0.05)
    assert found["busy_ns"] == pytest.approx(busy_us * 1000, rel=0.05)
    assert found["sender_limited_ns"] == pytest.approx(sender_us * 1000, rel=0.05, abs=20_000_000)
    assert receiver_us > 1_000_000  # The window was what held it up, most of the time.
    for one in (end, far, listener):
        one.close()
    bridge.close(tmp_path)


def measured(count=500, seed=2):
    rng = np.random.default_rng(seed)
    rows = empty_flows(count)
    rows["transport"], rows["protocol"] = 6, SOCKETS
    for side in ("src", "dst"):
        rows[f"{side}_lo"] = rng.integers(0xC0000200, 0xC0000208, count)
    rows["src_port"], rows["dst_port"] = rng.integers(1024, 1030, count), 443
    rows["first_ns"] = 1_790_000_000 * S + rng.integers(0, 300, count) * S
    rows["last_ns"] = rows["first_ns"] + rng.integers(1, 100, count) * S
    rows["arrived_ns"] = rows["last_ns"]
    rows["octets"], rows["packets"] = rng.integers(0, 10**7, count), rng.integers(1, 1000, count)
    known = rng.random(count) < 0.6
    for name in MEASURED:
        rows[name] = np.where(known, rng.integers(1, 10**6, count), -1)
    return rows


def test_sums_of_what_kernels_measured_add_up():
    rows = measured()
    sums = summed(rows, LEVELS[1])
    for name in ADDITIVE:
        assert sums[name][sums[name] >= 0].sum() == rows[name][rows[name] >= 0].sum()
    told = rows["floor_ns"][rows["floor_ns"] >= 0]
    assert sums["floor_ns"][sums["floor_ns"] >= 0].min() == told.min()
    trips = sums["round_trip_ns"][sums["round_trip_ns"] >= 0]
    assert rows["round_trip_ns"].max() >= trips.max() and trips.min() >= 1
    none = rows[rows["busy_ns"] < 0]
    assert (summed(none, LEVELS[1])["busy_ns"] == -1).all()


def test_what_is_sent_on_is_understood_again(tmp_path):
    rows = measured()
    assert write_ipfix(tmp_path / "a.ipfix", rows, [Exporter("quay", 0, SOCKETS)]) == rows.size
    again = analyse([tmp_path / "a.ipfix"]).flows
    order = np.argsort(rows["arrived_ns"], kind="stable")
    for name in MEASURED:
        assert (again.rows[name] == rows[name][order]).all()
    assert not again.own and again.exporters[0].undecoded == 0


def test_a_datagram_fits_any_network_and_nobody_is_needed():
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as other:
        other.bind(("127.0.0.1", 0))
        other.settimeout(5)
        sender = FlowSender(f"udp://127.0.0.1:{other.getsockname()[1]}")
        rows = measured(40)
        rows["ipv6"] = 1
        sender.send(FlowRecords(rows, [Exporter("quay", 0, SOCKETS)]))
        sizes = [len(other.recv(9000)) for _ in range(5)]
        assert max(sizes) <= 1452
    sender.send(FlowRecords(rows, [Exporter("quay", 0, SOCKETS)]))
    assert sender.refused > 0
    sender.close()


@pytest.mark.parametrize(
    "url", ["192.0.2.9:4739", "tcp://192.0.2.9:4739", "udp://192.0.2.9", "udp://:4739", "udp://a:1/b"]
)
def test_where_it_cannot_be_sent(url):
    with pytest.raises(ValueError, match="udp://"):
        address_of(url)
