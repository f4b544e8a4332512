"""Tests on purpose over a path of ours that delays, drops and marks: what they say is what the path did."""

import asyncio
import http.server
import json
import random
import socket
import struct
import subprocess
import sys
import threading
import time

import pytest

from tests.real.two_kernels import CLIENT, MS, SERVER, Bridge, Way, available, inside
from yaffle.probing.for_others import asked_of
from yaffle.probing.respond import Responder
from yaffle.probing.streams import codec_of, judged
from yaffle.probing.wanted import Wanted

pytestmark = [pytest.mark.alone, pytest.mark.skipif(bool(available()), reason=available() or "can")]
ICMP, TCP, UDP = 1, 6, 17
DELAY_MS = 10
CALL_OCTETS = 14 + 20 + 8 + 12 + 160  # a frame of G.711
CALL_HEADER, TCP_HEADER = 14 + 20 + 8, 14 + 20
ENDS = {"client": CLIENT, "server": SERVER}
BUSY_BPS = 8_000_000 * 1448 / 1514  # 8 Mbit/s less headers


def by_chance(share, seed):
    dice = random.Random(seed)
    return lambda number, frame: dice.random() < share


@pytest.fixture
def bridge(tmp_path, request):
    up, down = getattr(request, "param", (Way(DELAY_MS * MS), Way(DELAY_MS * MS)))
    own = Bridge(up, down, protocols=(ICMP, TCP, UDP))
    yield own
    own.close(tmp_path)


def asked(bridge, *words, expected=0):
    command = ["ip", "netns", "exec", bridge.space("client"), sys.executable, "-m", "yaffle", "probe", *words]
    done = subprocess.run([*command, "--json", "-"], capture_output=True, text=True, check=False, timeout=120)
    assert done.returncode == expected, done.stderr
    told = json.loads(done.stdout)
    assert told["format"] == "yaffle-probes" and told["version"] == 1
    return told


def responding(bridge, *words):
    command = ["ip", "netns", "exec", bridge.space("server"), sys.executable, "-m", "yaffle", "respond", *words]
    process = subprocess.Popen(
        [*command, "--bind", SERVER, "--allow", "198.51.100.0/24"], stdout=subprocess.PIPE, text=True
    )
    assert "answering" in process.stdout.readline()
    return process


def near(bridge, told, expected, more=0.3):
    """Whether the least of several times is what the bridge made it, as late as the bridge itself was at worst."""
    least = min(told) if isinstance(told, list) else told
    return -0.5 <= least - expected <= 0.05 * expected + more + 1.5 + 2 * bridge.latest_ns / MS


def calls_handed_on(bridge, side, packets):
    """How the calls would be judged by when the bridge handed their packets to that side, the least opinion first."""
    found = {}
    for at_ns, size, frame in bridge.seen[f"near_{side}"]:
        if size == CALL_OCTETS and frame[30:34] == socket.inet_aton(ENDS[side]):
            number, stamp, source = struct.unpack_from("!HII", frame, CALL_HEADER + 2)
            found.setdefault(source, []).append((at_ns, number, stamp))
    return sorted((judged(codec_of("g711"), packets, one) for one in found.values()), key=lambda one: one["mos"])


def carried_bps(bridge, side, warm_s):
    """What the bridge handed to that side on its busiest connection, once each, without its first part."""
    found = {}
    for at_ns, size, frame in bridge.seen[f"near_{side}"]:
        if frame[23] == TCP and frame[30:34] == socket.inet_aton(ENDS[side]):
            header = TCP_HEADER + (frame[TCP_HEADER + 12] >> 4) * 4
            sequence = struct.unpack_from("!I", frame, TCP_HEADER + 4)[0]
            if size > header:
                found.setdefault(frame[TCP_HEADER : TCP_HEADER + 4], {}).setdefault(sequence, (at_ns, size - header))
    busiest = sorted(max(found.values(), key=lambda one: sum(size for _, size in one.values())).values())
    first, last = busiest[0][0] + warm_s * 1e9, busiest[-1][0]
    return 8e9 * sum(size for at, size in busiest if at > first) / (last - first)


def test_round_trips_are_those_of_the_path(bridge):
    told = asked(bridge, "reach", SERVER, "--count", "5", "--every", "1s")
    assert [one["sequence"] for one in told["results"]] == list(range(5)) and told["summary"]["ok"] == 5
    assert near(bridge, told["summary"]["round_trip_ms"]["median"], 2 * DELAY_MS)
    refused = asked(bridge, "connect", f"{SERVER}:7", expected=1)["results"][0]
    assert "refused" in refused["why"] and refused["round_trip_ms"] is None
    listening = bridge.socket("server")
    listening.bind((SERVER, 4431))
    listening.listen()
    told = asked(bridge, "connect", f"{SERVER}:4431", "--count", "5", "--every", "200ms")["results"]
    assert {one["why"] for one in told} == {""}
    assert near(bridge, [one["round_trip_ms"] for one in told], 2 * DELAY_MS)
    listening.close()
    gone = asked(bridge, "reach", "203.0.113.200", "--timeout", "500ms", expected=1)["results"][0]
    assert not gone["ok"] and gone["round_trip_ms"] is None and gone["why"]


@pytest.mark.parametrize(
    "bridge", [(Way(5 * MS, drop=by_chance(0.3, 4)), Way(25 * MS, drop=by_chance(0.1, 5)))], indirect=True
)
def test_loss_and_delay_each_way_are_told_apart(bridge):
    answers = responding(bridge)
    told = asked(bridge, "delay", SERVER, "--packets", "200", "--interval", "10ms")["results"][0]
    answers.terminate()
    answers.wait()
    up, down = len(bridge.up.dropped), len(bridge.down.dropped)
    assert told["packets"] == 200 and told["lost_there"] + told["lost_back"] == up + down
    assert abs(told["lost_back"] - down) <= 1  # Behind the last answer either way may count.
    real = 10  # ms: half the difference of both ways is what the clocks seem to differ by
    assert abs(told["clock_offset_ms"] + real) <= 2 and told["uncertainty_ms"] >= real
    for way, delay in (("there_ms", 5), ("back_ms", 25)):
        assert abs(told[way]["min"] - delay) <= told["uncertainty_ms"]
    assert near(bridge, told["round_trip_ms"], 30)


def test_speed_both_ways_and_what_it_does_to_the_delay(bridge):
    bridge.up.rate_bps = bridge.down.rate_bps = 8_000_000
    bridge.up.queue_bytes = bridge.down.queue_bytes = 120_000  # Nothing is lost at its start.
    answers = responding(bridge)
    told = {one["direction"]: one for one in asked(bridge, "speed", SERVER, "--seconds", "4")["results"]}
    answers.terminate()
    answers.wait()
    assert list(told) == ["there", "back"]
    for one, side in ((told["there"], "server"), (told["back"], "client")):
        assert (
            one["bps"] == pytest.approx(carried_bps(bridge, side, warm_s=1), rel=0.03) and one["bps"] < 1.03 * BUSY_BPS
        )
        assert near(bridge, one["idle_ms"], 2 * DELAY_MS, more=2) and one["loaded_ms"] > one["idle_ms"] + 3
        assert one["buffer_delay_percent"] > 10 and 80 < one["efficiency_percent"] <= 100
        assert one["retransmitted_percent"] is not None


@pytest.mark.parametrize("bridge", [(Way(DELAY_MS * MS), Way(DELAY_MS * MS, drop=by_chance(0.08, 3)))], indirect=True)
def test_a_call_is_judged_each_way_as_a_captured_one(bridge):
    answers = responding(bridge)
    told = {one["direction"]: one for one in asked(bridge, "voice", SERVER, "--seconds", "5")["results"]}
    answers.terminate()
    answers.wait()
    there, back = told["there"], told["back"]
    media = [frame for frame in bridge.down.dropped if len(frame) == CALL_OCTETS]
    assert there["packets"] == back["packets"] == 250
    assert there["lost"] == 0 and back["lost"] == len(media) > 5
    for one, side in ((there, "server"), (back, "client")):
        (expected,) = calls_handed_on(bridge, side, 250)
        assert one["mos"] == pytest.approx(expected["mos"], abs=0.1)
        assert one["jitter_ms"]["mean"] == pytest.approx(expected["jitter_ms"]["mean"], abs=0.5)
    assert back["loss_percent"] == pytest.approx(100 * back["lost"] / 250)


def test_a_key_is_asked_for(bridge, tmp_path):
    key, other = tmp_path / "key", tmp_path / "other"
    key.write_text("harbour")
    other.write_text("pier")
    answers = responding(bridge, "--key-file", str(key))
    assert asked(bridge, "delay", SERVER, "--packets", "3", "--key-file", str(key))["summary"]["ok"] == 1
    none = asked(bridge, "delay", SERVER, "--packets", "3", "--timeout", "300ms", expected=1)["results"][0]
    assert "unanswered" in none["why"]
    wrong = asked(bridge, "speed", SERVER, "--seconds", "1", "--key-file", str(other), expected=1)["results"][0]
    assert "another key" in wrong["why"]
    answers.terminate()
    answers.wait()


class Page(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        time.sleep(0.05)
        if self.path == "/moved":
            self.send_response(302)
            self.send_header("Location", "/here")
            self.end_headers()
            return
        self.send_response(404 if self.path == "/gone" else 200)
        self.send_header("Content-Length", "11")
        self.end_headers()
        self.wfile.write(b"hello ferry")

    def log_message(self, *_):
        pass


def test_the_phases_of_a_page(bridge):
    with inside(bridge.space("server")):
        server = http.server.ThreadingHTTPServer((SERVER, 8080), Page)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    told = asked(bridge, "page", f"http://{SERVER}:8080/", "--count", "5", "--every", "200ms")["results"]
    for one in told:
        assert one["status"] == 200 and one["bytes"] == 11 and one["encryption_ms"] == 0
        assert one["total_ms"] >= one["connect_ms"] + one["first_byte_ms"]
    assert near(bridge, [one["connect_ms"] for one in told], 2 * DELAY_MS, more=4)
    assert near(bridge, [one["first_byte_ms"] for one in told], 2 * DELAY_MS + 50, more=8)
    moved = asked(bridge, "page", f"http://{SERVER}:8080/moved")["results"][0]
    assert moved["status"] == 200 and moved["redirects"] == 1
    gone = asked(bridge, "page", f"http://{SERVER}:8080/gone", expected=1)["results"][0]
    assert gone["status"] == 404 and "404" in gone["why"]
    text = asked(bridge, "page", f"http://{SERVER}:8080/", "--text", "submarine", expected=1)["results"][0]
    assert "does not hold" in text["why"]
    server.shutdown()
    refused = asked(bridge, "page", f"http://{SERVER}:8081/", expected=1)["results"][0]
    assert "refused" in refused["why"]


class Store(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        self.send_response(200)
        self.send_header("Content-Length", "2000000")
        self.end_headers()
        self.wfile.write(bytes(2_000_000))

    def do_PUT(self):
        if self.path == "/closed":
            self.send_response(405)
        else:
            left = int(self.headers["Content-Length"])
            while left:
                left -= len(self.rfile.read(min(left, 65_536)))
            self.send_response(201)
        self.end_headers()

    def log_message(self, *_):
        pass


def test_speed_of_a_web_server(bridge):
    bridge.up.rate_bps = bridge.down.rate_bps = 8_000_000
    bridge.up.queue_bytes = bridge.down.queue_bytes = 60_000
    with inside(bridge.space("server")):
        server = http.server.ThreadingHTTPServer((SERVER, 8080), Store)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    told = asked(bridge, "speed", f"http://{SERVER}:8080/", "--seconds", "4", "--put", "2MiB")["results"]
    assert [one["direction"] for one in told] == ["there", "back"]
    for one, side in zip(told, ("server", "client"), strict=True):
        assert one["bps"] == pytest.approx(carried_bps(bridge, side, warm_s=0), rel=0.1)
        assert one["bps"] < 1.1 * BUSY_BPS
        assert near(bridge, one["idle_ms"], 2 * DELAY_MS, more=3) and one["loaded_ms"] > one["idle_ms"]
    assert told[0]["bytes"] == 2 << 20 and told[0]["retransmitted_percent"] is not None
    closed = asked(bridge, "speed", f"http://{SERVER}:8080/closed", "--put", "10KiB", expected=1)["results"][0]
    assert "405" in closed["why"]
    server.shutdown()
    refused = asked(bridge, "speed", f"http://{SERVER}:8081/", expected=1)["results"]
    assert [one["direction"] for one in refused] == ["back"] and "refused" in refused[0]["why"]


def test_several_connections_and_both_ways_at_once(bridge):
    bridge.up.rate_bps = bridge.down.rate_bps = 8_000_000
    bridge.up.queue_bytes = bridge.down.queue_bytes = 60_000
    answers = responding(bridge)
    words = ("speed", SERVER, "--seconds", "3", "--connections", "3", "--both")
    told = asked(bridge, *words)["results"]
    answers.terminate()
    answers.wait()
    assert [(one["direction"], one.get("at_once", False)) for one in told] == [
        ("there", False), ("back", False), ("there", True), ("back", True),
    ]  # fmt: skip
    for one in told:
        assert one["ok"] and one["path_mtu_bytes"] == 1500
        assert 0.8 < one["bps"] / BUSY_BPS < 1.08, one


def test_many_calls_at_once_and_their_markings(bridge):
    answers = responding(bridge)
    words = ("voice", SERVER, "--seconds", "2", "--streams", "10", "--dscp", "46")
    told = {one["direction"]: one for one in asked(bridge, *words)["results"]}
    answers.terminate()
    answers.wait()
    for one, side in ((told["there"], "server"), (told["back"], "client")):
        assert one["packets"] == 1000 and one["streams"] == 10 and one["lost"] == 0
        worst, *others = calls_handed_on(bridge, side, 100)
        assert one["arrived_dscp"] == {"46": 1000} and one["mos"] == pytest.approx(worst["mos"], abs=0.1)
        assert len(others) == 9


def test_one_responder_tests_another_only_for_who_holds_the_key(bridge, tmp_path):
    subprocess.run(["ip", "-n", bridge.space("client"), "link", "set", "lo", "up"], check=True)
    with inside(bridge.space("client")):
        near_one = Responder("127.0.0.1", 0, ("203.0.113.0/25",), b"harbour")
        near_one.start()
    key = tmp_path / "key"
    key.write_text("harbour")
    answers = responding(bridge, "--key-file", str(key))
    wanted = Wanted("delay", SERVER, packets=10, interval_s=0.01, key=b"harbour")

    def ask(source, asked_for):
        with inside(bridge.space("client")):
            return asyncio.run(asked_of(source, asked_for))

    (one,) = ask(f"127.0.0.1:{near_one.port}", wanted)
    assert one.ok and one.more["packets"] == 10 and near(bridge, one.round_trip_ms, 2 * DELAY_MS, more=3)
    assert one.more["source"] == f"127.0.0.1:{near_one.port}"
    other = ask(f"127.0.0.1:{near_one.port}", Wanted("delay", "203.0.113.200", key=b"harbour"))[0]
    assert not other.ok and "not within the networks" in other.why
    wrong = ask(f"127.0.0.1:{near_one.port}", Wanted("delay", SERVER, key=b"pier"))[0]
    assert not wrong.ok and "another key" in wrong.why
    near_one.stop()
    answers.terminate()
    answers.wait()
