"""Two kernels and a way that fills: the watch trips, the answer takes another way (ip route), delay returns, and that
it helped is told.
"""

import contextlib
import json
import os
import signal
import subprocess
import sys
import threading

import pytest

from tests.collector.test_collector import configured, until
from tests.real.two_kernels import CLIENT, MS, SERVER, Bridge, Way, available
from tests.watching.test_collected import events, stands, states

_PORT, _BULK = 8443, 9001
_CONFIGURED = (
    f'[[probe]]\nname = "centre"\nkind = "connect"\ntarget = "{SERVER}:{_PORT}"\nevery = "1s"\ntimeout = "900ms"\n'
    '[[watch]]\nname = "slow way"\nmeasure = "round_trip"\nof = "target"\nover = "3s"\nabove = 30\nfor = "8s"\n'
    'clear = "2s"\nrespond = "other way"\n'
)


def run(*words):
    subprocess.run(words, check=True, capture_output=True)


@contextlib.contextmanager
def bridged(up, down, folder):
    bridge = Bridge(up, down)
    try:
        yield bridge
    finally:
        bridge.close(folder)


def second_way(bridge):
    """A line from client to server beside the bridge, by which nothing goes yet."""
    client, server = bridge.space("client"), bridge.space("server")
    run("ip", "link", "add", "other", "netns", client, "type", "veth", "peer", "name", "other", "netns", server)
    for name in (client, server):
        run("ip", "-n", name, "link", "set", "other", "up")
    return client, server


def served(listening, stop, answer):
    while not stop.is_set():
        try:
            own, _ = listening.accept()
        except OSError:
            return
        threading.Thread(target=answer, args=(own, stop), daemon=True).start()


def closed(own, _stop):
    own.close()


def flood(own, stop):
    with own:
        while not stop.is_set():
            try:
                own.sendall(bytes(1 << 14))
            except OSError:
                return


def drained(own, stop):
    while not stop.is_set() and own.recv(1 << 16):
        pass


@pytest.mark.skipif(bool(available()), reason=available())
def test_a_full_way_is_left_and_that_helped(tmp_path):
    down = Way(2 * MS, rate_bps=1_500_000, queue_bytes=60_000)
    stop = threading.Event()
    with bridged(Way(2 * MS), down, tmp_path) as bridge:
        client, server = second_way(bridge)
        for port, answer in ((_PORT, closed), (_BULK, flood)):
            listening = bridge.socket("server")
            listening.bind((SERVER, port))
            listening.listen(32)
            threading.Thread(target=served, args=(listening, stop, answer), daemon=True).start()
        script = tmp_path / "other_way.sh"
        script.write_text(
            f"#!/bin/sh\nset -e\nip -n {client} route replace {SERVER}/32 dev other scope link\n"
            f"ip -n {server} route replace {CLIENT}/32 dev other scope link\necho went the other way\n"
        )
        script.chmod(0o755)
        response = f'[[response]]\nname = "other way"\ncommand = ["{script}"]\nsettle = "3s"\n'
        path, history = configured(tmp_path, _CONFIGURED + response), tmp_path / "history"
        with (tmp_path / "log").open("ab") as log:
            collector = subprocess.Popen(
                ["ip", "netns", "exec", client, sys.executable, "-m", "yaffle", "collect", str(path)],
                stderr=log, env=dict(os.environ),
            )  # fmt: skip
        try:
            until(lambda: stands(history, "fine"), "a quiet way")
            bulk = bridge.socket("client")
            bulk.connect((SERVER, _BULK))
            threading.Thread(target=drained, args=(bulk, stop), daemon=True).start()
            until(lambda: states(history, tmp_path, "effect"), "an effect")
            until(lambda: states(history, tmp_path, "cleared"), "the end of it")
        finally:
            stop.set()
            collector.send_signal(signal.SIGTERM)
            assert collector.wait(30) == 0
    found = events(history, tmp_path)
    assert [one["state"] for one in found if one["state"] in ("raised", "cleared")] == ["raised", "cleared"]
    (answered,), (effect,) = states(history, tmp_path, "response"), states(history, tmp_path, "effect")
    assert answered["words"] == "other way: went the other way"
    assert effect["words"].startswith("other way helped: ") and "sure" in effect["words"], effect
    (raised,) = states(history, tmp_path, "raised")
    assert float(raised["value"]) > 30 and float(effect["value"]) < 10, json.dumps(found)
