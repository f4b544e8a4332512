"""Slow plain twins of the ledger's kernels: every gap is looked at on its own, with whole scans of what passed before
it.
"""

from collections import Counter
from math import log2

from yaffle.ledger.pace import HELD_ACK_NS
from yaffle.ledger.stretch import PACED_LEAST
from yaffle.ledger.transfers import SMALL_NS
from yaffle.ledger.trips import BLUR_NS, FEW, LEAST_TIMER_NS, NEAR_NS, NEAREST, TIMER_STEP_NS
from yaffle.transport import kinds
from yaffle.transport.round_trips import HOLD_NS

REPEATS = range(kinds.REPEAT_TIMEOUT, kinds.REPEAT_CLOSE + 1)
EXPIRED = (kinds.REPEAT_TIMEOUT, kinds.REPEAT_AFTER, kinds.REPEAT_TAIL)
PROBES = (kinds.KEEP_ALIVE, kinds.WINDOW_PROBE)
OPENING, ACKNOWLEDGED, SACKED, HELD, ECHOED = range(5)
UNKNOWN = 1 << 60
MS = 1_000_000


def base(row):
    return int(row["kind"]) & kinds.KIND_MASK


def is_repeat(row):
    """Whether its bytes were sent again because they were needed."""
    return base(row) in REPEATS and not int(row["kind"]) & kinds.SPURIOUS


def plain_timer(samples, side, t, other_floor, first_ns):
    """(smoothed round trip, timer) by RFC 6298 with the variance of common stacks: a least term above the mean,
    falling slowly.
    """
    measured = [first_ns] if first_ns > 0 else []
    measured += [
        int(s["rtt"]) + other_floor for s in samples if s["t"] < t and s["side"] == side and s["way"] != OPENING
    ]
    if not measured:
        return other_floor, other_floor + LEAST_TIMER_NS
    mean, unrest = measured[0], measured[0] // 2
    spread = max(4 * unrest, LEAST_TIMER_NS)
    for value in measured[1:]:
        error = value - mean
        mean += error // 8
        step = abs(error) - unrest
        unrest += (step // 8 if error < 0 and step > 0 else step) // 4
        wanted = max(4 * unrest, LEAST_TIMER_NS)
        spread = max(wanted, spread - (spread - wanted) // 4) if wanted <= spread else wanted
    return mean, mean + spread


def plain_repeat_delay(copies, mean, timer):
    """A probe after two round trips and a held acknowledgement, no later than the timer; then the timer, doubling."""
    return min(timer, 2 * mean + LEAST_TIMER_NS) + sum(timer * 2**k for k in range(min(copies, 8) - 1))


def plain_cover(g):
    """For each gap before a segment: how many holes are open in it that a repeat closes later."""
    spans = []
    for j, row in enumerate(g):
        if not is_repeat(row):
            continue
        k = int(row["before"])
        if k >= 0:
            while g[k]["before"] >= 0:
                k = int(g[k]["before"])
        elif k <= -2:
            k = -2 - k
            while g[k]["before"] >= 0:
                k = int(g[k]["before"])
        else:
            mine = [i for i in range(j) if g[i]["d"] == row["d"]]
            k = mine[-1] if mine else (0 if j else -1)
        if k >= 0:
            spans.append((k + 1, j))
    return [sum(first <= i <= last for first, last in spans) for i in range(len(g))]


def plain_lately(g, lo, stop, side, until, before):
    """Least time to acknowledgement of the last four plain segments before `until` that were acknowledged before
    `before`; none of those that a timer of the side expired after.
    """
    expired = [i for i in range(lo, stop) if g[i]["d"] == side and base(g[i]) in EXPIRED]
    rows = [
        row
        for row in g[max([lo, *expired]) : stop]
        if row["d"] == side
        and row["n"] > 0
        and row["kind"] == kinds.DATA
        and row["t"] <= until
        and 0 < row["done"] < before
    ]
    spans = [int(row["done"] - row["t"]) for row in rows[-4:]]
    return min(spans) if len(spans) >= 2 else 0


def rank(values, percent):
    """The quantile by nearest rank; 0 of nothing."""
    return sorted(values)[max(0, -(-percent * len(values) // 100) - 1)] if values else 0


class PlainWays:
    """What the samples of a connection tell of the way to each side, by whole scans."""

    def __init__(self, g, samples, floors, extra, turns, ticks):
        self.g, self.samples, self.extra, self.turns, self.ticks = g, samples, extra, turns, ticks
        self.floors = [min([floor, *self._ways(side)]) for side, floor in enumerate(floors)]
        self.out = [self._over(s) for s in samples]
        self.telling, self.spread, self.back = [[], []], [0, 0], [(0, 0), (0, 0)]
        for side in (0, 1):
            held = [k for k, s in enumerate(samples) if s["side"] == side and s["way"] == HELD]
            times = sorted(self.out[k] for k in held if samples[k]["bare"] in (1, 2))
            known = len(times) >= FEW
            # One that came a quarter sooner than all others was sent for another reason.
            least = 0 if not known else times[1] if 4 * times[0] < 3 * times[1] else times[0]
            if turns[side]:
                known, least = True, HOLD_NS
            for k in held if known else []:
                self.out[k] = max(0, self.out[k] - least)
                if self.floors[side] < TIMER_STEP_NS and self.out[k] < 2 * TIMER_STEP_NS:
                    self.out[k] = 0
            self.telling[side] = [
                k
                for k, s in enumerate(samples)
                if s["side"] == side
                and s["bare"] in (1, 2)
                and s["rtt"] >= 0
                and (s["way"] < HELD or (s["way"] == HELD and known and not self._prompt_near(k)))
            ]
            self.spread[side] = rank([self.out[k] for k in self.telling[side]], 90)
            backs = [int(v) for v in extra[side] if v >= 0]
            self.back[side] = (rank(backs, 50), rank(backs, 95))

    def _prompt_near(self, k):
        """Whether, on a short way, an acknowledgement that was not held back passed within a second (the next 63
        samples
        tell).
        """
        side, now = self.samples[k]["side"], int(self.samples[k]["t"])
        if self.floors[side] >= TIMER_STEP_NS:
            return False  # The way is longer than the step of a host's timer.

        def prompt(rows):
            return [
                int(s["t"])
                for s in rows
                if s["side"] == side and s["bare"] in (1, 2) and s["rtt"] >= 0 and s["way"] < HELD
            ]

        before, after = prompt(self.samples[:k]), prompt(self.samples[k + 1 : k + 64])
        return any(now - t < 10**9 for t in before[-1:]) or any(t - now <= 10**9 for t in after[:1])

    def _ways(self, side):
        """Round trips, each less what its way back took above the least, and two steps of the clock that tells it."""
        own = [s for s in self.samples if s["side"] == side and s["way"] < HELD and s["rtt"] >= 0]
        late = [max(0, int(self.extra[side][s["i"]])) for s in own]
        return [
            int(s["rtt"]) - (more if more < s["rtt"] else 0) + 2 * max(BLUR_NS, self.ticks[side])
            for s, more in zip(own, late, strict=True)
        ]

    def _over(self, s):
        floor = self.floors[s["side"]]
        return max(0, int(s["rtt"]) - int(floor) - max(0, int(self.extra[s["side"]][s["i"]])))

    def lasting(self, side, i):
        """What all packets before i, or all after it, took above their least for a second."""
        extra, now, d = self.extra[side], int(self.g[i]["t"]), self.g[i]["d"]
        if i < 0 or extra[i] <= 0:
            return 0

        def told(rows):
            return [
                int(extra[k])
                for k in rows
                if abs(int(self.g[k]["t"]) - now) < NEAR_NS and self.g[k]["d"] == d and extra[k] >= 0
            ]

        before, after = told(range(max(0, i - 2048), i)), told(range(i + 1, min(len(self.g), i + 2048)))
        least_before, least_after = min([int(extra[i]), *before]), min([int(extra[i]), *after])
        return least_after if least_after > least_before and len(after) >= 2 else least_before

    def soonest(self, side, t, late):
        """The second least way out of the answers near a moment whose way back took at least half of `late` more."""
        low = sum(s["t"] < t for s in self.samples)
        near = range(max(0, low - 64), min(len(self.samples), low + 64))
        outs = []
        for k in near:
            s = self.samples[k]
            back = max(0, int(self.extra[side][s["i"]])) if s["side"] == side else 0
            if (
                s["side"] == side
                and s["rtt"] >= 0
                and s["way"] < HELD
                and abs(int(s["t"]) - t) <= NEAR_NS
                and 2 * back >= late
            ):
                outs.append(max(0, int(s["rtt"]) - int(self.floors[side]) - back))
        return sorted(outs)[1] if len(outs) > 1 else UNKNOWN

    def around(self, side, t, back):
        """(estimate, least, most) of a trip to a side that began at t."""
        floor = int(self.floors[side])
        if floor >= UNKNOWN:
            return 0, 0, UNKNOWN
        late = max(0, int(self.extra[side][back])) if back >= 0 else 0
        began = {k: abs(int(self.samples[k]["t"]) - int(self.samples[k]["rtt"]) - t) for k in self.telling[side]}
        low = sum(self.samples[k]["t"] < t for k in self.telling[side])
        before, after = self.telling[side][:low][::-1], self.telling[side][low:]
        near = []
        while len(near) < NEAREST and (before or after):
            past, future = (began[before[0]] if before else UNKNOWN), (began[after[0]] if after else UNKNOWN)
            if min(past, future) > NEAR_NS:
                break
            near.append(before.pop(0) if past <= future else after.pop(0))
        outs = sorted(self.out[k] for k in near)
        if outs:
            away, least, most = outs[(len(outs) - 1) // 2], outs[0], outs[-1]
        else:
            lasting = self.lasting(side, back) if back >= 0 else 0
            half, high = self.back[side]
            usual, most = max(0, half - lasting), max(high - lasting, late - lasting)
            if lasting > self.soonest(side, t, late):
                lasting = 0
            away, least, most = lasting + usual, 0, lasting + max(most, usual)
        if len(outs) < FEW:
            most = max(most, self.spread[side])
        blur = min(late, BLUR_NS)
        return floor + late + away, floor + late - blur + least, floor + late + blur + max(most, away)


def plain_transfer(g, lo, hi, side, start, end, floors, mss, cover, window, extra):
    """Charges by cause of the time in which a side sent. floors: to the sender, to the receiver; extra: the sender's
    own clock's.
    """
    to_sender, to_receiver = floors
    whole = to_sender + to_receiver
    stall, held = ("stall", "client window") if side == 1 else ("pacing", "server window")
    sent = [i for i in range(lo, hi) if g[i]["d"] == side and g[i]["n"] > 0 and base(g[i]) != kinds.COPY]
    before = [i for i in sent if g[i]["t"] <= start]
    gaps, previous, at = [], (before[-1] if before else None), start  # gaps: (length, cause, of which round trip)
    seen = list(before)
    most_known, limited, full_at, loop, lossy = 0, 0, -UNKNOWN, 0, False
    for i in (i for i in sent if g[i]["t"] > start):
        t = int(g[i]["t"])
        if t > end:
            break
        gap = t - at
        if g[i]["done"] > 0 and g[i]["way"] == 1 and base(g[i]) == kinds.DATA:
            loop = int(g[i]["done"]) - t
        lossy = lossy or cover[i] > 0
        room = int(g[previous]["room"]) if previous is not None else -1
        allowed = room + int(g[previous]["flight"]) if previous is not None else 0
        if previous is not None and 0 <= room < max(3 * mss, allowed // 5):
            if t - full_at <= max(5 * whole, 100 * MS):
                limited += t - full_at
            full_at = t
        late = max(0, int(extra[i]))
        if gap <= SMALL_NS:
            cause = "loss" if cover[i] else "rate"
        elif is_repeat(g[i]):
            cause = "loss"
        elif base(g[i]) in PROBES:
            cause = held
        else:
            left = t - to_sender - late
            reach, nearest = (
                left - to_sender * 3 // 10 - (3_500_000 if late else 1_500_000),
                left + to_sender * 3 // 10 + 300_000,
            )
            answers = [k for k in range(i) if g[k]["d"] != side and g[k]["flags"] & 16]
            told = [k for k in answers if g[k]["t"] >= reach or k > (-1 if previous is None else previous)]
            heard = [k for k in told if g[k]["t"] <= nearest]
            newest = max((int(g[k]["a"]) for k in heard), default=-1)
            echoed = plain_echoed(g, lo, i, side)
            if echoed >= 0:
                newest = echoed if newest < 0 or late else min(newest, echoed)
            latest_window = int(g[told[-1]]["w"]) if told else -1
            shut = False
            if previous is not None and 0 <= room < mss:
                behind = allowed < window // 2 or latest_window == 0
                queued = loop > 2 * whole + HELD_ACK_NS and allowed >= window * 3 // 4
                shut = behind or (not queued and gap > whole + whole // 2 + 5 * MS + late)
            most = max([most_known, *(int(g[k]["flight"]) for k in seen)])
            if g[i]["missed"]:
                cause = "unseen"
            elif cover[i]:
                cause = "loss"
            elif shut:
                mended = max((int(g[k]["done"]) for k in seen if is_repeat(g[k])), default=-UNKNOWN)
                filling = g[previous]["t"] < mended and t <= mended + to_sender + late + 5 * MS
                cause = "loss" if filling and latest_window != 0 else held
            elif any(g[k]["t"] >= reach for k in heard):
                cause = "round-trip"
            elif previous is not None and _free(int(g[previous]["e"]), newest, gap, mss, most, whole, lossy, room):
                cause = stall
            else:
                cause = "round-trip"
            if newest >= 0 and previous is not None:
                most_known = max(most_known, int(g[previous]["e"]) - newest)
        trip = (
            min(gap, whole)
            if cause == "round-trip"
            else gap
            if cause == "rate" and loop < whole + whole // 2 + 2 * MS
            else 0
        )
        gaps.append((gap, cause, trip))
        previous, at = i, t
        seen.append(i)
    charges = Counter()
    for gap, cause, trip in gaps:
        charges["round-trip"] += trip
        charges["queueing" if cause == "round-trip" else cause] += gap - trip
    charges["round-trip"] += max(0, end - at)
    if hi - lo >= PACED_LEAST:
        _pace(gaps, end - start, whole, charges)
    if limited * 5 > (end - start) * 3 and end - start > 10 * whole and window > 0 and loop <= 2 * whole + HELD_ACK_NS:
        for cause in ("rate", "round-trip", "queueing"):
            charges[held] += charges.pop(cause, 0)
    return charges


def plain_echoed(g, lo, i, side):
    """The newest acknowledgement of all that had reached the sender by what its packets echo, up to packet i; -1
    unknown.
    """
    found, k = -1, lo
    for own in range(lo, i + 1):
        if g[own]["d"] != side or g[own]["n"] == 0 or base(g[own]) == kinds.COPY or g[own]["tse"] < 0:
            continue
        while k < own and not (g[k]["d"] != side and g[k]["tsv"] > g[own]["tse"]):
            if g[k]["d"] != side and g[k]["flags"] & 16:
                found = max(found, int(g[k]["a"]))
            k += 1
    return found


def _free(sent_to, newest, gap, mss, most, whole, lossy, room):
    if newest >= sent_to:
        return True
    if lossy:
        return False
    if newest >= 0:
        return sent_to - newest + mss <= most * 3 // 4 and gap > whole + whole // 4 + 5 * MS
    return gap > 2 * whole + 10 * MS and room != 0


def _bin(gap):
    return min(63, max(0, int(3 * log2(max(gap, 1000) / 1000))))


def _pace(gaps, span, whole, charges):
    """Where gaps of one length, shorter than a round trip, take most of the time, that is a bottleneck's pace."""
    times = Counter()
    for gap, _, _ in gaps:
        if gap > 0:
            times[_bin(gap)] += gap
    most = max(range(64), key=lambda k: (times[k], -k))
    if sum(times[k] for k in (most - 1, most, most + 1)) * 5 > span * 3 and _bin(max(1, whole * 8 // 10)) > most:
        moved = sum(trip for gap, _, trip in gaps if gap > 0 and abs(_bin(gap) - most) <= 1)
        charges["round-trip"] -= moved
        charges["rate"] += moved


def plain_opening(g, extra, floor_client):
    """(how it went, from, to, charges) of setting up: 0 complete, 1 unseen, 2 refused, 3 unanswered. extra: what the
    client's packets took above their least.
    """
    own = [int(row["t"]) - max(0, int(late)) for row, late in zip(g, extra, strict=True)]
    head = [(i, row) for i, row in enumerate(g[:64]) if base(row) != kinds.COPY]
    syns = [row for _, row in head if row["flags"] & 18 == 2 and row["d"] == 0]
    if not syns:
        return 1, int(g[0]["t"]), int(g[0]["t"]), Counter()
    began = int(syns[0]["t"])
    answers = [i for i, row in head if row["flags"] & 2 and row["d"] == 1]
    resets = [i for i, row in head if row["flags"] & 6 == 4 and row["d"] == 1 and row["t"] >= began]
    if resets and (not answers or resets[0] < answers[0]):
        tries = [int(row["t"]) for i, row in head if i < resets[0] and row["flags"] & 18 == 2 and row["d"] == 0]
        until = int(g[resets[0]]["t"])
        return 2, began, until, Counter({"loss": tries[-1] - began, "set-up": until - tries[-1]})
    if not answers:
        until = int(g[-1]["t"])
        return (1 if any(row["d"] == 1 for row in g) else 3), began, until, Counter({"unseen": until - began})
    tries = [i for i, row in head if i < answers[0] and row["flags"] & 18 == 2 and row["d"] == 0]
    began = own[next(i for i, row in head if row["flags"] & 18 == 2 and row["d"] == 0)]
    ends = [i for i, row in head if i > answers[0] and row["d"] == 0 and row["flags"] & 16]
    between = [i for i in answers if not ends or i < ends[0]]
    first, last = int(g[between[0]]["t"]), int(g[between[-1]]["t"])
    until = first + floor_client
    if ends and last == first and (g[ends[0]]["n"] == 0 or g[ends[0]]["t"] - first < floor_client):
        until = own[ends[0]]
    elif ends and last > first:
        until = min(own[ends[0]], last + floor_client)
    until = max(until, began)
    lost = (own[tries[-1]] if tries else began) - began + (last - first if last > first and until > last else 0)
    lost = max(0, min(lost, until - began))
    return 0, began, until, Counter({"loss": lost, "set-up": until - began - lost})


def plain_limits(g, side, mss, whole, cover):
    """Stretches of what limited a sender: (from, to, index into limits.WORDS)."""
    own = [i for i, row in enumerate(g) if row["d"] == side and row["n"] > 0 and base(row) != kinds.COPY]
    stretches, loops = [], []
    for place, i in enumerate(own):
        if g[i]["done"] > 0 and g[i]["kind"] == kinds.DATA:
            loops.append(int(g[i]["done"] - g[i]["t"]))
        if place == 0:
            continue
        p = own[place - 1]
        gap = int(g[i]["t"] - g[p]["t"])
        newest = max((int(g[k]["a"]) for k in range(p + 1, i) if g[k]["d"] != side and g[k]["flags"] & 16), default=-1)
        if cover[i] or is_repeat(g[i]):
            what = 4
        elif 0 <= g[p]["room"] < mss and gap > 1.5 * MS:
            mended = max((int(g[k]["done"]) for k in own[:place] if is_repeat(g[k])), default=-UNKNOWN)
            windows = [int(g[k]["w"]) for k in range(p + 1, i) if g[k]["d"] != side and g[k]["flags"] & 16]
            filling = g[p]["t"] < mended and g[i]["t"] <= mended + whole + 5 * MS and (windows or [-1])[-1] != 0
            what = 4 if filling else 1
        elif newest >= g[p]["e"] and (gap > whole + whole // 4 + 5 * MS or (g[p]["n"] < mss and gap > 1.5 * MS)):
            what = 0
        elif loops and loops[-1] > min(loops) + min(loops) // 2 + 2 * MS and g[p]["flight"] > 2 * mss:
            what = 3
        else:
            what = 2
        if stretches and stretches[-1][2] == what:
            stretches[-1] = (stretches[-1][0], int(g[i]["t"]), what)
        else:
            stretches.append((int(g[p]["t"]), int(g[i]["t"]), what))
    return stretches


def plain_side(g, side):
    """Totals of one side, by the names of account.SIDE_FIELDS, but for what its segments on the wire carry."""
    own = [row for row in g if row["d"] == side]
    count = Counter(base(row) for row in own)
    repeats = [row for row in own if base(row) in REPEATS and base(row) != kinds.REPEAT_CLOSE]
    fresh = [
        row
        for row in own
        if base(row) in (kinds.DATA, kinds.CLOSE, kinds.OUT_OF_ORDER) or row["kind"] & kinds.FIRST_UNSEEN
    ]
    partly = sum(int(r["n"] - r["again"]) for r in own if base(r) in REPEATS and not r["kind"] & kinds.FIRST_UNSEEN)
    partly -= sum(int(r["again"]) for r in fresh if not r["kind"] & kinds.FIRST_UNSEEN)
    opened_again = [row for row in g if base(row) == kinds.REPEAT_OPEN]
    answers = [
        r
        for r in opened_again
        if r["d"] == 1 and any(0 <= r["t"] - q["t"] <= 20 * MS for q in opened_again if q["d"] == 0)
    ]
    shut, since = 0, None
    for row in own:
        if row["flags"] & 16 and not row["flags"] & 6:
            if row["w"] == 0 and since is None:
                since = int(row["t"])
            elif row["w"] != 0 and since is not None:
                shut, since = shut + int(row["t"]) - since, None
    if since is not None:
        shut += int(g[-1]["t"]) - since
    return {
        "packets": len(own), "payload_bytes": sum(int(r["n"]) for r in own),
        "unique_bytes": sum(int(r["n"]) for r in fresh) + partly,
        "retransmitted_packets": len(repeats), "retransmitted_bytes": sum(int(r["again"]) for r in repeats),
        "spurious_packets": sum(bool(r["kind"] & kinds.SPURIOUS) for r in repeats),
        "duplicate_packets": count[kinds.COPY], "out_of_order_packets": count[kinds.OUT_OF_ORDER],
        "duplicate_acks": count[kinds.DUPLICATE_ACK],
        "zero_window_ns": shut, "max_in_flight_bytes": max((int(r["flight"]) for r in own), default=0),
        "resets": count[kinds.RESET],
        "keep_alives": count[kinds.KEEP_ALIVE] + count[kinds.WINDOW_PROBE],
        "closing_repeats": count[kinds.REPEAT_CLOSE],
        "segments": sum(int(r["parts"]) for r in own),
        "timeouts": count[kinds.REPEAT_TIMEOUT] + count[kinds.REPEAT_OPEN] - (len(answers) if side else 0),
        "after_timeout": count[kinds.REPEAT_AFTER], "fast_retransmissions": count[kinds.REPEAT_FAST],
        "tail_probes": count[kinds.REPEAT_TAIL],
    }  # fmt: skip
