"""The part of the analysis document on what radios heard."""

import math
from typing import Any

from yaffle.analysis import Analysis
from yaffle.findings.behind_moves import Asked, Questions
from yaffle.radio.elements import REASONS, STATUSES
from yaffle.radio.frames import address_text
from yaffle.radio.moves import ASSOCIATION, AUTHENTICATION, KEYS, Failure, Roam
from yaffle.radio.radio import Spread, Station

_MS = 1e6


def radio(analysis: Analysis) -> dict[str, Any]:
    """All of it; empty lists where no radio heard anything."""
    told, questions = analysis.radio, Questions(analysis.lookups.rows)
    return {
        "access_points": [
            {
                "bssid": one.bssid,
                "ssid": one.ssid,
                "channel": one.channel if one.channel >= 0 else None,
                "band": one.band or None,
                "width_mhz": one.width_mhz or None,
                "stations": one.stations if one.stations >= 0 else None,
                "busy_percent": _known(one.busy_percent),
                "airtime_percent": _of(one.air_ns, one.heard_ns),
                "open": one.is_open,
            }
            for one in told.access_points
        ],
        "stations": [_station(one, questions) for one in told.stations],
        "notes": told.notes,
    }


def _known(value: float) -> float | None:
    return None if math.isnan(value) else value


def _of(air_ns: int, heard_ns: int) -> float | None:
    """Airtime of the time that somebody was heard in; none where no rate is told."""
    return 100 * air_ns / heard_ns if heard_ns > 0 and air_ns > 0 else None


def _spread(value: Spread) -> dict[str, float | None]:
    return {"min": _known(value.least), "median": _known(value.median), "max": _known(value.most)}


def _station(one: Station, questions: Questions) -> dict[str, Any]:
    course = one.course
    return {
        "address": one.address,
        "ssid": one.ssid,
        "retry_percent": {"from_station": _known(one.retry_from), "to_station": _known(one.retry_to)},
        "data_frames": {"from_station": one.data_from, "to_station": one.data_to},
        "signal_dbm": _spread(one.signal),
        "snr_db": _spread(one.snr),
        "rate_mbps": {"median": _known(one.rate_mbps)},
        "airtime_percent": {
            "from_station": _of(one.air_from_ns, one.heard_ns), "to_station": _of(one.air_to_ns, one.heard_ns),
        },
        "power_save_percent": 100 * one.dozed_ns / one.heard_ns if one.heard_ns > 0 else None,
        "associations": [
            {"bssid": address_text(own.bssid), "from_ns": own.from_ns, "to_ns": own.to_ns, "start_seen": own.start_seen,
             "end_seen": own.end_seen}
            for own in course.associations
        ],
        "roams": [_roam(own, questions.during(one.address, own)) for own in course.roams],
        "failures": [_failure(own) for own in course.failures],
    }  # fmt: skip


def _roam(own: Roam, asked: dict[str, Asked]) -> dict[str, Any]:
    return {
        "time_ns": own.time_ns,
        "from": address_text(own.old),
        "to": address_text(own.new),
        "gap_ms": own.gap_ns / _MS if own.gap_ns >= 0 else None,
        "kind": own.kind,
        "before": own.before,
        "address_ms": own.address_ns / _MS if own.address_ns >= 0 else None,
        "keys_ms": own.keys_ns / _MS if own.keys_ns >= 0 else None,
        "servers": [
            {"asked": one.protocol, "server": one.server, "ms": one.waited_ns / _MS, "requests": one.questions,
             "sent_again": one.again, "unanswered": one.unanswered}
            for one in asked.values()
        ],
    }  # fmt: skip


def _failure(own: Failure) -> dict[str, Any]:
    words = {AUTHENTICATION: STATUSES, ASSOCIATION: STATUSES, KEYS: REASONS}.get(own.stage, {})
    return {
        "time_ns": own.time_ns,
        "bssid": address_text(own.bssid),
        "stage": own.stage,
        "code": own.code if own.code >= 0 else None,
        "words": words.get(own.code, ""),
    }
