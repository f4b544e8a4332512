"""Hosts and ports as a filter program that the kernel runs before a packet is taken (classic BPF, socket(7)).

Hosts are alternatives, so are ports; where both are given, both must fit. IPv4 and IPv6 with its extension headers are
understood, below VLAN tags that the kernel left in the packet, too. Later fragments have no ports: they pass where
their hosts fit, as their first may have. Loads are relative to the network layer, so that one program fits every kind
of
interface; the kernel has taken the outer tag out by then. What the program returns is how much of the packet is kept.
"""

import struct
from collections.abc import Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv6Address, ip_address

from yaffle.errors import YaffleError

WHOLE = 262_144  # octets: all of any packet
_NET, _PROTOCOL = 0xFFF00000, 0xFFFFF000  # SKF_NET_OFF; SKF_AD_OFF + SKF_AD_PROTOCOL
# linux/bpf_common.h: class, size, mode; A is the accumulator, X the index.
_LD_W, _LD_H, _LD_B = 0x20, 0x28, 0x30  # A = packet[k]
_LD_WX, _LD_HX, _LD_BX = 0x40, 0x48, 0x50  # A = packet[X + k]
_LDX_IMM, _LDX_MEM, _LD_MEM, _ST, _STX = 0x01, 0x61, 0x60, 0x02, 0x03
_ADD_K, _ADD_X, _AND, _LSH, _RSH = 0x04, 0x0C, 0x54, 0x64, 0x74
_JEQ, _JGT, _JSET, _JA = 0x15, 0x25, 0x45, 0x05
_RET, _RET_A, _TAX, _TXA = 0x06, 0x16, 0x07, 0x87
_IPV4, _IPV6 = 0x0800, 0x86DD
_TAGS = (0x8100, 0x88A8)
_WITH_PORTS = (6, 17, 132, 136)  # TCP, UDP, SCTP, UDP-Lite
_TCP = 6
_FRAGMENT = 44
_LINK = 14  # octets of an Ethernet header
_OPTIONS = (0, 43, 60, 135)  # hop-by-hop, routing, destination options, mobility: length in units of 8 octets
_AH = 51  # … of 4
_MOST_HEADERS = 6  # that are stepped over
_MOST_TAGS = 2
_BASE, _BEGIN, _KIND = 0, 1, 2  # scratch memory: where IP begins, and transport; which protocol that is
MOST_INSTRUCTIONS = 4096
Instruction = tuple[int, int, int, int]  # code, jump if true, jump if not, k


@dataclass
class _Program:
    """Instructions with names of places to jump to, until they are numbered."""

    lines: list[tuple[int, str, str, int]] = field(default_factory=list)
    places: dict[str, int] = field(default_factory=dict)
    _fresh: int = 0

    def add(self, code: int, k: int = 0, yes: str = "", no: str = "") -> None:
        self.lines.append((code, yes, no, k & 0xFFFFFFFF))

    def at(self, name: str) -> None:
        self.places[name] = len(self.lines)

    def fresh(self) -> str:
        self._fresh += 1
        return f"_{self._fresh}"

    def jump(self, name: str) -> None:
        self.add(_JA, 0, name)

    def test(self, code: int, k: int, yes: str = "", no: str = "") -> None:
        """Jumps of any length: a short one over a long one, where it is to go far."""
        skip = self.fresh()
        for name, turn in ((yes, True), (no, False)):
            if name:
                self.add(code, k, "" if turn else skip, skip if turn else "")
                self.jump(name)
                self.at(skip)
                skip = self.fresh()

    def numbered(self) -> list[Instruction]:
        found: list[Instruction] = []
        for at, (code, yes, no, k) in enumerate(self.lines):
            if code == _JA:
                found.append((code, 0, 0, self.places[yes] - at - 1))
            else:
                true, false = (self.places[name] - at - 1 if name else 0 for name in (yes, no))
                found.append((code, true, false, k))
        return found


def program(
    hosts: Sequence[str] = (), ports: Sequence[int] = (), keep: int = WHOLE, *, payload: bool = True
) -> list[Instruction]:
    """The filter as instructions. keep: octets of each packet that are kept; payload: False cuts behind the headers.

    Raises YaffleError for what is no address or port.
    """
    addresses = [_address(host) for host in hosts]
    if (wrong := next((port for port in ports if not 0 < port < 65_536), None)) is not None:
        raise YaffleError(f"{wrong}: a port is a number from 1 to 65535")
    p = _Program()
    if not addresses and not ports and payload:
        p.add(_RET, keep)
        return p.numbered()
    _to_ip(p)
    for version, begin in ((4, "v4"), (6, "v6")):
        p.at(begin)
        own = [one for one in addresses if one.version == version]
        if addresses:
            _hosts(p, own, version)
        p.at(f"v{version} host fits")
        _four(p, ports, payload) if version == 4 else _six(p, ports, payload)
    if not payload:  # Behind a jump: what is loaded of scratch memory must have been stored on every way here.
        p.at("up to transport")
        p.add(_LD_MEM, _BEGIN)
        p.at("headers")  # A: octets from the network layer on that are headers; the link's own are before it.
        p.add(_ADD_K, _LINK)
        p.test(_JGT, keep, "accept")
        p.add(_RET_A)
    p.at("no ip")
    p.add(_RET, 0 if addresses or ports else keep)
    p.at("reject")
    p.add(_RET, 0)
    p.at("accept")
    p.add(_RET, keep)
    found = p.numbered()
    if len(found) > MOST_INSTRUCTIONS:
        raise YaffleError(f"{len(addresses)} hosts and {len(ports)} ports are more than the kernel's filter can hold")
    return found


def _address(text: str) -> IPv4Address | IPv6Address:
    try:
        return ip_address(text)
    except ValueError as error:
        raise YaffleError(f"{text}: this is no address") from error


def _to_ip(p: _Program) -> None:
    """Finds where IP begins behind tags that were left; X and scratch memory hold it."""
    p.add(_LDX_IMM, 0)
    p.add(_STX, _BASE)
    p.add(_LD_W, _PROTOCOL)
    for _ in range(_MOST_TAGS):
        inner, plain = p.fresh(), p.fresh()
        for tag in _TAGS:
            p.test(_JEQ, tag, inner)
        p.jump(plain)
        p.at(inner)
        p.add(_TXA)
        p.add(_ADD_K, 4)
        p.add(_TAX)
        p.add(_STX, _BASE)
        p.add(_LD_HX, _NET - 2)
        p.at(plain)
    p.test(_JEQ, _IPV4, "v4")
    p.test(_JEQ, _IPV6, "v6")
    p.jump("no ip")


def _hosts(p: _Program, own: list[IPv4Address | IPv6Address], version: int) -> None:
    """Goes on where the source or the destination is one of them."""
    p.add(_LDX_MEM, _BASE)
    size, first = (4, 12) if version == 4 else (16, 8)
    for begin in (first, first + size):
        for one in own:
            other = p.fresh()
            words = struct.unpack(f"!{size // 4}I", one.packed)
            for k, word in enumerate(words):
                p.add(_LD_WX, _NET + begin + 4 * k)
                p.test(_JEQ, word, no=other)
            p.jump(f"v{version} host fits")
            p.at(other)
    p.jump("reject")


def _four(p: _Program, ports: Sequence[int], payload: bool) -> None:
    if not ports and payload:
        p.jump("accept")
        return
    p.add(_LDX_MEM, _BASE)
    p.add(_LD_BX, _NET)  # Length of the header, in words.
    p.add(_AND, 0x0F)
    p.add(_LSH, 2)
    p.add(_ADD_X)
    p.add(_ST, _BEGIN)
    p.add(_LD_HX, _NET + 6)
    p.test(_JSET, 0x1FFF, "accept" if payload else "up to transport")
    p.add(_LD_BX, _NET + 9)
    p.add(_LDX_MEM, _BEGIN)
    _transport(p, ports, payload)


def _six(p: _Program, ports: Sequence[int], payload: bool) -> None:
    if not ports and payload:
        p.jump("accept")
        return
    p.add(_LDX_MEM, _BASE)
    p.add(_TXA)
    p.add(_ADD_K, 40)
    p.add(_ST, _BEGIN)
    p.add(_LD_BX, _NET + 6)
    p.add(_LDX_MEM, _BEGIN)
    for _ in range(_MOST_HEADERS):
        options, fragment, authentication, plain = (p.fresh() for _ in range(4))
        for header in _OPTIONS:
            p.test(_JEQ, header, options)
        p.test(_JEQ, _FRAGMENT, fragment)
        p.test(_JEQ, _AH, authentication)
        p.jump(plain)
        for name, unit, least in ((options, 3, 8), (authentication, 2, 8)):
            p.at(name)
            p.add(_LD_BX, _NET + 1)
            p.add(_LSH, unit)
            p.add(_ADD_K, least)
            _step(p, plain)
        p.at(fragment)
        p.add(_LD_HX, _NET + 2)
        p.test(_JSET, 0xFFF8, "accept" if payload else "up to transport")
        p.add(_LD_MEM, _BEGIN)
        p.add(_ADD_K, 8)
        p.add(_ST, _BEGIN)
        p.add(_LD_BX, _NET)
        p.add(_LDX_MEM, _BEGIN)
        p.at(plain)
    _transport(p, ports, payload)


def _step(p: _Program, on: str) -> None:
    """Over a header whose length A is: to the next one's kind in A and place in X."""
    p.add(_ADD_X)
    p.add(_ST, _BEGIN)
    p.add(_LD_BX, _NET)
    p.add(_LDX_MEM, _BEGIN)
    p.jump(on)


def _transport(p: _Program, ports: Sequence[int], payload: bool) -> None:
    """A: the protocol, X: where it begins. Goes on where a port fits, with what is to be kept."""
    fits, tcp, datagram = (p.fresh() for _ in range(3))
    if ports:
        p.add(_ST, _KIND)
        known = p.fresh()
        for protocol in _WITH_PORTS:
            p.test(_JEQ, protocol, known)
        p.jump("reject")
        p.at(known)
        for place in (0, 2):
            p.add(_LD_HX, _NET + place)
            for port in ports:
                p.test(_JEQ, port, fits)
        p.jump("reject")
        p.at(fits)
        p.add(_LD_MEM, _KIND)
    if payload:
        p.jump("accept")
        return
    p.test(_JEQ, _TCP, tcp)
    for protocol in _WITH_PORTS[1:]:
        p.test(_JEQ, protocol, datagram)
    p.jump("up to transport")
    p.at(tcp)
    p.add(_LD_BX, _NET + 12)
    p.add(_RSH, 2)
    p.add(_AND, 0x3C)
    p.add(_ADD_X)
    p.jump("headers")
    p.at(datagram)
    p.add(_TXA)
    p.add(_ADD_K, 8)
    p.jump("headers")
