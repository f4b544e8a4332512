"""Tests on purpose between the sites and Quay House over the four weeks, every ten minutes: what a responder at each
site
would have answered on a line as full as its flow records say. Drawn, as the waits are.
"""

import ipaddress
from collections.abc import Iterator
from typing import Any

import numpy as np

from yaffle.demo.kept_waits import ROUND_TRIP_MS, STEP_NS, fill_of
from yaffle.demo.weeks import HOUR_NS, SITES, START_NS, HourOfSite

_PLACE = 5  # of a site's responder in its range, before the desks
PACKETS, _VOICE_PACKETS = 20, 250
_NEAR, _CARRIER, _OTHER_CARRIER = "203.0.113.62", "203.0.113.129", "203.0.113.137"
_ROUTED = 3  # packets to each hop
_OTHER_WAY_FROM, _OTHER_WAY_TO = (START_NS + 17 * 24 * HOUR_NS + hour * HOUR_NS for hour in (13, 19))  # to the isle
_LONGER_MS = 17.0  # by the other carrier
_QUEUE_MS, _FULL, _LOST = 140.0, 0.85, 0.03
_GOOD_MOS, _PER_PERCENT, _PER_MS = 4.41, 0.19, 0.0021


def responder_of(site: str) -> str:
    """The address of a site's responder."""
    return str(ipaddress.ip_network(SITES[site][0])[_PLACE])


def tests_of(hour: HourOfSite) -> Iterator[tuple[str, dict[str, Any]]]:
    """(name of the test, result as it stands in a document) of one hour."""
    site, (_, _, line_bps) = next((name, one) for name, one in SITES.items() if one[1] == hour.router)
    rng = np.random.default_rng(7 + (hour.start_ns - START_NS) // HOUR_NS * len(SITES) + list(SITES).index(site))
    target, base = responder_of(site), ROUND_TRIP_MS[site]
    for step, full in enumerate(fill_of(hour, line_bps).tolist()):
        at_ns = hour.start_ns + step * STEP_NS + int(rng.integers(0, 20)) * 10**9
        standing = full > _FULL
        queue = _QUEUE_MS * float(rng.gamma(9.0, 1 / 9)) if standing else 0.3 * base * full**3
        back = [base / 2 + queue * float(rng.uniform(0.7, 1.1)) for _ in range(4)]
        lost = int(rng.binomial(PACKETS, _LOST)) if standing else 0
        yield f"{site} delay", _delay(target, at_ns, base, sorted(back), lost)
        if step % 3 == 1:
            yield (
                f"{site} route",
                _route(np.random.default_rng((at_ns, len(site))), site, target, at_ns + 2 * 10**9, (base, queue)),
            )
        if step == 0:
            share = float(rng.binomial(_VOICE_PACKETS, _LOST)) / _VOICE_PACKETS if standing else 0.0
            for way, own, wait in (("there", 0.0, 0.0), ("back", share, queue)):
                yield f"{site} voice", _voice(target, at_ns + 10**9, way, own, wait)


def _delay(target: str, at_ns: int, base: float, back: list[float], lost: int) -> dict[str, Any]:
    there = base / 2
    return {
        "kind": "delay", "target": target, "at_ns": at_ns, "ok": True, "why": "",
        "round_trip_ms": there + back[len(back) // 2], "packets": PACKETS, "lost_there": 0, "lost_back": lost,
        "duplicates": 0, "reordered": 0, "clock_offset_ms": 0.0, "uncertainty_ms": base / 2,
        "there_ms": {"min": there, "median": there, "p95": there, "max": there},
        "back_ms": {"min": back[0], "median": back[len(back) // 2], "p95": back[-1], "max": back[-1]},
    }  # fmt: skip


def _route(
    rng: np.random.Generator, site: str, target: str, at_ns: int, trip_ms: tuple[float, float]
) -> dict[str, Any]:
    """The way to a site: the data centre's router, a carrier's, the site's own, its responder."""
    base, queue = trip_ms
    longer = site == "Isle of Wren" and _OTHER_WAY_FROM <= at_ns < _OTHER_WAY_TO
    far = base + queue + (_LONGER_MS if longer else 0.0)
    hops = []
    for ttl, (address, trip) in enumerate(
        (
            (_NEAR, 0.3),
            (_OTHER_CARRIER if longer else _CARRIER, 0.4 * base + (_LONGER_MS if longer else 0.0)),
            (SITES[site][1], far - 0.2),
            (target, far),
        ),
        1,
    ):
        answered = int(rng.binomial(_ROUTED, 0.5)) if address == _CARRIER else _ROUTED  # It answers few.
        times = sorted(trip + float(rng.exponential(0.2)) for _ in range(answered))
        shown = {"min": times[0], "median": times[len(times) // 2], "max": times[-1]} if times else None
        found = {"ttl": ttl, "address": address if answered else None, "sent": _ROUTED, "answered": answered}
        hops.append(found | {"round_trip_ms": shown})
    return {
        "kind": "route", "target": target, "at_ns": at_ns, "ok": True, "why": "", "round_trip_ms": far, "hops": hops,
        "over": "udp",
    }  # fmt: skip


def _voice(target: str, at_ns: int, way: str, lost: float, queue_ms: float) -> dict[str, Any]:
    mos = max(1.0, _GOOD_MOS - _PER_PERCENT * 100 * lost - _PER_MS * queue_ms)
    jitter = {"min": 0.0, "mean": 0.1 + queue_ms * 0.04, "max": 0.4 + queue_ms * 0.12}
    return {
        "kind": "voice", "target": target, "at_ns": at_ns, "ok": True, "why": "", "round_trip_ms": None,
        "direction": way, "packets": _VOICE_PACKETS, "lost": round(lost * _VOICE_PACKETS), "loss_percent": 100 * lost,
        "jitter_ms": jitter, "mos": round(mos, 2),
    }  # fmt: skip
