"""Who is where, as a device knows it: addresses (IP-MIB, RFC 4293), which hardware address is behind which port
(BRIDGE-MIB, RFC 4188; Q-BRIDGE-MIB, RFC 4363), and which device (LLDP-MIB, IEEE 802.1AB).
"""

from ipaddress import ip_address
from typing import Any

from yaffle.collector.devices.agent import Agent, Oid, Row, hardware_text, text_of
from yaffle.collector.devices.interfaces import Interfaces
from yaffle.collector.intervals import Held

_IP: Oid = (1, 3, 6, 1, 2, 1, 4)
_BRIDGE: Oid = (1, 3, 6, 1, 2, 1, 17)
_LLDP: Oid = (1, 0, 8802, 1, 1, 2, 1)
_V4, _V6, _V4Z, _V6Z = 1, 2, 3, 4  # InetAddressType
_INCOMPLETE, _INVALID = 7, 5
_LEARNED = 3
_BROADCAST = 3
_LOCAL_PART, _NETWORK_ADDRESS, _HARDWARE_CHASSIS, _HARDWARE_PORT, _INTERFACE_NAME = 7, 5, 4, 3, 5


async def addresses(agent: Agent, known: Interfaces) -> set[Held]:
    """(interface, address, hardware address): its own and those of its neighbours. Raises AgentError."""
    found: set[Held] = set()
    own = await agent.table((*_IP, 34, 1, 3), (*_IP, 34, 1, 4))
    for index, row in own.items():
        if (address := _inet(index)) and isinstance(row.values[0], int) and row.values[1] != _BROADCAST:
            _own(found, known, row.values[0], address)
    if not own:
        for index, row in (await agent.table((*_IP, 20, 1, 2))).items():
            if len(index) == 4 and isinstance(row.values[0], int):
                _own(found, known, row.values[0], ".".join(map(str, index)))
    others = await agent.table((*_IP, 35, 1, 4), (*_IP, 35, 1, 7))
    for index, row in others.items():
        if (address := _inet(index[1:])) and row.values[1] not in (_INCOMPLETE, _INVALID):
            _other(found, known, index[0], address, row.values[0])
    if not others:
        for index, row in (await agent.table((*_IP, 22, 1, 2))).items():
            if len(index) == 5:
                _other(found, known, index[0], ".".join(map(str, index[1:])), row.values[0])
    return found


def _own(found: set[Held], known: Interfaces, number: int, address: str) -> None:
    port = known.ports.get(number)
    if port is not None and port.hardware:
        found.add((known.name(number), address, port.hardware))


def _other(found: set[Held], known: Interfaces, number: int, address: str, hardware: Any) -> None:
    if text := hardware_text(hardware):
        found.add((known.name(number), address, text))


def _inet(index: Oid) -> str:
    """An address of an index (InetAddressType, length, octets; RFC 4001); empty for other kinds and multicast."""
    if len(index) < 3 or any(part > 0xFF for part in index[2:]):
        return ""
    kind, size, octets = index[0], index[1], bytes(index[2:])
    wanted = {_V4: 4, _V4Z: 8, _V6: 16, _V6Z: 20}.get(kind)
    if size != len(octets) or wanted != size:
        return ""
    address = ip_address(octets[: 4 if kind in (_V4, _V4Z) else 16])
    return "" if address.is_multicast else str(address)


async def forwarding(agent: Agent, known: Interfaces) -> set[Held]:
    """(interface, hardware address behind it, ""): what a bridge learnt. Raises AgentError."""
    found = await agent.table((*_BRIDGE, 7, 1, 2, 2, 1, 2), (*_BRIDGE, 7, 1, 2, 2, 1, 3))
    if not found:
        found = await agent.table((*_BRIDGE, 4, 3, 1, 2), (*_BRIDGE, 4, 3, 1, 3))
    if not found:
        return set()
    ports = {index[0]: row.values[0] for index, row in (await agent.table((*_BRIDGE, 1, 4, 1, 2))).items() if index}
    held: set[Held] = set()
    for index, row in found.items():
        port, status = row.values
        if len(index) >= 6 and max(index[-6:]) <= 0xFF and status == _LEARNED and isinstance(port, int) and port > 0:
            held.add((known.name(ports.get(port, port)), bytes(index[-6:]).hex(":"), ""))
    return held


async def lldp(agent: Agent, known: Interfaces) -> set[Held]:
    """(interface, device that says it is behind it, its port). Raises AgentError."""
    told = await agent.table(*((*_LLDP, 4, 1, 1, column) for column in (4, 5, 6, 7, 8, 9)))
    if not told:
        return set()
    own = await agent.table(*((*_LLDP, 3, 7, 1, column) for column in (2, 3, 4)))
    held: set[Held] = set()
    for index, row in told.items():
        if len(index) == 3:
            chassis_kind, chassis, port_kind, port, words, name = row.values
            device = text_of(name) or _identity(chassis_kind, chassis, _HARDWARE_CHASSIS)
            there = _identity(port_kind, port, _HARDWARE_PORT)
            if port_kind in (_LOCAL_PART, _HARDWARE_PORT) and text_of(words):
                there = text_of(words)
            held.add((_local(own.get((index[1],)), index[1], known), device, there))
    return held


def _local(row: Row | None, number: int, known: Interfaces) -> str:
    """The name of one of its own ports."""
    if row is not None:
        kind, identity, words = row.values
        if kind == _INTERFACE_NAME and text_of(identity):
            return text_of(identity)
        if number not in known.ports and text_of(words):
            return text_of(words)
    return known.name(number)


def _identity(kind: Any, value: Any, hardware: int) -> str:
    return hardware_text(value) if kind == hardware else text_of(value)
