"""Who is on a subnet, and what many frames are on a link: against neighbors in namespaces."""

import ipaddress
import json
import os
import socket
import subprocess
import sys
import threading

import dns.message
import dns.rrset
import pytest

from tests.real.two_kernels import available, inside
from yaffle.errors import YaffleError
from yaffle.probing.result import Result
from yaffle.probing.storm_beside import compared
from yaffle.probing.sweep import network_of

REAL = pytest.mark.skipif(bool(available()), reason=available() or "can")
NEAR, FAR = (f"yaffle-{os.getpid()}-{end}" for end in ("near", "far"))


@pytest.fixture
def link():
    def run(*words):
        subprocess.run(words, check=True, capture_output=True)

    for space in (NEAR, FAR):
        run("ip", "netns", "add", space)
    run("ip", "link", "add", "eth", "netns", NEAR, "type", "veth", "peer", "name", "eth", "netns", FAR)
    for space, end in ((NEAR, 1), (FAR, 2)):
        run("ip", "-n", space, "addr", "add", f"192.0.2.{end}/28", "dev", "eth")
        for device in ("eth", "lo"):
            run("ip", "-n", space, "link", "set", device, "up")
    yield
    for space in (NEAR, FAR):
        subprocess.run(["ip", "netns", "del", space], check=False)


def asked(*words, expected=0):
    command = ["ip", "netns", "exec", NEAR, sys.executable, "-m", "yaffle", "probe", *words, "--json", "-"]
    done = subprocess.run(command, capture_output=True, text=True, check=False, timeout=120)
    assert done.returncode == expected, done.stderr
    return json.loads(done.stdout)["results"][0] if done.stdout else done.stderr


def claim(ended, hardware, address):
    """Says again and again that an address is one's own, as a host with wrong settings does."""
    with inside(FAR):
        own = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        own.bind(("eth", 0))
    packed = ipaddress.ip_address(address).packed
    frame = b"\xff" * 6 + hardware + b"\x08\x06\x00\x01\x08\x00\x06\x04\x00\x01" + hardware + packed + bytes(6) + packed
    while not ended.wait(0.1):
        own.send(frame)
    own.close()


def say_name(own):
    """As a host does that is asked by mDNS what it is called, once."""
    data, whom = own.recvfrom(1500)
    answer = dns.message.make_response(dns.message.from_wire(data))
    own_name = answer.question[0].name
    answer.answer.append(dns.rrset.from_text(own_name, 10, "IN", "PTR", "quay-printer.local."))
    own.sendto(answer.to_wire(), whom)
    own.close()


@REAL
def test_neighbors_are_found_and_who_does_not_belong_there(link):
    with inside(FAR):
        listening = socket.create_server(("192.0.2.2", 8080))
        itself = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        itself.bind(("192.0.2.2", 5353))
    itself.settimeout(60)
    ended = threading.Event()
    threading.Thread(target=say_name, args=(itself,), daemon=True).start()
    stranger, thief = b"\x02\x00\x5e\x10\x00\x99", b"\x02\x00\x5e\x10\x00\x98"
    claims = [
        threading.Thread(target=claim, args=(ended, stranger, "198.51.100.9")),
        threading.Thread(target=claim, args=(ended, thief, "192.0.2.1")),
    ]
    for one in claims:
        one.start()
    found = {one["address"]: one for one in asked("sweep", "192.0.2.0/28")["found"]}
    ended.set()
    for one in claims:
        one.join()
    listening.close()
    assert list(found) == ["192.0.2.1", "192.0.2.2", "198.51.100.9"]
    there = found["192.0.2.2"]
    assert there["answers"] == ["address resolution", "echo", "tcp/8080"] and not there["outside"]
    assert there["name"] == "quay-printer.local"
    assert len(there["hardware"]) == 17 and there["may_be"] == "answers web requests"
    outside = found["198.51.100.9"]
    assert outside["outside"] and outside["hardware"] == stranger.hex(":")
    assert found["192.0.2.1"]["also"] == [thief.hex(":")]  # Another one claims our own address.


@REAL
def test_a_storm_asks_first_and_counts_what_it_sent(link):
    words = asked("storm", "eth", "--rate", "5000", "--seconds", "1", expected=2)
    assert "--yes" in words and "disturb" in words
    with inside(FAR):
        own = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x88B5))
    own.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 26)
    own.settimeout(0.3)
    told = asked("storm", "eth", "--rate", "2000", "--seconds", "1", "--size", "200", "--yes")
    came = []
    try:
        while True:
            came.append(own.recv(2000))
    except TimeoutError:
        pass
    own.close()
    assert len(came) == told["sent"] and abs(told["rate"] - 2000) < 200
    assert {len(one) for one in came} == {200} and {one[:6] for one in came} == {b"\xff" * 6}
    assert "nope7" in asked("storm", "nope7", "--yes", expected=2)


@REAL
@pytest.mark.alone
def test_what_a_storm_does_to_speed_is_one_comparison(link):
    command = [sys.executable, "-m", "yaffle", "respond", "--bind", "192.0.2.2", "--allow", "192.0.2.0/28"]
    answering = subprocess.Popen(["ip", "netns", "exec", FAR, *command], stdout=subprocess.PIPE, text=True)
    assert "answering" in answering.stdout.readline()
    # A slow link: what the storm takes of it is missing to the run there, and not to the one back.
    shaped = ["tc", "qdisc", "replace", "dev", "eth", "root", "tbf", "rate", "8mbit", "burst", "20kb", "limit", "60kb"]
    subprocess.run(["ip", "netns", "exec", NEAR, *shaped], check=True)
    storm = ("storm", "eth", "--rate", "500", "--size", "1000", "--yes", "--seconds", "0.6", "--count", "8")
    command = ["ip", "netns", "exec", NEAR, sys.executable, "-m", "yaffle", "probe", *storm]
    try:
        done = subprocess.run(
            [*command, "--beside", "192.0.2.2", "--json", "-"], capture_output=True, text=True, check=True, timeout=200
        )
    finally:
        answering.terminate()
        answering.wait()
    assert "--yes" in asked("storm", "eth", "--beside", "192.0.2.2", expected=2)  # Before anything is measured.
    told = json.loads(done.stdout)
    speeds = [one for one in told["results"] if one["kind"] == "speed"]
    assert [one["storm"] for one in speeds[:4]] == [False, False, True, True] and len(speeds) == 32
    assert [one["storm"] for one in speeds[4:8]] == [True, True, False, False]
    found = {(one["measure"], one["direction"]): one for one in told["summary"]["beside"]}
    quiet, stormy = found["bps", "there"]["median"]
    assert found["bps", "there"]["runs"] == [8, 8] and found["bps", "there"]["certainty"].startswith("significant")
    assert 0.35 < stormy / quiet < 0.65  # 4 of 8 Mbit/s are the storm's.
    assert all(value > 0 for value in found["interrupts_per_s", "both ways"]["median"])
    assert ("responder_receive_softirqs_per_s", "both ways") in found


def test_what_a_storm_did_is_told_with_units():
    told = [
        Result("speed", "x", k, True, "", 1.0, {"direction": way, "bps": rate, "idle_ms": 2.0, "storm": storm})
        for k in range(8)
        for way in ("there", "back")
        for storm, rate in ((False, 8e6 + k), (True, (4e6 if way == "there" else 8e6) + k))
    ]
    words = [one.words for one in compared(told)]
    assert words[0].startswith("throughput, there: 8.00 Mbit/s without, 4.00 Mbit/s with the storm (-50.0 %), signif")
    assert "throughput, back" in words[1] and words[1].endswith("not significant") and "2.00 ms" in words[2]


def test_subnets():
    assert network_of("192.0.2.77/24").num_addresses == 256
    for wrong in ("pier", "192.0.2.0/33", "10.0.0.0/8"):
        with pytest.raises(YaffleError):
            network_of(wrong)
