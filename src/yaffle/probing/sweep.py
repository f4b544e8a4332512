"""What answers on a subnet: by address resolution, by echo, on common ports; with names and hardware addresses; and who
is on the same link from outside of it.
"""

import asyncio
import contextlib
import ipaddress
import socket
import time
from collections import defaultdict
from dataclasses import replace
from typing import Any

import dns.asyncquery
import dns.exception
import dns.message
import dns.rdatatype
import dns.reversename

from yaffle.errors import YaffleError
from yaffle.probing.connect import opened
from yaffle.probing.reach import reach
from yaffle.probing.result import Result
from yaffle.probing.wanted import End, Wanted

KIND = "sweep"
RESOLUTION, ECHO = "address resolution", "echo"
PORTS = (22, 25, 53, 80, 139, 443, 445, 554, 631, 3389, 5060, 8080, 9100)
_KINDS = (  # ports, the telling ones first: what they make of a host
    ({9100, 631}, "may be a printer"),
    ({554}, "may be a camera"),
    ({5060}, "may be a telephone or its server"),
    ({53}, "may be a name server"),
    ({25}, "may be a mail server"),
    ({3389, 445, 139}, "may be a desktop or a file server"),
    ({80, 443, 8080}, "answers web requests"),
    ({22}, "may be a server or a network device"),
)
_MOST = 4096  # addresses
_AT_ONCE, _PAUSE_S, _PATIENCE_S = 64, 0.002, 0.6
_DISCARD, _MDNS = 9, 5353
_ARP, _ETHER_ARP = 0x0806, 28
_REACHED = 0x02 | 0x04 | 0x08 | 0x10  # NUD_REACHABLE, STALE, DELAY, PROBE

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


def network_of(target: str) -> Network:
    """The subnet of a target. Raises YaffleError."""
    try:
        found = ipaddress.ip_network(target, strict=False)
    except ValueError as error:
        raise YaffleError(f"{target}: this is no subnet; write for example 192.0.2.0/24") from error
    if found.num_addresses > _MOST:
        raise YaffleError(f"{target}: more than {_MOST:,} addresses; sweep a smaller part of it")
    return found


class _Heard:
    """Who says on the link that an address is its own (ARP, RFC 826), where that may be listened to."""

    def __init__(self) -> None:
        self.claims: dict[str, set[str]] = defaultdict(set)
        self._socket: socket.socket | None = None
        with contextlib.suppress(PermissionError):
            self._socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(_ARP))
            self._socket.setblocking(False)

    def take(self) -> None:
        """What came meanwhile."""
        while self._socket is not None:
            try:
                frame, told = self._socket.recvfrom(128)
            except OSError:
                return
            if len(frame) >= 14 + _ETHER_ARP and told[2] != socket.PACKET_OUTGOING:
                address = str(ipaddress.ip_address(frame[28:32]))
                if address != "0.0.0.0":  # An address that is asked for before it is taken (RFC 5227).
                    self.claims[address].add(frame[22:28].hex(":"))

    def close(self) -> None:
        """Ends listening."""
        if self._socket is not None:
            self._socket.close()


async def sweep(wanted: Wanted) -> list[Result]:
    """One look at all addresses. Raises YaffleError where the target is no subnet."""
    network = network_of(wanted.target)
    at_ns = time.time_ns()
    answers: dict[str, list[str]] = defaultdict(list)
    addresses = [str(one) for one in network.hosts()] or [str(network.network_address)]
    heard = _Heard()
    try:
        await asyncio.to_thread(_touch, addresses, network)
        heard.take()
        await _all(addresses, lambda address: _echo(address, wanted, answers))
        heard.take()
        hardware = await asyncio.to_thread(_neighbours, network)
        own = await asyncio.to_thread(_own_addresses)
        hardware |= {address: own[address] for address in own if address in set(addresses)}
        alive = sorted(
            {*answers, *(a for a in hardware if a in set(addresses)), *(a for a in own if a in set(addresses))}
        )
        await _all(
            [f"{address} {port}" for address in alive for port in PORTS], lambda one: _port(one, wanted, answers)
        )
        heard.take()
    finally:
        heard.close()
    found = [_told(address, network, answers, hardware, heard) for address in alive]
    outside = [a for a in heard.claims if ipaddress.ip_address(a) not in network and a not in own]
    found += [_told(address, network, answers, hardware, heard) for address in outside]
    names = await asyncio.gather(*(_name(one["address"]) for one in found))
    for one, name in zip(found, names, strict=True):
        one["name"] = name
    found.sort(key=lambda one: (one["outside"], ipaddress.ip_address(one["address"]).packed))
    return [Result(KIND, wanted.target, at_ns, True, "", None, {"found": found})]


def changed(now: Result, former: list[dict[str, Any]] | None) -> Result:
    """The same result with who is new, and who is gone, since a former one; as it is, where none is known."""
    if former is None:
        return now
    known = {one["address"] for one in former}
    here = {one["address"] for one in now.more["found"]}
    told = {"new": [one for one in now.more["found"] if one["address"] not in known],
            "vanished": [one for one in former if one["address"] not in here]}  # fmt: skip
    return replace(now, more=now.more | told)


def _told(
    address: str, network: Network, answers: dict[str, list[str]], hardware: dict[str, str], heard: _Heard
) -> dict[str, Any]:
    claims = heard.claims.get(address, set())
    own = hardware.get(address, "") or next(iter(sorted(claims)), "")
    how = [RESOLUTION] if own else []
    told: dict[str, Any] = {
        "address": address, "hardware": own, "name": "", "answers": how + sorted(answers.get(address, []), key=_order),
        "outside": ipaddress.ip_address(address) not in network,
    }  # fmt: skip
    if may_be := _may_be(told["answers"]):
        told["may_be"] = may_be
    others = sorted(claims - {own})
    return told | ({"also": others} if others else {})


def _may_be(answers: list[str]) -> str:
    """What kind of device has these ports open, by what they are registered for (IANA); empty where it says little."""
    open_ports = {int(one.removeprefix("tcp/")) for one in answers if one.startswith("tcp/")}
    return next((words for ports, words in _KINDS if ports & open_ports), "")


def _order(answer: str) -> tuple[bool, int]:
    port = answer.partition("/")[2]
    return answer != ECHO, int(port) if port.isdigit() else 0


async def _all(items: list[str], work: Any) -> None:
    """Work on all of them, so many at once, begun at a bounded rate."""
    room = asyncio.Semaphore(_AT_ONCE)

    async def one(item: str) -> None:
        async with room:
            await work(item)

    under_way = []
    for item in items:
        under_way.append(asyncio.ensure_future(one(item)))
        await asyncio.sleep(_PAUSE_S)
    await asyncio.gather(*under_way)


def _touch(addresses: list[str], network: Network) -> None:
    """A datagram to each address has the kernel resolve it, if it is on this link."""
    family = socket.AF_INET if network.version == 4 else socket.AF_INET6
    with socket.socket(family, socket.SOCK_DGRAM) as own:
        own.setblocking(False)
        for address in addresses:
            with contextlib.suppress(OSError):
                own.sendto(b"", (address, _DISCARD))
            time.sleep(_PAUSE_S)
    time.sleep(_PATIENCE_S)


async def _echo(address: str, wanted: Wanted, answers: dict[str, list[str]]) -> None:
    asked = replace(wanted, kind="reach", target=address, timeout_s=min(wanted.timeout_s, _PATIENCE_S))
    if (await reach(asked))[0].ok:
        answers[address].append(ECHO)


async def _port(one: str, wanted: Wanted, answers: dict[str, list[str]]) -> None:
    address, _, port = one.partition(" ")
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    asked = replace(wanted, timeout_s=min(wanted.timeout_s, _PATIENCE_S))
    own, _, _ = await opened(End(family, address, int(port)), asked)
    if own is not None:
        own.close()
        answers[address].append(f"tcp/{port}")


def _neighbours(network: Network) -> dict[str, str]:
    """Hardware addresses that the kernel resolved."""
    from pyroute2 import IPRoute

    family = socket.AF_INET if network.version == 4 else socket.AF_INET6
    with IPRoute() as kernel:
        rows = [
            (row.get_attr("NDA_DST"), row.get_attr("NDA_LLADDR"), row["state"])
            for row in kernel.get_neighbours(family=family)
        ]
    return {
        str(a): str(h) for a, h, state in rows if a and h and state & _REACHED and ipaddress.ip_address(a) in network
    }


def _own_addresses() -> dict[str, str]:
    """Addresses of this host, with the hardware address of their interface."""
    from pyroute2 import IPRoute

    with IPRoute() as kernel:
        links = {link["index"]: str(link.get_attr("IFLA_ADDRESS") or "") for link in kernel.get_links()}
        return {str(row.get_attr("IFA_ADDRESS")): links.get(row["index"], "") for row in kernel.get_addr()}


async def _name(address: str) -> str:
    """By the name servers of this host; else what the host itself says it is called (mDNS, RFC 6762, section 5.5)."""
    try:
        return (await asyncio.to_thread(socket.gethostbyaddr, address))[0]
    except OSError:
        pass
    question = dns.message.make_query(dns.reversename.from_address(address), dns.rdatatype.PTR)
    try:
        answer = await dns.asyncquery.udp(question, address, _PATIENCE_S, _MDNS, ignore_trailing=True)
    except (OSError, EOFError, dns.exception.DNSException):
        return ""  # Most hosts answer no such question.
    said = [row.to_text() for rows in answer.answer for row in rows if rows.rdtype == dns.rdatatype.PTR]
    return said[0].rstrip(".") if said else ""
