"""Interfaces of a device as counters: IF-MIB (RFC 2863), those of 64 bits where it has them; errors of the wire by
EtherLike-MIB (RFC 3635).
"""

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from yaffle.collector.devices.agent import Agent, Oid, Row, hardware_text, text_of
from yaffle.collector.readings import Reading
from yaffle.records.counter_table import Counters, unknown_counters
from yaffle.records.device_measures import ETHERNET, STATUS

_IF: Oid = (1, 3, 6, 1, 2, 1, 2, 2, 1)
_IFX: Oid = (1, 3, 6, 1, 2, 1, 31, 1, 1, 1)
_DOT3: Oid = (1, 3, 6, 1, 2, 1, 10, 7, 2, 1)
_WIDE = (
    ("in_octets", 6), ("in_unicast", 7), ("in_multicast", 8), ("in_broadcast", 9), ("out_octets", 10),
    ("out_unicast", 11), ("out_multicast", 12), ("out_broadcast", 13),
)  # fmt: skip
_NARROW = (("in_octets", 10), ("in_unicast", 11), ("out_octets", 16), ("out_unicast", 17))
_PLAIN = (("in_discards", 13), ("in_errors", 14), ("out_discards", 19), ("out_errors", 20))
_OPER_STATUS = 8
_NAME, _HIGH_SPEED, _ALIAS = 1, 15, 18  # of _IFX
_DESCRIPTION, _SPEED, _PHYSICAL = 2, 5, 6  # of _IF
_MBIT = 1_000_000
_SPEED_FULL = 0xFFFFFFFF  # What a column of 32 bits says of anything faster.


@dataclass
class Port:
    """What an interface is, as far as its device told."""

    name: str
    speed_bps: int
    hardware: str


@dataclass
class Interfaces:
    """The interfaces of one device; what they are is read now and then, what they counted each time."""

    device: str
    ports: dict[int, Port] = field(default_factory=dict)
    _narrow: bool = False  # without counters of 64 bits

    def name(self, number: int) -> str:
        """What an interface is called."""
        port = self.ports.get(number)
        return port.name if port and port.name else f"interface {number}"

    async def learn(self, agent: Agent) -> None:
        """Reads what they are. Raises AgentError."""
        plain = await agent.table(*((*_IF, column) for column in (_DESCRIPTION, _SPEED, _PHYSICAL)))
        more = await agent.table(*((*_IFX, column) for column in (_NAME, _HIGH_SPEED)))
        self.ports = {}
        for index in {*plain, *more}:
            if len(index) == 1:
                told, named = plain.get(index), more.get(index)
                description, speed, physical = told.values if told else (None, None, None)
                name, fast = named.values if named else (None, None)
                self.ports[index[0]] = Port(
                    text_of(name) or text_of(description), _speed_bps(speed, fast), hardware_text(physical)
                )

    async def read(self, agent: Agent) -> tuple[Counters, list[Reading]]:
        """What they counted until now, and whether they are up. Raises AgentError."""
        known = [(number,) for number in self.ports]
        wide = (
            {}
            if self._narrow or agent.is_first_version
            else await agent.rows([(*_IFX, column) for _, column in _WIDE], known)
        )
        columns = [*((*_IF, column) for _, column in _PLAIN), (*_IF, _OPER_STATUS)]
        plain = await agent.rows(columns, known)
        narrow: dict[Oid, Row] = {}
        if not any(row.values[0] is not None for row in wide.values()):
            self._narrow = True
            narrow = await agent.rows([(*_IF, column) for _, column in _NARROW], known)
        found, rows = Counters(devices=[self.device]), []
        for index in sorted({*wide, *plain, *narrow}):
            told = [(wide.get(index), _WIDE), (plain.get(index), _PLAIN), (narrow.get(index), _NARROW)]
            rows.append(self._row(index[0], told))
            found.names[0, index[0]] = self.name(index[0])
        found.rows = np.concatenate([unknown_counters(0), *rows])
        status = [
            Reading(self.name(index[0]), STATUS, float(row.values[-1]), row.time_ns)
            for index, row in plain.items()
            if isinstance(row.values[-1], int)
        ]
        return found, status

    def _row(self, number: int, known: list[tuple[Row | None, tuple[tuple[str, int], ...]]]) -> np.ndarray:
        row = unknown_counters(1)
        row["interface"] = number
        port = self.ports.get(number)
        row["speed_bps"] = port.speed_bps if port else 0
        for told, columns in known:
            if told is not None:
                row["time_ns"] = max(int(row["time_ns"][0]), told.time_ns) if row["time_ns"][0] else told.time_ns
                for (name, _), value in zip(columns, told.values, strict=False):
                    if isinstance(value, int) and value >= 0:
                        row[name] = value
        return row

    async def ethernet(self, agent: Agent) -> list[Reading]:
        """Errors of the wire, of those that are Ethernet. Raises AgentError."""
        found = await agent.table(*((*_DOT3, column) for column in ETHERNET))
        return list(self._errors(found))

    def _errors(self, found: dict[Oid, Row]) -> Iterator[Reading]:
        for index, row in found.items():
            for measure, value in zip(ETHERNET.values(), row.values, strict=True):
                if isinstance(value, int) and len(index) == 1:
                    yield Reading(self.name(index[0]), measure, float(value), row.time_ns)


def _speed_bps(speed: Any, fast: Any) -> int:
    if isinstance(fast, int) and fast > 0:
        return fast * _MBIT
    return speed if isinstance(speed, int) and 0 < speed < _SPEED_FULL else 0
