"""Packets of STAMP by the RFCs; a responder that is attacked."""

import contextlib
import random
import socket
import struct
import subprocess
import sys
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yaffle.errors import YaffleError
from yaffle.probing import stamp
from yaffle.probing.respond import Responder
from yaffle.probing.result import Result, document

KEY = b"harbour"
NOW = 1_800_000_000_123_456_789


@given(st.integers(0, 4_000_000_000 * 10**9))
def test_timestamps_keep_a_quarter_of_a_nanosecond(now_ns):
    assert abs(stamp.ns_of(*stamp.ntp_of(now_ns)) - now_ns) <= 1


@pytest.mark.parametrize("key", [b"", KEY])
def test_a_packet_and_its_answer(key):
    octets = stamp.ask(7, NOW, key=key)
    assert len(octets) == (112 if key else 44)
    asked = stamp.read_ask(octets, key)
    assert asked.number == 7 and abs(stamp.ns_of(*asked.sent) - NOW) <= 1
    reply = stamp.answer(asked, 3, NOW + 5_000_000, 61, key)
    assert len(reply) == len(octets)
    told = stamp.read_answer(reply, key)
    assert (told.number, told.reflected) == (7, 3)
    assert abs(told.sent_ns - NOW) <= 1 and abs(told.received_ns - NOW - 5_000_000) <= 1
    assert abs(told.returned_ns - time.time_ns()) < 10**10
    if key:
        assert stamp.read_ask(octets, b"another") is None and stamp.read_answer(reply, b"another") is None


def test_a_reflector_may_tell_times_as_ptp_does():
    asked = stamp.read_ask(stamp.ask(7, NOW))
    reply = bytearray(stamp.answer(asked, 0, NOW, 64))
    reply[4:14] = struct.pack("!IIH", 1_800_000_000, 999, 0x4001)
    reply[16:24] = struct.pack("!II", 1_800_000_000, 5)
    told = stamp.read_answer(bytes(reply))
    assert (told.returned_ns, told.received_ns) == (1_800_000_000 * 10**9 + 999, 1_800_000_000 * 10**9 + 5)
    assert abs(told.sent_ns - NOW) <= 1


@given(st.binary(max_size=300), st.sampled_from([b"", KEY]))
def test_anything_can_be_read(octets, key):
    stamp.read_ask(octets, key)
    stamp.read_answer(octets, key)
    assert len(stamp.tlvs_back(octets)) == len(octets)


def test_tlvs_come_back_with_what_is_not_known_marked():
    known, unknown = b"\x80\x01\x00\x04abcd", b"\x80\xc8\x00\x02xy"
    assert stamp.tlvs_back(known + unknown) == b"\x00\x01\x00\x04abcd" + b"\x80\xc8\x00\x02xy"
    assert stamp.tlvs_back(b"\x80\x01\x00\xffab") == b"\x40\x01\x00\xffab"


@pytest.fixture
def responder():
    own = Responder(port=0)
    own.start()
    yield own
    own.stop()


def socket_to(responder):
    own = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    own.connect(("127.0.0.1", responder.port))
    own.settimeout(2)
    return own


def test_numbers_of_a_session_count_what_came(responder):
    with socket_to(responder) as own:
        for number in (0, 1, 3, 4):
            own.send(stamp.ask(number, time.time_ns()))
            told = stamp.read_answer(own.recv(2000))
            assert told.number == number
        assert told.reflected == 3
        with_tlv = stamp.ask(5, time.time_ns()) + b"\x80\xc8\x00\x02xy"
        own.send(with_tlv)
        assert own.recv(2000)[44:] == b"\x80\xc8\x00\x02xy"
    with socket_to(responder) as other:
        other.send(stamp.ask(0, time.time_ns()))
        assert stamp.read_answer(other.recv(2000)).reflected == 0


def test_what_is_attacked_goes_on_and_answers_nobody_else(responder):
    dice = random.Random(1)
    with socket_to(responder) as own, socket_to(responder) as good:
        for _ in range(4000):
            size = dice.choice((0, 1, 43, 44, 60, 1499, 1501, 9000))
            own.send(dice.randbytes(size))
        own.settimeout(0.2)
        longest, answered = 0, 0
        try:
            while True:
                longest, answered = max(longest, len(own.recv(20_000))), answered + 1
        except TimeoutError:
            pass
        assert longest <= 1500 and responder.counts.malformed > 100
        time.sleep(1.1)  # The rate of an address is by the second.
        good.send(stamp.ask(0, time.time_ns()))
        assert stamp.read_answer(good.recv(2000)) is not None
    for octets in (
        b"",
        b"x" * 5000,
        b"{}\n",
        b'{"wish": "{}"}\n',
        b"[" * 2000 + b"\n",
        b'{"wish": "{\\"do\\": \\"media\\", \\"codec\\": \\"tin\\", \\"seconds\\": 1}"}\n',
        b'{"wish": "[1]"}\n',
        b'{"wish": "{\\"do\\": \\"rm\\"}"}\n',
    ):
        with socket.create_connection(("127.0.0.1", responder.port)) as one:
            one.sendall(octets)
            one.shutdown(socket.SHUT_WR)
            with contextlib.suppress(ConnectionResetError):
                while one.recv(4096):
                    pass
    assert responder.counts.served == 0


def test_only_allowed_networks_are_answered():
    own = Responder(port=0, allow=["192.0.2.0/24", "2001:db8::/32"])
    own.start()
    told = {
        a: own.allowed(a) for a in ("127.0.0.1", "192.0.2.7", "::ffff:192.0.2.7", "198.51.100.1", "2001:db8::1", "::2")
    }
    own._answer(stamp.ask(0, 1), [], ("198.51.100.1", 9), cut=False)
    own.stop()
    assert list(told.values()) == [True, True, True, False, True, False]
    assert own.counts.forbidden == 1 and own.counts.answered == 0
    with pytest.raises(YaffleError, match="allow"):
        Responder(allow=["pier"]).start()
    taken = Responder(port=0)
    taken.start()
    with pytest.raises(YaffleError, match="port"):
        Responder(port=taken.port).start()
    taken.stop()


def test_one_address_is_answered_so_often_only(responder, monkeypatch):
    monkeypatch.setattr("yaffle.probing.respond._RATE", 10)
    now = time.time_ns()
    assert sum(responder._in_time("192.0.2.1", now) for _ in range(30)) == 10
    assert responder._in_time("192.0.2.2", now) and responder._in_time("192.0.2.1", now + 10**9)


def test_of_several_runs_the_best_and_the_worst_are_dropped():
    def run(bps, way):
        return Result("speed", "x", 1, True, "", 1.0, {"direction": way, "bps": bps})

    told = document([run(bps, way) for bps in (5e6, 1e6, 9e6, 6e6) for way in ("there", "back")])["summary"]["runs"]
    assert told["there"] == {"runs": 4, "kept": 2, "median_bps": 5e6, "min_bps": 5e6, "max_bps": 6e6}
    assert "runs" not in document([run(1.0, "there")])["summary"]


def resident(process):
    text = (Path("/proc") / str(process.pid) / "status").read_text()
    return int(next(line for line in text.splitlines() if line.startswith("VmRSS")).split()[1])


@pytest.mark.alone
def test_a_million_datagrams_of_strangers_leave_memory_flat_and_others_served():
    command = [sys.executable, "-m", "yaffle", "respond", "--port", "0"]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    port = int(process.stdout.readline().rsplit(" ", 1)[1])
    dice = random.Random(2)
    junk = [dice.randbytes(dice.choice((0, 1, 43, 44, 60, 1499, 1501, 9000))) for _ in range(500)]
    junk += [stamp.ask(k, 0)[: dice.randrange(60)] for k in range(500)]
    strangers = []
    for k in range(250):  # More than are remembered.
        one = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        one.bind((f"127.1.{k // 100}.{k % 100 + 1}", 0))
        one.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1)
        one.connect(("127.0.0.1", port))
        strangers.append(one)
    good = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    good.connect(("127.0.0.1", port))
    good.settimeout(2)
    try:
        for octets in junk * 20:
            strangers[0].send(octets)
        before, served = resident(process), 0
        for number in range(1000):
            sender = strangers[number % len(strangers)]
            for octets in junk:
                sender.send(octets)
            if number % 100 == 0:
                time.sleep(0.2)  # What waits in the socket is gone through.
                good.send(stamp.ask(number, time.time_ns()))
                try:
                    served += stamp.read_answer(good.recv(2000)) is not None
                except TimeoutError:
                    pass
        assert resident(process) - before < 8 << 10  # kB
        assert served >= 8
    finally:
        for one in [*strangers, good]:
            one.close()
        process.terminate()
        process.wait(10)
