"""Two kernels talk over a path that delays and loses, and each host captures itself: what the rings say is what kernels
and applications had.
"""

import json
import signal
import sys

import pytest

from tests.live.test_capturing import started
from tests.real.test_two_kernels import _ATTEMPTS, _STILL_S, SCENES, Watch, agree
from tests.real.two_kernels import Bridge, available, talk

pytestmark = [pytest.mark.alone, pytest.mark.skipif(bool(available()), reason=available() or "can")]


def capturing(bridge, side, ring):
    words = ["ip", "netns", "exec", bridge.space(side), sys.executable, "-m", "yaffle", "capture", "--interface", "eth"]
    return started([*words, "--ring", str(ring), "--json", "-"], ring)


def compare(folder, scene, offload, watch):
    made, expected = SCENES[scene]
    turns, up, down = made()
    bridge = Bridge(up, down, offload=offload)
    rings = {"near_client": folder / "client", "near_server": folder / "server"}
    try:
        captures = [capturing(bridge, side, folder / side) for side in ("client", "server")]
        with watch:
            told = talk(bridge, turns, 16_384 if scene == "slow reader" else 0)
        for capture in captures:
            capture.send_signal(signal.SIGINT)
            counted = json.loads(capture.communicate(timeout=60)[0])
            assert counted["dropped"] == 0 and counted["captured"] > 5
    finally:
        bridge.close(folder)
        for capture in captures:
            if capture.poll() is None:
                capture.kill()
    agree(rings, told, turns, scene, expected)


@pytest.mark.parametrize(
    ("scene", "offload"),
    [
        *((scene, True) for scene in ("healthy", "slow server", "slow reader", "narrow and deep")),
        ("loss of answers", False),
    ],
)
def test_rings_of_both_hosts_say_what_both_kernels_had(tmp_path, scene, offload):
    quiet = 0
    for attempt in range(_ATTEMPTS):
        watch, folder = Watch(), tmp_path / str(attempt)
        folder.mkdir()
        try:
            compare(folder, scene, offload, watch)
            return
        except AssertionError:  # A machine that stands still spoils a run; what is wrong fails twice while it does not.
            quiet += watch.longest_s < _STILL_S
            if quiet == 2:
                raise
    pytest.skip("the machine stands still again and again: nothing can be compared")
