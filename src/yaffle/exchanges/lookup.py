"""One question of single packets, with its answer."""

from dataclasses import dataclass

ANSWERED, UNANSWERED = "answered", "unanswered"
LOOKUPS = (
    "dns",
    "mdns",
    "dhcp",
    "dhcpv6",
    "radius",
)  # names, leases and sign-ons; the rest asks the time, counters, for an echo, for a connection


@dataclass(slots=True)
class Lookup:
    """One question."""

    protocol: str  # one of LOOKUPS, or ntp, snmp, icmp, quic
    client: str
    server: str
    name: str
    kind: str
    outcome: str
    asked_ns: int
    answered_ns: int = -1
    tries: int = 1
    addresses: tuple[str, ...] = ()
    point: int = 0
    latest_ns: int = 0  # the last try
    truncated: bool = False
    flow: int = -1  # the conversation, where one conversation is one question
    figures: dict[str, float] | None = None  # what else was measured, by name with unit
    station: str = ""  # hardware address of whom a sign-on is for, where it is told

    @property
    def latency_ns(self) -> int:
        """From the first try to the answer; -1 without one."""
        return self.answered_ns - self.asked_ns if self.answered_ns >= 0 else -1
