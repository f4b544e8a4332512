"""ICMP errors tied to the conversation whose packet they quote (RFC 792, RFC 1812 section 4.3, RFC 4443)."""

import numpy as np

from yaffle.capture.conversations import Rows
from yaffle.capture.transport_layer import Quotes

_V4 = {
    (3, 0): "network unreachable", (3, 1): "host unreachable", (3, 2): "protocol unreachable",
    (3, 3): "port unreachable",
    (3, 4): "fragmentation needed", (3, 6): "network unknown", (3, 7): "host unknown",
    (3, 9): "network prohibited",
    (3, 10): "host prohibited", (3, 13): "administratively prohibited", (11, 0): "TTL exceeded",
    (11, 1): "reassembly time exceeded",
    (4, 0): "source quench", (12, 0): "parameter problem",
}  # fmt: skip
_V6 = {
    (1, 0): "no route", (1, 1): "administratively prohibited", (1, 3): "address unreachable",
    (1, 4): "port unreachable",
    (2, 0): "packet too big",
    (3, 0): "hop limit exceeded", (3, 1): "reassembly time exceeded", (4, 0): "parameter problem",
}  # fmt: skip
_MOST_KINDS = 4096  # Distinct quoted ends that are looked up.


def in_words(kind: int, ipv6: bool) -> str:
    """What an error says. kind: type << 8 | code."""
    pair = (kind >> 8, kind & 255)
    if not ipv6 and pair[0] == 5:
        return "redirect"
    return (_V6 if ipv6 else _V4).get(pair, f"ICMP type {pair[0]} code {pair[1]}")


def tie_quotes(quotes: Quotes, flows: Rows) -> None:
    """Sets `flow` of each quote: the conversation between the quoted ends that had begun last; -1 where none was
    seen.
    """
    quotes["flow"] = -1
    names = ["protocol", "src_hi", "src_lo", "dst_hi", "dst_lo", "src_port", "dst_port"]
    if not quotes.size:
        return
    kinds, place = np.unique(quotes[names], return_inverse=True)
    for number, kind in enumerate(kinds[:_MOST_KINDS]):
        ends = [(kind["src_hi"], kind["src_lo"], kind["src_port"]), (kind["dst_hi"], kind["dst_lo"], kind["dst_port"])]
        match = np.zeros(flows.point.size, bool)
        for (ah, al, ap), (bh, bl, bp) in (ends, ends[::-1]):
            match |= (
                (flows.a_lo == al)
                & (flows.b_lo == bl)
                & (flows.a_hi == ah)
                & (flows.b_hi == bh)
                & (flows.a_port == ap)
                & (flows.b_port == bp)
            )
        found = np.flatnonzero(match & (flows.protocol == kind["protocol"]))
        if found.size:
            quotes["flow"][place.ravel() == number] = found[np.argmax(flows.first_ns[found])]
