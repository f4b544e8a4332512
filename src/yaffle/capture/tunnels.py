"""What carries a conversation, where that is a tunnel: its kind, its number, and the ends of its outermost IP
header.
"""

from dataclasses import dataclass

from yaffle.capture.addresses import address_text
from yaffle.capture.conversations import Rows
from yaffle.capture.packets import TUNNELS

_WITH_ENDS = 4  # Kinds up to this have an IP header of their own.


@dataclass(frozen=True)
class Tunnel:
    """The tunnel of one conversation. The ends are None where it has no addresses of its own."""

    kind: str
    number: int
    client_end: str | None
    server_end: str | None

    @property
    def words(self) -> str:
        """In words."""
        ends = f", {self.client_end} to {self.server_end}" if self.client_end else ""
        return f"{self.kind} {self.number}{ends}"


def tunnel_of(flows: Rows, row: int) -> Tunnel | None:
    """The tunnel of a conversation, if any."""
    kind = int(flows.tunnel[row])
    if not kind:
        return None
    if kind > _WITH_ENDS:
        return Tunnel(TUNNELS[kind], int(flows.tunnel_id[row]), None, None)
    ipv6 = bool(flows.outer_a_hi[row] or flows.outer_b_hi[row])
    one = address_text(flows.outer_a_hi[row], flows.outer_a_lo[row], ipv6)
    return Tunnel(
        TUNNELS[kind], int(flows.tunnel_id[row]), one, address_text(flows.outer_b_hi[row], flows.outer_b_lo[row], ipv6)
    )
