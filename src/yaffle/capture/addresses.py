"""Addresses as text: one integer form inside (two 64-bit halves, IPv4 in the lower), the usual form outside."""

import ipaddress
from collections.abc import Callable

import numpy as np

from yaffle.arrays import Array, Int64s, Uint8s, Uint64s
from yaffle.capture.conversations import Rows


def address_text(high: int, low: int, ipv6: bool) -> str:
    """An address in its usual form (RFC 5952 for IPv6)."""
    if ipv6:
        return str(ipaddress.IPv6Address((int(high) << 64) | int(low)))
    return str(ipaddress.IPv4Address(int(low) & 0xFFFFFFFF))


def is_address(text: str) -> bool:
    """Whether a text is an address, IPv4 or IPv6."""
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True


def end_text(address: str, port: int) -> str:
    """An address with a port; IPv6 in brackets."""
    return f"[{address}]:{port}" if ":" in address else f"{address}:{port}"


def address_of(end: str) -> str:
    """The address of what end_text gives."""
    return end.rpartition(":")[0].strip("[]")


class Labels:
    """A text column: numbers of distinct texts, and the texts."""

    def __init__(self, codes: Array, texts: list[str]) -> None:
        self.codes, self.texts = codes, texts
        self._index = {text: number for number, text in enumerate(texts)}

    @classmethod
    def of(cls, texts: list[str]) -> "Labels":
        """Labels of texts as they come."""
        index: dict[str, int] = {}
        return cls(np.array([index.setdefault(t, len(index)) for t in texts], np.int64), list(index))

    def code(self, text: str) -> int:
        """Number of a text, -1 if it does not occur."""
        return self._index.get(text, -1)

    def named(self, name: Callable[[str], str]) -> "Labels":
        """The same rows under other names; names may fall together."""
        again = Labels.of([name(text) for text in self.texts])
        return Labels(again.codes[self.codes] if self.texts else self.codes, again.texts)

    def __getitem__(self, row: int) -> str:
        """The text of a row."""
        return self.texts[int(self.codes[row])]


def labels_of(high: Uint64s, low: Uint64s, ipv6: Uint8s) -> Labels:
    """Addresses as labels: each distinct one becomes text once."""
    if not high.size:
        return Labels(np.empty(0, np.int64), [])
    if high.any() or ipv6.any():
        order = np.lexsort((low, high, ipv6))
        new = (np.diff(high[order]) != 0) | (np.diff(low[order]) != 0) | (np.diff(ipv6[order]) != 0)
    else:
        order = np.argsort(low, kind="stable")
        new = np.diff(low[order]) != 0
    new = np.concatenate([[True], new])
    codes = np.empty(high.size, np.int64)
    codes[order] = np.cumsum(new) - 1
    first = order[new]
    return Labels(
        codes,
        [
            address_text(h, w, bool(v))
            for h, w, v in zip(high[first].tolist(), low[first].tolist(), ipv6[first].tolist(), strict=True)
        ],
    )


def client_labels(flows: Rows, rows: Int64s) -> Labels:
    """Addresses of the clients of some conversations."""
    return labels_of(flows.a_hi[rows], flows.a_lo[rows], flows.ipv6[rows])


def server_labels(flows: Rows, rows: Int64s) -> Labels:
    """Addresses of the servers of some conversations."""
    return labels_of(flows.b_hi[rows], flows.b_lo[rows], flows.ipv6[rows])


def client_address(flows: Rows, row: int) -> str:
    """Address of the client of a conversation."""
    return address_text(flows.a_hi[row], flows.a_lo[row], bool(flows.ipv6[row]))


def server_address(flows: Rows, row: int) -> str:
    """Address of the server of a conversation."""
    return address_text(flows.b_hi[row], flows.b_lo[row], bool(flows.ipv6[row]))
