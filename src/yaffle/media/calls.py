"""Calls set up by SIP (RFC 3261) over UDP: who called whom, how long it rang, how it ended, and the streams that were
announced.
"""

from dataclasses import dataclass, field

import numpy as np

from yaffle.capture.addresses import address_text, end_text
from yaffle.capture.captured import Capture
from yaffle.capture.conversations import Rows
from yaffle.capture.first_bytes import Beginnings
from yaffle.capture.payload import Payload
from yaffle.progress import Progress, go_on, step
from yaffle.protocols.sip import STARTS, SipMessage, message

_WORDS = np.array(sorted(int.from_bytes(start, "big") for start in STARTS), np.uint32)
_MOST_CALLS = 100_000
_LOOK = 4096  # Messages between two looks whether to go on.


@dataclass
class Call:
    """One call at one point. Times in ns, -1 where it was not seen."""

    call_id: str
    point: int
    caller: str
    callee: str
    asked_ns: int
    ringing_ns: int = -1
    answered_ns: int = -1
    ended_ns: int = -1
    outcome: str = "unanswered"
    tries: int = 1
    number: int = 0  # of the INVITE that is tried: one with another answers a challenge, and is no repeat
    streams: list[tuple[str, str, dict[int, tuple[str, int]]]] = field(
        default_factory=list
    )  # where to (address:port), kind, codecs by payload type

    def take(self, said: SipMessage, time_ns: int) -> None:
        """What one message adds."""
        for one in said.streams:
            told = (end_text(one.address, one.port), one.kind, one.codecs)
            if told not in self.streams and len(self.streams) < 64:
                self.streams.append(told)
        if said.method == "INVITE" and said.status == 0 and time_ns > self.asked_ns:
            self.tries, self.number = self.tries + (said.number == self.number and self.answered_ns < 0), said.number
        elif said.method == "INVITE" and 180 <= said.status <= 183 and self.ringing_ns < 0:
            self.ringing_ns = time_ns
        elif said.method == "INVITE" and said.status >= 200 and self.answered_ns < 0 and said.status not in (401, 407):
            self.answered_ns, self.outcome = time_ns, f"{said.status} {said.reason}"[:80]
        elif said.method in ("BYE", "CANCEL") and said.status == 0 and self.ended_ns < 0:
            self.ended_ns = time_ns


def find_calls(capture: Capture, payload: Payload, begun: Beginnings, progress: Progress = go_on) -> list[Call]:
    """All calls, in order of when they were asked for. Raises Cancelled when `progress` says so."""
    packets, flows = capture.packets, capture.conversations
    rows = begun.rows[np.isin(begun.first, _WORDS)]
    calls: dict[tuple[str, int], Call] = {}
    for k, row in enumerate(rows[np.argsort(packets.time_ns[rows], kind="stable")].tolist()):
        if k % _LOOK == 0:
            step(progress, k / rows.size, "listening to calls")
        said = message(payload.of_packet(row))
        if said is None:
            continue
        point = int(flows.point[packets.flow[row]])
        call = calls.get((said.call_id, point))
        if call is None:
            if said.method != "INVITE" or said.status or len(calls) >= _MOST_CALLS:
                continue
            caller, callee = ends_of(flows, int(packets.flow[row]), bool(packets.direction[row]))
            call = calls[said.call_id, point] = Call(
                said.call_id, point, caller, callee, int(packets.time_ns[row]), number=said.number
            )
        call.take(said, int(packets.time_ns[row]))
    return sorted(calls.values(), key=lambda one: one.asked_ns)


def ends_of(flows: Rows, flow: int, back: bool) -> tuple[str, str]:
    """Sender and receiver of a packet of a conversation, as address and port."""
    ipv6 = bool(flows.ipv6[flow])
    one = end_text(address_text(flows.a_hi[flow], flows.a_lo[flow], ipv6), int(flows.a_port[flow]))
    two = end_text(address_text(flows.b_hi[flow], flows.b_lo[flow], ipv6), int(flows.b_port[flow]))
    return (two, one) if back else (one, two)
