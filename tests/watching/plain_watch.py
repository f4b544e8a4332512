"""What watches of the player should find, worked out slowly from its evidence: twins of their definitions."""

import json
from collections import defaultdict

import numpy as np

from tests.watching.player import BEGIN_NS, GAP, MINUTE_NS, SILENT
from yaffle.demo import weeks

_FULL, _FREE, _LASTS = 90.0, 75.0, 5
_SLOW_MS, _OVER = 100.0, 20


def expected(source, minutes):
    """States by watch and subject, in order."""
    found = {("router gone silent", SILENT): ["raised", "cleared"][: 1 + (minutes > GAP[1] + 1)]}
    for subject, states in [*_full(source, minutes), *_slow(source, minutes)]:
        if states:
            found[subject] = states
    return found


def _full(source, minutes):
    """A line is full while its last reading says so, for five minutes; free again the same way."""
    rows = np.load(source / "counters.npy")
    devices = [router for _, router, _ in weeks.SITES.values()]
    for device, interface in sorted({(int(d), int(i)) for d, i in zip(rows["device"], rows["interface"], strict=True)}):
        own = rows[(rows["device"] == device) & (rows["interface"] == interface)]
        own = own[np.argsort(own["time_ns"], kind="stable")]
        span = np.diff(own["time_ns"]) / 1e9
        most = np.maximum(np.diff(own["in_octets"]), np.diff(own["out_octets"])) * 8 / span
        at = (own["time_ns"][1:] - BEGIN_NS) / MINUTE_NS
        values = np.full(minutes + 1, np.nan)
        for minute, value, seconds in zip(at, 100 * most / own["speed_bps"][1:], span, strict=True):
            first = int(np.ceil(minute))
            if 0 < first <= minutes and seconds <= 600:
                values[first : first + 5] = value
        name = f"{devices[device]} {weeks.INTERFACES[interface]}"
        yield ("line nearly full", name), _states(values, _FULL, _FREE, _LASTS)


def _slow(source, minutes):
    """A test is slow while the median of its round trips of twenty minutes is."""
    own = defaultdict(list)
    for name, one in json.loads((source / "tests.json").read_text()):
        if one["kind"] == "delay" and one.get("round_trip_ms") is not None:
            own[name].append(((one["at_ns"] - BEGIN_NS) / MINUTE_NS, one["round_trip_ms"]))
    for name, results in sorted(own.items()):
        at, trips = (np.array(part) for part in zip(*results, strict=True))
        values = np.full(minutes + 1, np.nan)
        for minute in range(1, minutes + 1):
            inside = np.sort(trips[(at > minute - _OVER) & (at <= minute) & (at > 0)])
            if inside.size:
                values[minute] = inside[(inside.size + 1) // 2 - 1]
        yield ("slow round trips", name), _states(values, _SLOW_MS, _SLOW_MS, 0)


def _states(values, limit, clear, lasts):
    """Raised when it was above for so many minutes, cleared when it was below for as many."""
    found, raised, since = [], False, None
    for minute, value in enumerate(values):
        if np.isnan(value):
            continue
        turned = value > limit if not raised else value <= clear if clear == limit else value < clear
        since = (minute if since is None else since) if turned else None
        if since is not None and minute - since >= lasts:
            raised, since = not raised, None
            found.append("raised" if raised else "cleared")
    return found
