"""Which hardware address has which IP address on which interface of this host, as its kernel knows it."""

import socket
from collections.abc import Iterable, Iterator
from typing import Any

from yaffle.collector.intervals import Held

_MAIN = 254  # The table of routes that people write.
_ROUTES = {1: "", 6: " dropped", 7: " unreachable", 8: " prohibited"}  # rtm_type of rtnetlink(7)
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


def routes_now() -> str:
    """The routes of both IP versions as this host has them now, a line each: where to, by what, at what cost."""
    from pyroute2 import IPRoute

    with IPRoute() as kernel:
        names = {link["index"]: str(_attributes(link).get("IFLA_IFNAME", link["index"])) for link in kernel.get_links()}
        lines = set()
        for version in (socket.AF_INET, socket.AF_INET6):
            for one in kernel.get_routes(family=version):
                told = _attributes(one)
                if told.get("RTA_TABLE", one["table"]) != _MAIN or one["type"] not in _ROUTES:
                    continue
                default = "0.0.0.0/0" if version == socket.AF_INET else "::/0"
                where = f"{told['RTA_DST']}/{one['dst_len']}" if told.get("RTA_DST") else default
                way = f" by {told['RTA_GATEWAY']}" if told.get("RTA_GATEWAY") else ""
                at = f" at {names.get(told.get('RTA_OIF'), '?')}" if told.get("RTA_OIF") else _ROUTES[one["type"]]
                cost = f" metric {told['RTA_PRIORITY']}" if told.get("RTA_PRIORITY") else ""
                lines.add(f"{where}{way}{at}{cost}")
    return "\n".join(sorted(lines))


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
