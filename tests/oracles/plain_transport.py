"""Slow plain twins of the kernels of transport: whole scans of lists, no cut-offs, no state beyond what the definition
names.
"""

from collections import Counter
from statistics import median

from yaffle.transport import kinds
from yaffle.transport.round_trips import FEW_BARE, HELD

_RATES = (1000, 100, 250, 500, 10, 1_000_000)


def unwrap(raw, near):
    """The number closest to `near` that is `raw` modulo 2^32."""
    step = (raw - near) % 2**32
    return near + (step - 2**32 if step >= 2**31 else step)


def plain_gather(packets):
    """packets: dicts of t, d, flags, seq, ack, window, n, tsval, tsecr (None without), scale (of a SYN, None without).

    Segments as dicts s, e, a, w, n, tsv, tse, in order of time.
    """
    packets = sorted(packets, key=lambda p: p["t"])
    scale = {p["d"]: p["scale"] for p in packets if p["flags"] & 2}
    both = len(scale) == 2 and None not in scale.values()
    high, base, stamp = {}, {}, {}
    found = []
    for p in packets:
        d, o = p["d"], 1 - p["d"]
        base.setdefault(d, p["seq"])
        s = unwrap(p["seq"], high.setdefault(d, base[d]))
        high[d] = max(high[d], s)
        a = -1
        if p["flags"] & 16:
            base.setdefault(o, p["ack"])
            a = unwrap(p["ack"], high.setdefault(o, base[o])) - base[o]
        tsv = tse = -1
        if p["tsval"] is not None:
            first, latest = stamp.get(d, (p["tsval"], p["tsval"]))
            value = unwrap(p["tsval"], latest)
            stamp[d] = (first, max(latest, value))
            tsv = value - first
            if p["flags"] & 16:
                first, latest = stamp.setdefault(o, (p["tsecr"], p["tsecr"]))
                tse = unwrap(p["tsecr"], latest) - first
        s -= base[d]
        size = p["n"] + bool(p["flags"] & 2) + (p["flags"] & 1)
        shift = scale[d] if both and not p["flags"] & 2 else 0
        found.append(
            {
                "t": p["t"],
                "d": d,
                "s": s,
                "e": s + size,
                "a": a,
                "w": p["window"] << shift,
                "n": p["n"],
                "tsv": tsv,
                "tse": tse,
            }
        )
    return found


class PlainClasses:
    """What each segment of a connection is, from its identifications (which must count up) and from the bytes seen
    before it.
    """

    def __init__(self, g, sacks):
        """g: rows with t, d, flags, s, e, a, w, n, id, tsv; sacks[i]: blocks (from, to) that segment i carries,
        unwrapped.
        """
        self.g, self.sacks = g, sacks
        self.copy = [self._is_copy(i) for i in range(len(g))]

    def _is_copy(self, i):
        key = ("d", "s", "n", "a", "flags", "w", "tsv", "id")
        mine = [int(self.g[i][k]) for k in key]
        return mine[-1] >= 0 and any([int(self.g[k][name]) for name in key] == mine for k in range(max(0, i - 64), i))

    def _bytes(self, i):
        return range(int(self.g[i]["s"]), int(self.g[i]["e"]))

    def _before(self, i, side):
        return [k for k in range(i) if self.g[k]["d"] == side and not self.copy[k]]

    def reached(self, i, side):
        """Highest byte of a side sent or acknowledged before segment i, plus one; highest acknowledged (None
        without).
        """
        sent = [int(self.g[k]["e"]) for k in self._before(i, side)]
        acked = [
            int(self.g[k]["a"])
            for k in self._before(i, 1 - side)
            if self.g[k]["flags"] & 16 and not self.g[k]["flags"] & 4
        ]
        return max([*sent, *acked], default=None), max(acked, default=None)

    def word(self, i):
        """data, copy, repeat, late, probe, duplicate, other."""
        row = self.g[i]
        d = row["d"]
        if self.copy[i]:
            return "copy"
        top, acked = self.reached(i, d)
        other_top, other_acked = self.reached(i, 1 - d)
        if row["flags"] & 6:
            return "other"
        if row["e"] == row["s"]:
            if acked is not None and top == acked and row["s"] == top - 1:
                return "probe"
            windows = [int(self.g[k]["w"]) for k in self._before(i, d) if self.g[k]["flags"] & 18]
            outstanding = other_acked is not None and other_top > other_acked and row["a"] == other_acked
            if outstanding and windows and (windows[-1] == row["w"] or self.sacks[i]):
                return "duplicate"
            return "other"
        if top is None or row["s"] >= top:
            return "data"
        if row["n"] == 1 and row["s"] == top - 1 and acked is not None and acked >= row["e"]:
            return "probe"
        seen = set()
        for k in self._before(i, d):
            seen.update(self._bytes(k))
        missing = [b for b in self._bytes(i) if b not in seen and b < top]
        if missing:
            beyond = [k for k in self._before(i, d) if self.g[k]["s"] > missing[0]]
            if beyond and row["id"] < self.g[beyond[0]]["id"]:
                return "late"
        return "repeat"

    def done(self, i):
        """When an acknowledgement of all of segment i, newer than it, passed: by number or block; 0 never."""
        row = self.g[i]
        covered = self.reached(i, row["d"])[1]
        for k in range(i + 1, len(self.g)):
            ack = self.g[k]
            if ack["d"] == row["d"] or self.copy[k] or not ack["flags"] & 16 or ack["flags"] & 4:
                continue
            if ack["a"] >= row["e"] and (covered is None or ack["a"] > covered):
                return int(ack["t"])
            if any(left <= row["s"] and right >= row["e"] for left, right in self.sacks[k]):
                return int(ack["t"])
            covered = max(int(ack["a"]), -1 if covered is None else covered)
        return 0

    def sent_once(self, i, until):
        """Whether no other segment up to a moment carries any of the bytes of segment i."""
        own, side = set(self._bytes(i)), self.g[i]["d"]
        others = [
            k
            for k in range(len(self.g))
            if k != i and self.g[k]["t"] <= until and self.g[k]["d"] == side and not self.copy[k]
        ]
        return not any(own & set(self._bytes(k)) for k in others)


def _stamped_ahead(g, own, ways):
    """A side's acknowledgements, of those soon after data of its own, that took 2 ms less than all other packets."""
    other = [i for i in range(len(g)) if g[i]["d"] == g[own[0]]["d"] and (g[i]["n"] > 0 or g[i]["flags"] & 3)]
    data = [i for i in other if not g[i]["flags"] & 2]
    soon = {i for i in own if i not in other and any(k < i and g[i]["t"] - g[k]["t"] < 100_000_000 for k in data)}
    sure = [way for i, way in zip(own, ways, strict=True) if i not in soon]
    paced = min(sure, default=0) - 2_000_000
    if not sure or min(ways) > paced:
        return set()
    return {i for i, way in zip(own, ways, strict=True) if way <= paced}


def plain_extra_delays(g):
    """One-way delay of each packet above its side's least, by its side's clock; -1 unknown.

    For spans below a minute.
    """
    found = [[-1] * len(g), [-1] * len(g)]
    for side in (0, 1):
        own = [i for i in range(len(g)) if g[i]["d"] == side and g[i]["tsv"] >= 0]
        if not own:
            continue
        span_ns, ticks = int(g[own[-1]]["t"] - g[own[0]]["t"]), int(g[own[-1]]["tsv"] - g[own[0]]["tsv"])
        if span_ns < 50_000_000 or ticks <= 0:
            continue
        rate = ticks * 1e9 / span_ns
        nearest = min(_RATES, key=lambda known: max(rate / known, known / rate))
        if max(rate / nearest, nearest / rate) > 2.718281828459045**0.25:
            continue
        tick_ns = 10**9 // nearest
        ways = [int(g[i]["t"]) - int(g[i]["tsv"]) * tick_ns for i in own]
        ahead = _stamped_ahead(g, own, ways)
        least = min(way for i, way in zip(own, ways, strict=True) if i not in ahead)
        for i, way in zip(own, ways, strict=True):
            extra = way - least
            found[side][i] = -1 if i in ahead else extra if 2 * extra >= 3 * tick_ns else 0
    return found


def plain_round_trips(samples, side):
    """samples: (t, rtt, side, way). Least, median, 95th percentile, greatest and number of the samples to a side."""
    own = sorted(int(s["rtt"]) for s in samples if s["side"] == side and s["rtt"] >= 0 and s["way"] < HELD)
    if not own:
        return [-1, -1, -1, -1, 0]
    assert own[0] <= median(own) <= own[-1]
    ranks = [max(0, -(-percent * len(own) // 100) - 1) for percent in (50, 95)]  # Nearest rank.
    return [own[0], *(own[rank] for rank in ranks), own[-1], len(own)]


def plain_turns(g, samples, late, side, floor, times):
    """Of a side's host that takes turns after sending soon so many times: for each place of a sample of less than two
    segments that came alone, (whether it was held back by the turns, None unknown; whether it came as late as a timer
    takes). late: what each of its packets took above the least.
    """
    told, top = {}, None
    got, soon, sure = None, 0, bool(g[0]["flags"] & 2)  # when bytes came last; how often it sent soon after that
    soon = 0 if sure else times
    for i, row in enumerate(g):
        if row["d"] != side or row["kind"] & kinds.KIND_MASK == kinds.COPY or row["flags"] & 6:
            continue
        own = int(row["t"]) - max(0, int(late[i]))
        further, top = top is None or row["a"] > top, max(int(row["a"]), top if top is not None else int(row["a"]))
        places = [k for k, s in enumerate(samples) if s["i"] == i and s["bare"] == FEW_BARE and s["way"] in (1, HELD)]
        if row["n"] or row["flags"] & 1:
            passed_ms = 1e9 if got is None else (own - got) / 1e6
            if further:
                soon, sure, got = max(times, soon + 1), True, own
            elif passed_ms < 38:
                soon += 1
            elif passed_ms < 42:
                sure = False
            elif not sure:
                soon, sure = 0, True
        elif further and not places:
            got = own
        elif further:
            k, got = places[0], own
            waited = int(samples[k]["rtt"]) - floor - max(0, int(late[i])) >= 38_000_000
            told[k] = (soon >= times if sure else None, waited)
            if sure and soon >= times and waited:
                got, soon = None, 0
    return told


def plain_release(g, samples, late, side):
    """(whether a side's host takes turns; places of the samples that are no longer held)."""
    own = [s for s in samples if s["side"] == side]
    known = [(int(s["rtt"]), max(0, int(late[s["i"]]))) for s in own if s["way"] < HELD and s["rtt"] >= 0]
    ways = [rtt - more if more < rtt else rtt for rtt, more in known]
    if not any(s["way"] == HELD for s in own) or not any(late[s["i"]] >= 20_000_000 for s in own):
        return False, []
    for times in (1, 3):
        told = plain_turns(g, samples, late, side, min(ways, default=1 << 60), times)
        count = Counter(one for one in told.values() if one[0] is not None)
        agree, late_ones, held, against = (count[one] for one in ((0, 0), (0, 1), (1, 1), (1, 0)))
        if agree >= max(2, late_ones) and 4 * against <= held + against:
            return True, [k for k, (back, _) in told.items() if back is False and samples[k]["way"] == HELD]
    return False, []
