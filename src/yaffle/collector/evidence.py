"""What is found out when a watch that keeps evidence trips: are the hosts it names there, by which way, and where are
they connected. Bounded: a few hosts an event, a few events at once and an hour; each line becomes an event of its own.
"""

import asyncio
import ipaddress
import re
import time
from collections import deque
from dataclasses import dataclass

from yaffle.errors import YaffleError
from yaffle.history.keeper import Keeper
from yaffle.history.layout import ADDRESSES, NEIGHBOURS, PROBES
from yaffle.history.probe_rows import rows_of
from yaffle.history.store import History
from yaffle.probing.kinds import asked
from yaffle.probing.result import Result
from yaffle.probing.wanted import Wanted
from yaffle.watching.event_rows import RESPONSE, Event

_HOSTS, _AT_ONCE, _AN_HOUR = 3, 2, 20
_LONGEST_S = 30.0
_RECENT_NS = 86_400 * 10**9
_WORD = re.compile(r"[0-9A-Fa-f:.]+")


def hosts_of(subject: str) -> list[str]:
    """The addresses that a subject names, each once."""
    found: dict[str, None] = {}
    for word in _WORD.findall(subject):
        for text in (word, word.rpartition(":")[0]):
            try:
                found.setdefault(str(ipaddress.ip_address(text.strip("."))))
                break
            except ValueError:
                continue
    return list(found)[:_HOSTS]


@dataclass
class _Told:
    """Lines about one event."""

    event: Event
    lines: list[str]

    def events(self) -> list[Event]:
        one, now = self.event, time.time_ns()
        about = (one.watch, one.subject, RESPONSE, one.severity)
        return [Event(now, *about, words=line, about=one.id) for line in self.lines]


class Evidence:
    """Looks into events, beside everything else."""

    def __init__(self, keeper: Keeper) -> None:
        self._keeper = keeper
        self._room = asyncio.Semaphore(_AT_ONCE)
        self._begun: deque[float] = deque(maxlen=_AN_HOUR)

    async def look_into(self, event: Event) -> list[Event]:
        """What was found out, as events about it."""
        hosts = hosts_of(event.subject)
        if not hosts:
            return []
        now = time.monotonic()
        if len(self._begun) == _AN_HOUR and now - self._begun[0] < 3600:
            return _Told(event, [f"not looked into: {_AN_HOUR} events were within an hour already"]).events()
        self._begun.append(now)
        async with self._room:
            lines = []
            for host in hosts:
                lines += [await self._tested(event, host), *await asyncio.to_thread(self._where, host)]
        return _Told(event, lines).events()

    async def _tested(self, event: Event, host: str) -> str:
        """Whether it is there, and by which way; the results go to the history as those of any test."""
        results: list[Result] = []
        late = ""
        try:
            async with asyncio.timeout(_LONGEST_S):
                results += await asked(Wanted("reach", host, 2.0))
                results += await asked(Wanted("route", host, 1.0))
        except TimeoutError:
            late = f"; no more came within {_LONGEST_S:.0f} s"
        except (YaffleError, OSError) as error:
            return f"{host} cannot be tested from here: {error}"
        if not results:
            return f"{host} could not be tested in time"
        self._keeper.put((PROBES, rows_of(f"watch {event.watch}", [one.as_json() for one in results])))
        return f"{host}: {'; '.join(_words(one) for one in results)}{late}"

    def _where(self, host: str) -> list[str]:
        """Where it is connected, by what hosts and devices told last."""
        history, since = History(self._keeper.writer.folder), time.time_ns() - _RECENT_NS
        own = [row for row in history.intervals(ADDRESSES, since).to_pylist() if row["address"] == host]
        lines = [f"{host} is {row['hardware']} at {row['device']} {row['interface']}".rstrip() for row in own[-1:]]
        hardware = {row["hardware"] for row in own}
        behind = [
            f"{row['neighbour']} is behind {row['device']} {row['interface']}"
            for row in history.intervals(NEIGHBOURS, since).to_pylist()
            if row["neighbour"] in hardware or row["neighbour"] == host
        ]
        return lines + behind[-1:]


def _words(one: Result) -> str:
    if one.kind == "route":
        hops = one.more.get("hops") or []
        told = [hop.get("address") or "silent" for hop in hops if isinstance(hop, dict)]
        return f"route {' > '.join(told)}" if told else f"no route ({one.why})"
    return f"RTT {one.round_trip_ms:.2f} ms" if one.ok and one.round_trip_ms is not None else f"{one.why}"
