"""The way through real routers: every hop, and what lies about them."""

import json
import subprocess
import sys

import pytest

from tests.probing.chain import chain, run
from tests.real.two_kernels import available

pytestmark = pytest.mark.skipif(bool(available()), reason=available() or "can")


def asked(space, *words, expected=0):
    command = ["ip", "netns", "exec", space, sys.executable, "-m", "yaffle", "probe", *words, "--json", "-"]
    done = subprocess.run(command, capture_output=True, text=True, check=False, timeout=120)
    assert done.returncode == expected, done.stderr
    return json.loads(done.stdout)["results"][0]


def test_hops_are_exact_over_both_versions():
    with chain(7) as (names, hops):
        for version in (4, 6):
            told = asked(names[0], "route", hops[version][-1], "--timeout", "1s")
            assert [hop["address"] for hop in told["hops"]] == hops[version]
            assert [hop["ttl"] for hop in told["hops"]] == list(range(1, len(hops[version]) + 1))
            assert all(hop["answered"] == hop["sent"] == 3 for hop in told["hops"])
            assert told["ok"] and told["round_trip_ms"] < 50
            reached = asked(names[0], "reach", hops[version][-1])
            assert reached["ok"]


def test_a_silent_hop_has_no_address_and_what_refuses_is_named():
    with chain(3) as (names, hops):
        # The second router forwards, but the first one drops what it says itself.
        run("ip", "-n", names[1], "rule", "add", "from", hops[4][1], "blackhole", "prio", "1")
        told = asked(names[0], "route", hops[4][-1], "--timeout", "1s")
        assert [hop["address"] for hop in told["hops"]] == [hops[4][0], None, hops[4][2], hops[4][3]]
        assert told["hops"][1]["answered"] == 0 and told["hops"][1]["round_trip_ms"] is None and told["ok"]
        run("ip", "-n", names[1], "route", "add", "prohibit", "203.0.113.0/24")
        for kind, target in (("reach", "203.0.113.9"), ("connect", "203.0.113.9:80"), ("route", "203.0.113.9")):
            refused = asked(names[0], kind, target, "--timeout", "1s", expected=1)
            assert f"administratively prohibited by {hops[4][0]}" in refused["why"], kind
        run("ip", "-n", names[1], "route", "add", "unreachable", "198.51.100.0/24")
        refused = asked(names[0], "reach", "198.51.100.9", "--timeout", "1s", expected=1)
        assert hops[4][0] in refused["why"] and "unreachable" in refused["why"]


@pytest.mark.parametrize("over", ["icmp", "tcp"])
def test_other_packets_find_the_same_hops(over):
    with chain(3) as (names, hops):
        for version in (4, 6):
            told = asked(names[0], "route", hops[version][-1], "--over", over, "--timeout", "1s")
            assert [hop["address"] for hop in told["hops"]] == hops[version], (version, told)
            assert told["ok"] and all(hop["answered"] == 3 for hop in told["hops"])


def test_ways_of_equal_cost_are_told_and_each_flow_keeps_to_one():
    with chain(2) as (names, hops):
        # Between both routers a second link, by which half of the flows goes.
        first, second = names[1], names[2]
        run("ip", "link", "add", "up2", "netns", first, "type", "veth", "peer", "name", "down2", "netns", second)
        for name, device, end in ((first, "up2", 1), (second, "down2", 2)):
            run("ip", "-n", name, "addr", "add", f"198.51.100.{end}/30", "dev", device)
            run("ip", "-n", name, "link", "set", device, "up")
        run("ip", "netns", "exec", first, "sysctl", "-qw", "net.ipv4.fib_multipath_hash_policy=1")
        run("ip", "netns", "exec", second, "sysctl", "-qw", "net.ipv4.icmp_errors_use_inbound_ifaddr=1")
        run("ip", "-n", first, "route", "replace", "default", "nexthop", "via", hops[4][1], "nexthop", "via",
            "198.51.100.2")  # fmt: skip
        told = asked(names[0], "route", hops[4][-1], "--ways", "16", "--timeout", "1s")
        seen = {way["addresses"][1] for way in told["ways"]}
        assert seen == {hops[4][1], "198.51.100.2"} and sum(way["flows"] for way in told["ways"]) == 16
        assert all("others" not in hop for hop in told["hops"])
