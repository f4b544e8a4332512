"""A client, routers and a server in namespaces of their own, one behind the other; IPv4 and IPv6."""

import contextlib
import ipaddress
import os
import subprocess

_SETTINGS = (
    "net.ipv4.ip_forward=1",
    "net.ipv6.conf.all.forwarding=1",
    "net.ipv6.conf.all.accept_dad=0",
    "net.ipv6.conf.default.accept_dad=0",
    "net.ipv4.icmp_ratelimit=0",
    "net.ipv6.icmp.ratelimit=0",
)


def run(*words):
    subprocess.run(words, check=True, capture_output=True)


@contextlib.contextmanager
def chain(routers):
    """(namespaces from client to server, addresses of the hops as the client sees them, by IP version)."""
    names = [f"yaffle-{os.getpid()}-hop{k}" for k in range(routers + 2)]
    last = len(names) - 1
    try:
        for name in names:
            run("ip", "netns", "add", name)
            run("ip", "-n", name, "link", "set", "lo", "up")
            for key in _SETTINGS:
                run("ip", "netns", "exec", name, "sysctl", "-qw", key)
        for k in range(last):
            run(
                "ip",
                "link",
                "add",
                "right",
                "netns",
                names[k],
                "type",
                "veth",
                "peer",
                "name",
                "left",
                "netns",
                names[k + 1],
            )
            for name, device, end in ((names[k], "right", 1), (names[k + 1], "left", 2)):
                run("ip", "-n", name, "addr", "add", f"192.0.2.{4 * k + end}/30", "dev", device)
                run("ip", "-n", name, "-6", "addr", "add", f"2001:db8:0:{k}::{end}/64", "dev", device, "nodad")
                run("ip", "-n", name, "link", "set", device, "up")
        for k, name in enumerate(names):
            if k < last:
                run("ip", "-n", name, "route", "add", "default", "via", f"192.0.2.{4 * k + 2}")
                run("ip", "-n", name, "-6", "route", "add", "default", "via", f"2001:db8:0:{k}::2")
            for back in range(k - 1):
                run("ip", "-n", name, "route", "add", f"192.0.2.{4 * back}/30", "via", f"192.0.2.{4 * (k - 1) + 1}")
                run("ip", "-n", name, "-6", "route", "add", f"2001:db8:0:{back}::/64", "via", f"2001:db8:0:{k - 1}::1")
        yield (
            names,
            {
                4: [f"192.0.2.{4 * k + 2}" for k in range(last)],
                6: [str(ipaddress.ip_address(f"2001:db8:0:{k}::2")) for k in range(last)],
            },
        )
    finally:
        for name in names:
            subprocess.run(["ip", "netns", "del", name], check=False, capture_output=True)
