"""Delay each way against a reflector (STAMP, RFC 8762): one-way delays by RFC 7679, loss each way by the reflector's
own
count, and the difference of both clocks with how sure it is.

No delay is less than none: of offsets, those remain at which neither way's quickest packet was there before it left.
The
middle of them is told, half their width is its uncertainty; delays each way are told with it taken out.
"""

import asyncio
import socket
import time
from dataclasses import dataclass, field
from typing import Any

from yaffle.probing.icmp_words import refusals, stamp_of
from yaffle.probing.result import Result, spread
from yaffle.probing.stamp import SIZE, Answered, ask, read_answer
from yaffle.probing.waiting_socket import datagrams_to, readable
from yaffle.probing.wanted import RESPONDER_PORT, UnknownNameError, Wanted, host_and_port, resolved

KIND = "delay"
_ROOM = 2048


@dataclass
class _Session:
    """What came back. answers: of each packet the first answer, with when it came."""

    answers: dict[int, tuple[Answered, int]] = field(default_factory=dict)
    duplicates: int = 0
    reordered: int = 0
    latest: int = -1
    why: str = ""

    def take(self, answered: Answered, came_ns: int, sent: int) -> None:
        """One answer."""
        if not 0 <= answered.number < sent:
            return
        if answered.number in self.answers:
            self.duplicates += 1
            return
        self.reordered += answered.number < self.latest
        self.latest = max(self.latest, answered.number)
        self.answers[answered.number] = (answered, came_ns)


async def delay(wanted: Wanted) -> list[Result]:
    """One session of some packets."""
    host, port = host_and_port(wanted.target, RESPONDER_PORT)
    at_ns = time.time_ns()
    try:
        end = await resolved(host, port, wanted)
    except UnknownNameError as error:
        return [Result(KIND, wanted.target, at_ns, False, str(error))]
    session = _Session()
    try:
        with datagrams_to(end, wanted.dscp) as own:
            await _run(own, session, wanted)
    except OSError as error:
        return [Result(KIND, wanted.target, at_ns, False, (error.strerror or str(error)).lower())]
    return [_judged(session, wanted, at_ns)]


async def _run(own: socket.socket, session: _Session, wanted: Wanted) -> None:
    """Sends at even pauses; takes what comes meanwhile, and for the patience after it."""
    loop = asyncio.get_running_loop()
    began = loop.time()
    for number in range(wanted.packets):
        due = began + number * wanted.interval_s
        while loop.time() < due:
            if await readable(own, due):
                _take(own, session, number, wanted)
        try:
            own.send(ask(number, time.time_ns(), SIZE, wanted.key))
        except OSError:
            session.why = next((told.words for told in refusals(own)), session.why)
    until = loop.time() + wanted.timeout_s
    while len(session.answers) < wanted.packets and await readable(own, until):
        _take(own, session, wanted.packets, wanted)
        if session.why and not session.answers:
            break


def _take(own: socket.socket, session: _Session, sent: int, wanted: Wanted) -> None:
    for told in refusals(own):
        session.why = told.words
    while True:
        try:
            data, ancillary, _, _ = own.recvmsg(_ROOM, _ROOM)
        except BlockingIOError:
            return
        except OSError:
            continue
        if (answered := read_answer(data, wanted.key)) is not None:
            session.take(answered, stamp_of(ancillary) or time.time_ns(), sent)


def _judged(session: _Session, wanted: Wanted, at_ns: int) -> Result:
    if not session.answers:
        why = session.why or f"unanswered within {wanted.timeout_s:g} s: no responder there, or UDP is filtered"
        more: dict[str, Any] = {
            "packets": wanted.packets,
            "lost_there": None,
            "lost_back": None,
            "duplicates": 0,
            "reordered": 0,
        }
        return Result(KIND, wanted.target, at_ns, False, why, None, more)
    answers = list(session.answers.values())
    # The reflector numbers what it got: what is missing in its numbers was lost on the way back, the rest there.
    reflected = [one.reflected for one, _ in answers]
    missing = wanted.packets - len(answers)
    back = max(0, max(reflected) + 1 - len(set(reflected)) - session.duplicates)
    back = min(missing, back)
    there_ms = [(one.received_ns - one.sent_ns) / 1e6 for one, _ in answers]
    back_ms = [(came - one.returned_ns) / 1e6 for one, came in answers]
    trips_ms = [(came - one.sent_ns - (one.returned_ns - one.received_ns)) / 1e6 for one, came in answers]
    offset = (min(there_ms) - min(back_ms)) / 2
    uncertainty = max(0.0, (min(there_ms) + min(back_ms)) / 2)
    more = {
        "packets": wanted.packets, "lost_there": missing - back, "lost_back": back, "duplicates": session.duplicates,
        "reordered": session.reordered, "there_ms": spread([value - offset for value in there_ms]),
        "back_ms": spread([value + offset for value in back_ms]), "clock_offset_ms": offset,
        "uncertainty_ms": uncertainty,
    }  # fmt: skip
    trip = spread(trips_ms)
    assert trip is not None
    return Result(KIND, wanted.target, at_ns, True, "", trip["median"], more)
