"""Whose loopback addresses are: of the host that captured them, which takes part in all else that it sees."""

import numpy as np

from yaffle.arrays import Int64s

_LEAST_SHARE = 0.95  # of what is no loopback: as much the host itself takes part in
_FEW = 8  # exchanges tell nothing


def _is_loopback(address: str) -> bool:
    """RFC 1122 section 3.2.1.3, RFC 4291 section 2.5.3."""
    return address.startswith("127.") or address == "::1"


def any_loopback(texts: list[str]) -> bool:
    """Whether any address is only its own host's."""
    return any(_is_loopback(text) for text in texts)


def own_address(texts: list[str], client: Int64s, server: Int64s, point: Int64s) -> dict[int, int]:
    """For each loopback address, another address of its host; none where several points saw loopback addresses, or
    nothing tells which host it was. client, server, point: of exchanges; addresses by their place in `texts`.
    """
    loopback = [place for place, text in enumerate(texts) if _is_loopback(text)]
    if not loopback:
        return {}
    inside = np.isin(client, loopback) & np.isin(server, loopback)
    at = np.unique(point[inside])
    beyond = np.flatnonzero(~inside & (point == at[0])) if at.size == 1 else np.empty(0, np.int64)
    if beyond.size < _FEW:
        return {}
    one, other = (np.bincount(ends[beyond], minlength=len(texts)) for ends in (client, server))
    taking_part = one + other - np.bincount(client[beyond][client[beyond] == server[beyond]], minlength=len(texts))
    most, least = taking_part.max(), _LEAST_SHARE * beyond.size
    hosts = np.flatnonzero(taking_part == most)
    return dict.fromkeys(loopback, int(hosts[0])) if hosts.size == 1 and most >= least else {}
