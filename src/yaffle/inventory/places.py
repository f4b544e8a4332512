"""What hosts are called: sites and applications, from names where the evidence has them, else from addresses and
ports.
"""

import ipaddress
import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cached_property, lru_cache

# Assigned service names (RFC 6335 registry) in words of our own; only the common ones.
SERVICES = {
    20: "file transfer", 21: "file transfer", 22: "secure shell", 25: "mail", 53: "names", 67: "leases", 80: "web",
    88: "sign-on", 110: "mailbox",
    123: "time", 143: "mailbox", 161: "device counters", 389: "directory", 443: "web", 445: "file shares", 465: "mail",
    514: "logs", 587: "mail",
    636: "directory", 853: "names", 993: "mailbox", 995: "mailbox", 1433: "database", 1521: "database", 1812: "sign-on",
    2049: "file shares",
    3306: "database", 3389: "remote screen", 5060: "calls", 5432: "database", 6379: "cache", 8080: "web", 8443: "web",
    9000: "port 9000",
}  # fmt: skip
_WEB = (80, 443, 8080, 8443)
_REMEMBERED = 1 << 16  # addresses


def spoken(label: str) -> str:
    """A host label as people say it: isle-of-wren becomes Isle of Wren."""
    words = label.replace("_", "-").split("-")
    return " ".join(w if w in ("of", "the", "and") and i else w[:1].upper() + w[1:] for i, w in enumerate(words) if w)


@dataclass(frozen=True)
class Rule:
    """The user's own name for what runs at a server, at a port, under a host name; what is empty or 0 stands for
    any.
    """

    name: str
    server: str = ""
    port: int = 0
    host: str = ""  # as clients ask for it, or as the server is called

    def fits(self, address: str, port: int, hosts: tuple[str, ...] = ()) -> bool:
        """Whether it speaks of this server and port, known under these names."""
        if not (self.server or self.port or self.host):
            return False
        return self.server in ("", address) and self.port in (0, port) and (not self.host or self.host in hosts)


HARDWARE = 48  # bits of an address on the link layer
_HARDWARE_BEGIN = re.compile(r"[0-9a-fA-F]{2}([:-][0-9a-fA-F]{2}){1,5}")


@dataclass(frozen=True)
class Site:
    """The user's own name for a range of addresses: of hosts, or of the radios of access points."""

    name: str
    network: str  # as in 198.51.100.0/24, or how hardware addresses begin, as in 02:4a:00

    @cached_property
    def range(self) -> tuple[int, int, int]:
        """Version (HARDWARE: none), first and last address as numbers. Raises ValueError."""
        if _HARDWARE_BEGIN.fullmatch(self.network):
            octets = bytes.fromhex(self.network.replace("-", ":").replace(":", ""))
            rest = 6 - len(octets)
            return HARDWARE, int.from_bytes(octets + bytes(rest)), int.from_bytes(octets + b"\xff" * rest)
        parsed = ipaddress.ip_network(self.network, strict=False)
        return parsed.version, int(parsed.network_address), int(parsed.broadcast_address)


BY_USER = "named by you"


@dataclass(frozen=True)
class PointName:
    """The user's own name for a capture point."""

    point: str  # as the capture has it: a file's name, with that of its interface
    name: str


_ENDINGS = re.compile(r"(\.(pcap|pcapng|cap|gz|zst|lz4))+(?=$|, )", re.IGNORECASE)


def spoken_point(point: str, sites: Iterable[str]) -> str:
    """A file's name as people say it: quay-house-data-centre.pcapng becomes Quay House data centre.

    sites: names that keep their capitals.
    """
    words = _ENDINGS.sub("", point).replace("-", " ").replace("_", " ").strip()
    if not words or any(c.isupper() for c in words):
        return words or point
    for site in sorted(sites, key=len, reverse=True):
        place = words.find(site.lower())
        if site and place >= 0:
            return words[:place] + site + words[place + len(site) :]
    return words[:1].upper() + words[1:]


@lru_cache(_REMEMBERED)
def _parsed(address: str) -> tuple[int, int, str]:
    """(version, the address as a number, its network)."""
    parsed = ipaddress.ip_address(address)
    network = ipaddress.ip_network(f"{address}/{24 if parsed.version == 4 else 64}", strict=False)
    return parsed.version, int(parsed), str(network)


@dataclass(frozen=True)
class Places:
    """Names of hosts by address, as found in the evidence or given by the user."""

    names: dict[str, str]
    rules: tuple[Rule, ...] = ()
    resolved: dict[str, str] = field(default_factory=dict)  # by look-ups that were seen
    sites: tuple[Site, ...] = ()  # the narrowest range that holds an address counts

    def host(self, address: str) -> str:
        """The host's own name, the one by which it was looked up, or its address."""
        return self.names.get(address) or self.resolved.get(address, address)

    @cached_property
    def _ending(self) -> str:
        """What most names end in, and what therefore tells nobody apart: .harbourline.example."""
        endings = Counter("." + ".".join(name.split(".")[-2:]) for name in self.names.values() if name.count(".") > 1)
        ending, times = endings.most_common(1)[0] if endings else ("", 0)
        return ending if times > 1 and 2 * times > len(self.names) else ""

    def brief(self, address: str) -> str:
        """The host's name without the ending that most names share; else as `host`."""
        return self.host(address).removesuffix(self._ending)

    def short(self, address: str) -> str:
        """First label of the host's own name; the whole name by which it was looked up; or the address."""
        return self.names[address].split(".")[0] if address in self.names else self.resolved.get(address, address)

    def site(self, address: str) -> str:
        """As the user named the range; else the second label of the host's name, or its network (/24, /64)."""
        version, number, network = _parsed(address)
        named = self._named(version, number)
        if named:
            return named
        labels = self.names.get(address, "").split(".")
        return spoken(labels[1]) if len(labels) >= 4 else network

    def radio_site(self, bssid: str) -> str:
        """As the user named access points whose addresses begin so; empty where none is named."""
        return self._named(HARDWARE, int(bssid.replace(":", ""), 16))

    def _named(self, version: int, address: int) -> str:
        held = [
            (last - first, site.name)
            for site in self.sites
            for kind, first, last in [site.range]
            if kind == version and first <= address <= last
        ]
        return min(held)[1] if held else ""

    def _hosts(self, address: str, host: str) -> tuple[str, ...]:
        """All names under which a server is known."""
        return tuple(name for name in (host, self.names.get(address), self.resolved.get(address)) if name)

    def application(self, address: str, port: int, host: str = "") -> str:
        """What runs at this server and port; host: the name that the client asked for there."""
        for rule in self.rules:
            if rule.fits(address, port, self._hosts(address, host)):
                return rule.name
        if host:
            return host
        if address in self.names:
            return self.names[address].split(".")[0].replace("-", " ")
        if address in self.resolved:
            return (
                self.resolved[address]
                if port in _WEB
                else f"{SERVICES.get(port, f'port {port}')} on {self.resolved[address]}"
            )
        return SERVICES.get(port, f"port {port}")

    def told(self, address: str, port: int, host: str = "") -> str:
        """How the application's name was found, or why it is not known."""
        if any(rule.fits(address, port, self._hosts(address, host)) for rule in self.rules):
            return BY_USER
        if host:
            return "requested name"
        if address in self.names:
            return "server name"
        if address in self.resolved:
            return "looked-up name"
        if port in SERVICES:
            return f"registered use of port {port}"
        return f"not known: the server has no name here, and nothing is registered for port {port}"
