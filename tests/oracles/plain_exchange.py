"""Slow plain twin of the charging of one exchange: the four parts of its span, each by the plain twins of
plain_ledger.
"""

from collections import Counter

from tests.oracles.plain_ledger import (
    HELD,
    PROBES,
    REPEATS,
    UNKNOWN,
    PlainWays,
    base,
    plain_lately,
    plain_repeat_delay,
    plain_timer,
    plain_transfer,
)
from yaffle.capture.packets import FIN, RST
from yaffle.exchanges.turns import UNENDED
from yaffle.ledger.trips import TIMER_STEP_NS
from yaffle.transport import kinds
from yaffle.transport.round_trips import HELD_LEAST_NS, HOLD_NS

CLIENT, SERVER = 0, 1


def _helped(row, floor):
    """Whether this copy may be the one that brought its bytes."""
    kind = base(row)
    if kind in PROBES or kind == kinds.COPY:
        return False
    quick = row["before"] >= 0 and row["done"] > 0 and row["done"] - row["t"] < floor * 7 // 10
    return not (kind in REPEATS and (row["kind"] & kinds.SPURIOUS or quick))


class PlainExchange:
    """charges by cause and moments (first, asked, answered, last, end) of one turn."""

    def __init__(self, g, turn, ended, samples, floors, extra, mss, windows, cover, opened_ns, turns, ticks):
        self.g, self.turn, self.ended, self.samples, self.extra = g, turn, ended, samples, extra
        self.charges, self.ways = Counter(), PlainWays(g, samples, floors, extra, turns, ticks)
        self.raw_floors = self.ways.floors
        self.floors = [self._way_or_less(samples, side, f) for side, f in enumerate(self.raw_floors)]
        self.mss, self.windows, self.cover, self.opened_ns = mss, windows, cover, opened_ns
        lo, hi, answer = int(turn["first"]), int(turn["stop"]), int(turn["answer"])
        first = self._first(lo)
        asked = max(
            [int(g[lo]["t"]), *(int(g[i]["t"]) for i in self._request(lo, ended + 1 if answer < 0 else answer))]
        )
        if answer < 0:
            self._send(lo, ended + 1, CLIENT, int(g[lo]["t"]), asked)
            self.moments = (first, asked, -1, *[self._for_nothing(lo, asked)] * 2)
            return
        answered = max(int(g[answer]["t"]), asked)
        self._send(lo, answer, CLIENT, int(g[lo]["t"]), asked)
        self._server_turn(lo, answer, asked, answered)
        last, last_i = self._last_byte(answer, hi, answered)
        self._send(answer, max(hi, last_i + 1), SERVER, answered, last)
        unended = turn["response_end"] == UNENDED
        self.whole_at = int(g[hi - 1]["s"] + g[hi - 1]["n"]) if unended else int(turn["response_end"])
        end = last + self._last_trip(answer, last_i, answered, last)
        self.moments = (first, asked, answered, last, self._rest(last_i, end) if unended else end)

    def _rest(self, last_i, since):
        """Charges what was waited for the rest of an answer that broke off; until when."""
        end = self.g[self.ended]
        until = int(end["t"]) + (self.floors[CLIENT] if end["d"] == SERVER and end["flags"] & (FIN | RST) else 0)
        if until <= since:
            return since
        acks = [row for row in self.g[last_i + 1 : self.ended + 1] if row["d"] == CLIENT and row["flags"] & 16]
        cause = "stall"
        if not any(row["a"] >= self.g[last_i]["s"] + self.g[last_i]["n"] for row in acks):
            cause = "unseen"
        elif acks[-1]["w"] == 0:
            cause = "client window"
        self.charges[cause] += until - since
        return until

    def _for_nothing(self, lo, asked):
        """Charges what was waited for in vain; until when."""
        last = self.g[self.ended]
        span = max(0, int(last["t"]) - asked)
        heard = any(row["d"] == 1 and row["flags"] & 16 and row["a"] >= self.turn["request_end"] for row in self.g[lo:])
        self.charges["round-trip" if heard else "unseen"] += min(span, self.floors[SERVER])
        self.charges["processing" if heard else "unseen"] += span - min(span, self.floors[SERVER])
        back = self.floors[CLIENT] if last["d"] == 1 and last["flags"] & (FIN | RST) else 0
        self.charges["round-trip"] += back
        return asked + span + back

    @staticmethod
    def _way_or_less(samples, side, floor):
        """The floor, or where nothing measured it what any answer took at least."""
        return floor if floor < UNKNOWN else min((int(s["rtt"]) for s in samples if s["side"] == side), default=0)

    def _first(self, lo):
        """When the request began, its lost first copies included."""
        row, first = self.g[lo], int(self.g[lo]["t"])
        late = max(0, int(self.extra[CLIENT][lo]))
        self.charges["queueing"] += late
        if not (row["kind"] & kinds.FIRST_UNSEEN and row["lost"] > 0):
            return first - late
        back = plain_repeat_delay(
            int(row["lost"]), *plain_timer(self.samples, SERVER, first, self.floors[CLIENT], self.opened_ns)
        )
        own = [int(r["t"]) for r in self.g[:lo] if r["d"] == 0 and r["s"] <= row["s"]]
        back = min(back, first - own[-1]) if own else back
        self.charges["loss"] += back
        return first - back - late

    def _request(self, lo, stop):
        return [
            i
            for i in range(lo, stop)
            if self.g[i]["d"] == 0
            and self.g[i]["n"] > 0
            and self.g[i]["s"] < self.turn["request_end"]
            and _helped(self.g[i], self.floors[SERVER])
        ]

    def _send(self, lo, hi, side, start, end):
        other = 1 - side
        floors = (self.floors[side], self.floors[other])
        self.charges += plain_transfer(
            self.g, lo, hi, side, start, end, floors, self.mss[side], self.cover, self.windows[other], self.extra[side]
        )

    def _server_turn(self, lo, answer, asked, answered):
        g, turn = self.g, answered - asked
        if g[answer]["missed"]:
            self.charges["unseen"] += turn
            return
        if self.raw_floors[SERVER] >= UNKNOWN:
            unseen = min([turn, *(int(s["rtt"]) for s in self.samples if s["side"] == SERVER)])
            self.charges["unseen"] += unseen
            self.charges["processing"] += turn - unseen
            return
        trip = self.ways.around(SERVER, asked, answer)[0]
        trip = min(turn, max(trip, plain_lately(g, lo, answer, CLIENT, asked, int(g[answer]["t"]))))
        lost = 0
        if g[answer]["kind"] & kinds.FIRST_UNSEEN and g[answer]["lost"] > 0:
            timer = plain_timer(self.samples, CLIENT, answered, self.floors[SERVER], self.opened_ns)
            lost = min(turn - trip, plain_repeat_delay(int(g[answer]["lost"]), *timer))
        self._way(trip, self.floors[SERVER])
        self.charges["loss"] += lost
        self.charges["processing"] += turn - trip - lost

    def _way(self, span, floor):
        self.charges["round-trip"] += min(span, floor)
        self.charges["queueing"] += span - min(span, floor)

    def _last_byte(self, answer, hi, answered):
        g, last, last_i = self.g, answered, answer
        for i in range(answer, self.ended + 1):
            if i >= hi and base(g[i]) == kinds.DATA and (g[i]["t"] > g[hi - 1]["t"] or i > hi + 4096):
                break
            mine = (
                g[i]["d"] == 1
                and g[i]["n"] > 0
                and g[i]["s"] < self.turn["response_end"]
                and (i < hi or base(g[i]) in REPEATS)
            )
            if mine and _helped(g[i], self.floors[CLIENT]) and g[i]["t"] >= last:
                last, last_i = int(g[i]["t"]), i
        return last, last_i

    def _last_trip(self, answer, last_i, answered, last):
        g = self.g
        acks = [
            i
            for i in range(last_i + 1, len(g))
            if g[i]["d"] == 0 and g[i]["flags"] & 16 and g[i]["a"] >= self.whole_at and base(g[i]) != kinds.COPY
        ]
        i = acks[0] if acks else -1
        trip, least, most = self.ways.around(CLIENT, last, i)
        late = max(0, int(self.extra[CLIENT][i])) if acks else 0
        trip, least, most = (max(0, span - late) for span in (trip, least, most))
        trip = max(trip, plain_lately(g, answer, last_i, SERVER, last, int(g[i]["t"]) if acks else last + 1))
        if not acks:
            final = trip
        else:
            seen = max(0, int(g[i]["t"]) - late - last)
            most = min(max(most, trip), seen)
            own = [s for s in self.samples if s["i"] == i and s["t"] == g[i]["t"] and s["way"] <= HELD]
            held = own[0]["way"] == HELD if own else seen - most > HELD_LEAST_NS
            asked = g[i]["n"] > 0 or bool(int(g[i]["flags"]) & FIN)
            final = min(trip, seen) if asked or held else seen
            if self.ways.turns[CLIENT] and (asked or held):
                most = seen if asked else seen - HOLD_NS
                final = max(min(max(least, seen - HOLD_NS - TIMER_STEP_NS), seen), min(trip, most))
        end = g[self.ended]
        if end["d"] == CLIENT and end["flags"] & (FIN | RST):  # It left.
            final = max(0, min(final, int(end["t"]) - last))
        if self.raw_floors[CLIENT] >= UNKNOWN:
            self.charges["unseen"] += final
        else:
            self._way(final, self.floors[CLIENT])
        return final
