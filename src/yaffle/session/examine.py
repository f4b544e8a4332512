"""One connection, taken apart: its segments in time, its silences with the side that was expected to send next."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from yaffle.arrays import Array, Int64s
from yaffle.ledger.limits import sender_limits
from yaffle.ledger.transfers import loss_cover
from yaffle.session.evidence import Evidence
from yaffle.transport import kinds
from yaffle.transport.classify import told_apart
from yaffle.transport.host_clock import extra_delays
from yaffle.transport.round_trips import release_held
from yaffle.transport.segments import BASE_CLIENT, FACTS, SCALES_KNOWN, Segments
from yaffle.transport.taking_turns import release_by_turns
from yaffle.transport.workspace import segment_space
from yaffle.units import size

SILENCE_NS = 30_000_000  # Shorter stretches are not listed.
CLIENT, SERVER = 0, 1
_SIDES = ("client", "server")
_NOTHING = -(1 << 62)


@dataclass(frozen=True)
class Limits:
    """What limited one side, stretch by stretch; and what congestion control allowed it at each segment (0: not its
    own).
    """

    from_ns: Int64s
    to_ns: Int64s
    what: Int64s  # index into ledger.limits.WORDS
    allowed_bytes: Int64s


@dataclass(frozen=True)
class Silence:
    """A stretch in which the connection carried nothing."""

    first_ns: int
    last_ns: int
    before: int  # segment before it (index), and the one that ended it
    after: int
    owed_by: str  # client, server, nobody
    kind: str  # waiting, set-up, keep-alive, closing, idle
    sentence: str

    @property
    def span_ns(self) -> int:
        """How long it lasted."""
        return self.last_ns - self.first_ns


@dataclass(frozen=True)
class _Until:
    """What is known at each segment, itself included; of two sides the client's first."""

    highest: tuple[Array, Array]  # byte that was sent
    acknowledged: tuple[Array, Array]  # byte of the side's
    last: tuple[Array, Array]  # segment of the side (index), -1 none
    last_data: Int64s  # segment with data that was no copy (index), -1 none


def _until_each(g: Segments) -> _Until:
    rows = np.arange(g.size)

    def greatest(own: Array, values: Array, none: int) -> Array:
        found = np.maximum.accumulate(np.where(own, values, _NOTHING)) if g.size else np.zeros(0, np.int64)
        return np.where(found == _NOTHING, none, found)

    sides = tuple(g["d"] == side for side in (CLIENT, SERVER))
    data = (g["n"] > 0) & ((g["kind"] & kinds.KIND_MASK) != kinds.COPY)
    return _Until(
        (greatest(sides[0], g["e"], 0), greatest(sides[1], g["e"], 0)),
        (greatest(sides[1], g["a"], 0), greatest(sides[0], g["a"], 0)),
        (greatest(sides[0], rows, -1), greatest(sides[1], rows, -1)),
        greatest(data, rows, -1),
    )


class Connection:
    """Segments, round trips and silences of one connection at its speaking point."""

    def __init__(self, evidence: Evidence, number: int) -> None:
        analysis = evidence.analysis
        account = analysis.account
        order = account.order[account.starts[number] : account.starts[number + 1]]
        self.number, self.evidence = number, evidence
        facts, capture = np.zeros(FACTS, np.int64), analysis.capture
        space = segment_space(order.size)
        self.segments, self.samples = told_apart(order, capture.packets, capture.sack, space, facts)
        self.extra = np.empty((2, order.size), np.int64)
        ticks = extra_delays(self.segments, self.extra)
        release_held(self.segments, self.samples, self.extra)
        release_by_turns(self.segments, self.samples, self.extra, ticks)
        self._bases = facts[BASE_CLIENT : BASE_CLIENT + 2].copy()
        self.scales_known = bool(facts[SCALES_KNOWN])
        self._blocked = np.zeros(order.size + 2, np.int64)
        loss_cover(self.segments, self._blocked)
        floors = [int(account.fact(name)[number]) for name in ("to_client_min_ns", "to_server_min_ns")]
        self.round_trip_ns = sum(max(0, f) for f in floors)
        self.client = evidence.client.texts[evidence.client.codes[number]]
        self.server = evidence.server.texts[evidence.server.codes[number]]
        self.client_port, self.server_port = int(evidence.client_port[number]), int(evidence.port[number])

    @property
    def title(self) -> str:
        """Both ends."""
        places = self.evidence.places
        return (
            f"{places.short(self.client)} port {self.client_port}  –  {places.short(self.server)} port"
            f" {self.server_port}"
        )

    def since_previous(self) -> Int64s:
        """Time since the packet before, ns."""
        times = self.segments["t"]
        return np.diff(times, prepend=times[:1])

    def sack_blocks(self, side: int) -> tuple[Int64s, Int64s, Int64s]:
        """Blocks in which the peer says what of this side's bytes it holds out of order (RFC 2018): time, from, to."""
        g = self.segments
        rows = np.flatnonzero((g["d"] != side) & (g["sacks"] > 0))
        each = np.repeat(rows, g["sacks"][rows])
        first = np.repeat(np.cumsum(g["sacks"][rows]) - g["sacks"][rows], g["sacks"][rows])
        at = g["sack"][each] + np.arange(each.size) - first
        sack = self.evidence.analysis.capture.sack
        each, at = each[at < sack.left.size], at[at < sack.left.size]
        base = int(self._bases[side])
        left = sack.left[at].astype(np.int64) - base
        near = g["a"][each]  # Numbers count from the first of the side; the nearest turn of the 32 bits is meant.
        left += np.round((near - left) / 2**32).astype(np.int64) << 32
        width = (sack.right[at].astype(np.int64) - sack.left[at].astype(np.int64)) & 0xFFFFFFFF
        return g["t"][each], left, left + width

    def limits(self, side: int) -> Limits:
        """What limited a side (0 client, 1 server) and when."""
        g = self.segments
        own = (g["d"] == side) & (g["n"] > 0)
        mss = int(min(65_535, g["n"][own].max())) if own.any() else 536
        return Limits(*sender_limits(g, side, mss, self.round_trip_ns, self._blocked))

    def rate_bps(self, side: int, from_ns: int, to_ns: int) -> tuple[float, float]:
        """Throughput (all payload) and goodput (each byte once) of a side between two moments, bit/s."""
        g = self.segments
        inside = (g["d"] == side) & (g["t"] >= from_ns) & (g["t"] <= to_ns) & (g["n"] > 0)
        span_s = max(1, to_ns - from_ns) / 1e9
        base = g["kind"][inside] & kinds.KIND_MASK
        fresh = np.isin(base, (kinds.DATA, kinds.CLOSE, kinds.OUT_OF_ORDER)) | (
            g["kind"][inside] & kinds.FIRST_UNSEEN > 0
        )
        return float(g["n"][inside].sum() * 8 / span_s), float(g["n"][inside][fresh].sum() * 8 / span_s)

    def silences(self, least_ns: int = SILENCE_NS) -> list[Silence]:
        """Silences, longest first."""
        gaps = self.since_previous()
        found = [self._silence(int(i)) for i in np.flatnonzero(gaps >= least_ns)]
        return sorted(found, key=lambda s: -s.span_ns)

    @cached_property
    def _until(self) -> "_Until":
        return _until_each(self.segments)

    def _silence(self, after: int) -> Silence:
        g = self.segments
        before = after - 1
        kind_after = int(g["kind"][after]) & kinds.KIND_MASK
        repeat = kinds.is_repeat(int(g["kind"][after]))
        until = self._until
        data = int(until.last_data[before])
        last_data = int(g["d"][data]) if data >= 0 else -1
        ender = _SIDES[int(g["d"][after])]
        word = kinds.in_words(int(g["kind"][after]))
        payload = int(g["n"][after])
        ended = f"{word} of the {ender}" + (f" ({size(payload)})" if payload else "") + " ended it"
        open_bytes = [max(0, int(until.highest[s][before] - until.acknowledged[s][before])) for s in (CLIENT, SERVER)]
        last = {side: int(until.last[side][before]) for side in (CLIENT, SERVER)}
        window = {side: int(g["w"][row]) if row >= 0 else -1 for side, row in last.items()}
        if kind_after in (kinds.OPEN, kinds.OPEN_ANSWER, kinds.REPEAT_OPEN) or (before == 0 and g["flags"][0] & 2):
            owed, kind, why = "server", "set-up", "SYN not answered"
        elif kind_after in (kinds.KEEP_ALIVE, kinds.KEEP_ALIVE_ANSWER):
            owed, kind, why = "nobody", "keep-alive", "nothing was outstanding"
        elif kind_after in (kinds.CLOSE, kinds.RESET) or g["flags"][before] & 1:
            owed, kind, why = "nobody", "closing", "nothing was outstanding before the close"
        elif repeat:
            side = int(g["d"][after])
            owed, kind = _SIDES[side], "waiting"
            why = (
                f"{size(max(open_bytes[side], payload))} of the {_SIDES[side]} were not acknowledged and had to be"
                " retransmitted"
            )
        elif window[CLIENT] == 0 or window[SERVER] == 0:
            side = CLIENT if window[CLIENT] == 0 else SERVER
            owed, kind, why = _SIDES[side], "waiting", f"zero window of the {_SIDES[side]}"
        elif last_data == CLIENT:
            owed, kind = "server", "waiting"
            state = "acknowledged and unanswered" if open_bytes[CLIENT] == 0 else "not acknowledged yet"
            why = f"the request was {state}"
            if g["d"][after] == CLIENT and payload:
                owed, why = "client", "the request was incomplete"
        elif last_data == SERVER:
            if g["d"][after] == SERVER and payload:
                owed, kind, why = "server", "waiting", "the response was incomplete"
            elif g["d"][after] == CLIENT and payload:
                owed, kind, why = "nobody", "idle", "every request was answered"
            else:
                owed, kind, why = (
                    "client",
                    "waiting",
                    f"{size(open_bytes[SERVER])} of the response were not acknowledged",
                )
        else:
            owed, kind, why = "nobody", "idle", "no request yet"
        debt = f"the {owed} was expected to send next" if owed != "nobody" else "nobody was expected to send"
        return Silence(
            int(g["t"][before]),
            int(g["t"][after]),
            before,
            after,
            owed,
            kind,
            f"{why[:1].upper()}{why[1:]}; {debt}; {ended}.",
        )
