"""How a device itself is: since when it runs, processors, memory, sensors (SNMPv2-MIB, RFC 3418; HOST-RESOURCES-MIB,
RFC 2790; ENTITY-SENSOR-MIB, RFC 3433).
"""

from yaffle.collector.devices.agent import Agent, Oid, text_of
from yaffle.collector.readings import Reading
from yaffle.records.device_measures import PROCESSOR, SENSORS, STORAGE, STORAGE_USED, UPTIME

_SYSTEM: Oid = (1, 3, 6, 1, 2, 1, 1)
_UPTIME: Oid = (*_SYSTEM, 3, 0)
_WORDS = {"description": 1, "name": 5, "location": 6, "contact": 4}
_PROCESSOR: Oid = (1, 3, 6, 1, 2, 1, 25, 3, 3, 1, 2)
_STORAGE: Oid = (1, 3, 6, 1, 2, 1, 25, 2, 3, 1)
_SENSOR: Oid = (1, 3, 6, 1, 2, 1, 99, 1, 1, 1)
_PHYSICAL: Oid = (1, 3, 6, 1, 2, 1, 47, 1, 1, 1, 1)
_TICKS_A_SECOND = 100
_OK = 1
_SCALE_OF_ONE = 9  # SensorDataScale: units(9), each step a thousand


async def words_of(agent: Agent) -> dict[str, str]:
    """What a device says it is. Raises AgentError."""
    values = await agent.get(*((*_SYSTEM, column, 0) for column in _WORDS.values()))
    return {name: text_of(value) for name, value in zip(_WORDS, values, strict=True) if text_of(value)}


async def uptime(agent: Agent) -> list[Reading]:
    """Since when it runs. Raises AgentError: a device that does not tell this tells nothing."""
    (ticks,) = await agent.get(_UPTIME)
    return [Reading("", UPTIME, ticks / _TICKS_A_SECOND)] if isinstance(ticks, int) else []


async def processors_and_memory(agent: Agent) -> list[Reading]:
    """Load of each processor, and of each memory and disk what there is and what is used. Raises AgentError."""
    found = [
        Reading(f"processor {number}", PROCESSOR, float(row.values[0]), row.time_ns)
        for number, row in enumerate((await agent.table(_PROCESSOR)).values())
        if isinstance(row.values[0], int)
    ]
    for row in (await agent.table(*((*_STORAGE, column) for column in (3, 4, 5, 6)))).values():
        name, unit, size, used = row.values
        if isinstance(unit, int) and isinstance(size, int) and isinstance(used, int) and size > 0:
            found.append(Reading(text_of(name), STORAGE, float(size) * unit, row.time_ns))
            found.append(Reading(text_of(name), STORAGE_USED, float(used) * unit, row.time_ns))
    return found


async def sensors(agent: Agent) -> list[Reading]:
    """Temperatures, fans, voltages, of those that work. Raises AgentError."""
    told = await agent.table(*((*_SENSOR, column) for column in (1, 2, 3, 4, 5)))
    if not told:
        return []
    names = await agent.table(*((*_PHYSICAL, column) for column in (7, 2)))
    found = []
    for index, row in told.items():
        kind, scale, precision, value, status = row.values
        if status == _OK and kind in SENSORS and all(isinstance(v, int) for v in (scale, precision, value)):
            named = names.get(index)
            name = next((text_of(v) for v in (named.values if named else ()) if text_of(v)), f"sensor {index[-1]}")
            figure = value * 1000.0 ** (scale - _SCALE_OF_ONE) / 10.0**precision
            found.append(Reading(name, SENSORS[kind], figure, row.time_ns))
    return found
