"""Real peers in namespaces of their own: an SNMP agent and LLDP speakers, unpacked by setup/test_peers.py."""

import contextlib
import os
import shutil
import socket
import subprocess
import time
from pathlib import Path

from tests.real.two_kernels import available, inside

_UNPACKED = Path(__file__).parents[2] / ".venv/peers"
DEVICE, MONITOR = "192.0.2.10", "192.0.2.1"


def program(name):
    """Where a program is; empty where it is not."""
    own = _UNPACKED / "usr/sbin" / name
    return str(own) if own.exists() else shutil.which(name) or ""


def lacking(*names):
    """Why this cannot be done here; empty where it can."""
    missing = [name for name in names if not program(name)]
    return available() or (f"{', '.join(missing)} is not here" if missing else "")


def _environment(folder):
    libraries = ":".join(str(_UNPACKED / part / "lib/x86_64-linux-gnu") for part in ("usr", "."))
    return {**os.environ, "LD_LIBRARY_PATH": libraries, "SNMP_PERSISTENT_DIR": str(folder / "persistent")}


class Line:
    """A device and who asks it, joined by `eth`; the device has a port `port1` of its own besides."""

    def __init__(self, folder):
        self.folder, self._running = folder, {}
        self.spaces = {side: f"yaffle-{os.getpid()}-{side}" for side in ("device", "monitor")}
        device, monitor = self.spaces.values()
        for space in self.spaces.values():
            self.run("ip", "netns", "add", space)
            own = Path("/etc/netns") / space
            own.mkdir(parents=True, exist_ok=True)
            for name, line in (("passwd", "_lldpd:x:299:299::/run/lldpd:/bin/false"), ("group", "_lldpd:x:299:")):
                (own / name).write_text(f"{Path('/etc', name).read_text()}{line}\n")
        self.run("ip", "link", "add", "eth", "netns", device, "type", "veth", "peer", "name", "eth", "netns", monitor)
        self.run("ip", "link", "add", "port1", "netns", device, "type", "veth", "peer", "name", "far", "netns", monitor)
        for space, name, address in (
            (device, "eth", f"{DEVICE}/24"), (monitor, "eth", f"{MONITOR}/24"),
            (device, "port1", "198.51.100.1/24"), (monitor, "far", "198.51.100.2/24"),
        ):  # fmt: skip
            if name != "eth":  # Nothing passes there but what is sent on purpose.
                self.run("ip", "netns", "exec", space, "sysctl", "-qw", f"net.ipv6.conf.{name}.disable_ipv6=1")
            self.run("ip", "-n", space, "addr", "add", address, "dev", name)
            self.run("ip", "-n", space, "link", "set", name, "up")
            self.run("ip", "-n", space, "link", "set", "lo", "up")

    def run(self, *words, check=True):
        """Runs a command; what it printed."""
        return subprocess.run(words, check=check, capture_output=True, text=True).stdout

    def at(self, side, *words, check=True):
        """The same at one end."""
        return self.run("ip", "netns", "exec", self.spaces[side], *words, check=check)

    def start(self, name, side, *words):
        """Has a program run."""
        self.stop(name)
        log = (self.folder / f"{name}.log").open("ab")
        self._running[name] = subprocess.Popen(
            ["ip", "netns", "exec", self.spaces[side], *words], stdout=log, stderr=log, env=_environment(self.folder)
        )

    def stop(self, name):
        """Ends one."""
        if name in self._running:
            self._running[name].terminate()
            self._running.pop(name).wait(10)

    def agent(self, lines):
        """An SNMP agent at the device, with these lines of configuration."""
        path = self.folder / "snmpd.conf"
        path.write_text(f"agentAddress udp:{DEVICE}:161\n{lines}\n")
        self.start("snmpd", "device", program("snmpd"), "-f", "-C", "-c", str(path), "-Le")
        time.sleep(1)

    def lldp(self, agentx):
        """Speakers of LLDP at both ends; the device's tells its agent."""
        Path("/run/lldpd").mkdir(exist_ok=True)
        for side, more in (("device", ("-x", "-X", agentx)), ("monitor", ())):
            control = self.folder / f"{side}.sock"
            self.start(f"lldpd {side}", side, program("lldpd"), "-d", "-I", "eth", "-u", str(control), *more)
        time.sleep(1)
        for side in self.spaces:
            words = (program("lldpcli"), "-u", str(self.folder / f"{side}.sock"), "resume")
            subprocess.run(
                ["ip", "netns", "exec", self.spaces[side], *words],
                env=_environment(self.folder), check=False, capture_output=True, timeout=10,
            )  # fmt: skip

    def traffic(self, count, size):
        """So many datagrams of so many octets from the monitor to the device's port1."""
        with inside(self.spaces["monitor"]), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as own:
            for _ in range(count):
                own.sendto(bytes(size), ("198.51.100.1", 9))

    def octets(self, name="port1"):
        """What the kernel of the device counted."""
        folder = f"/sys/class/net/{name}/statistics"
        told = self.at("device", "cat", f"{folder}/rx_bytes", f"{folder}/tx_bytes").split()
        return tuple(int(value) for value in told)

    def close(self):
        """Takes all of it away."""
        for name in list(self._running):
            self.stop(name)
        for space in self.spaces.values():
            self.run("ip", "netns", "del", space, check=False)
            shutil.rmtree(Path("/etc/netns") / space, ignore_errors=True)
        with contextlib.suppress(OSError):
            Path("/etc/netns").rmdir()
