"""Which hardware address has which IP address on which interface of this host, as its kernel knows it."""

from collections.abc import Iterable, Iterator
from typing import Any

from yaffle.collector.intervals import Held

_GOOD = 0x02 | 0x04 | 0x08 | 0x10 | 0x40 | 0x80  # reachable, stale, delay, probe, noarp, permanent (neighbour.h)


def held_now() -> set[Held]:
    """The own addresses and those of neighbors, of both IP versions, as the kernel knows them now."""
    from pyroute2 import IPRoute

    with IPRoute() as kernel:
        links = {link["index"]: _attributes(link) for link in kernel.get_links()}
        names = {number: str(told.get("IFLA_IFNAME", number)) for number, told in links.items()}
        found = set(_own(kernel.get_addr(), links, names))
        for one in kernel.get_neighbours():
            told = _attributes(one)
            if one["state"] & _GOOD and told.get("NDA_LLADDR") and told.get("NDA_DST") and one["ifindex"] in names:
                hardware = str(told["NDA_LLADDR"])
                if hardware.strip("0:"):  # Of loopback and of multicast there is none.
                    found.add((names[one["ifindex"]], str(told["NDA_DST"]), hardware))
    return {one for one in found if not _is_multicast(one[1])}


def _own(addresses: Iterable[Any], links: dict[int, dict[str, Any]], names: dict[int, str]) -> Iterator[Held]:
    for one in addresses:
        told = _attributes(one)
        address = told.get("IFA_LOCAL") or told.get("IFA_ADDRESS")
        hardware = str(links.get(one["index"], {}).get("IFLA_ADDRESS", ""))
        if address and hardware.strip("0:"):
            yield names[one["index"]], str(address), hardware


def _attributes(message: Any) -> dict[str, Any]:
    return dict(message["attrs"])


def _is_multicast(address: str) -> bool:
    from ipaddress import ip_address

    return ip_address(address).is_multicast
