"""The part of the analysis document on voice and video: streams at each point, programs in transport streams, calls."""

from typing import Any

from yaffle.analysis import Analysis
from yaffle.findings.streams import StreamAt, followed
from yaffle.media.streams import Media

_MS = 1e6


def media(analysis: Analysis) -> list[dict[str, Any]]:
    """The voice and video streams' part, at each point that saw them."""
    told = {
        (at.media.ssrc, at.media.point, at.media.first_ns): at
        for stream in followed(analysis)
        for at in stream
        if isinstance(at.media, Media)
    }
    return [
        {
            "ssrc": m.ssrc,
            "source": m.source,
            "destination": m.destination,
            "packets": m.packets,
            "expected": m.expected,
            "lost": m.lost,
            "loss_percent": 100 * m.lost / m.expected,
            "loss_events": m.loss_events,
            "longest_loss": m.longest_loss,
            "duplicates": m.duplicates,
            "reordered": m.reordered,
            "jitter_ms": dict(zip(("min", "mean", "max"), (j / _MS for j in m.jitter_ns), strict=True)),
            "dscp": m.dscp,
            "payload_type": m.payload_type,
            "clock_hz": m.clock_hz,
            "first_ns": m.first_ns,
            "last_ns": m.last_ns,
            "point": analysis.capture.points[m.point],
            "late": m.late,
            "gaps": m.gaps,
            "longest_gap_ms": m.longest_gap_ns / _MS,
            "burst_ratio": m.burst_ratio,
            "bursts": {
                "count": m.bursts,
                "density": m.burst_density,
                "mean_ms": m.burst_ns / _MS,
                "gap_density": m.gap_density,
            },
            "kind": m.kind,
            "codec": m.codec,
            "call": m.call or None,
            "sender_drift_ppm": m.sender_ppm,
            "reports": _reported(m),
            **_heard(told.get((m.ssrc, m.point, m.first_ns))),
        }
        for m in analysis.media
    ]


def _heard(at: StreamAt | None) -> dict[str, Any]:
    """What following a stream adds: its place on the way, what happened since the point before, the estimate."""
    if at is None:
        return {"place": None, "since_before": "", "voice": None}
    voice = (
        {"r": at.voice.r, "mos": at.voice.mos, "assumptions": at.voice.assumptions} if at.voice is not None else None
    )
    return {"place": at.place, "since_before": at.words, "voice": voice}


def _reported(m: Media) -> dict[str, Any] | None:
    """What the ends said of a stream; None where they said nothing here."""
    if m.said_packets < 0 and not m.reports:
        return None
    return {
        "sender_packets": m.said_packets if m.said_packets >= 0 else None,
        "receptions": m.reports,
        "lost": m.reported_lost,
        "worst_loss_percent": 100 * m.reported_worst,
        "jitter_ms": m.reported_jitter_ns / _MS,
        "round_trip_ms": m.round_trip_ns / _MS if m.round_trip_ns >= 0 else None,
    }


def programs(analysis: Analysis) -> list[dict[str, Any]]:
    """Video in transport streams, at each point that saw it."""
    return [
        {
            "source": p.source, "destination": p.destination, "point": analysis.capture.points[p.point],
            "first_ns": p.first_ns, "last_ns": p.last_ns, "packets": p.cells,
            "lost": p.lost, "loss_events": p.loss_events, "duplicates": p.copies, "damaged": p.damaged,
            "rate_bps": p.rate_bps, "dscp": p.dscp,
            "pids": [{"pid": pid, "packets": count, "lost": lost} for pid, count, lost in p.pids],
            "references": p.references,
            "pcr_jitter_ms": (
                {"mean": p.jitter_ns[0] / _MS, "max": p.jitter_ns[1] / _MS} if p.jitter_ns[1] >= 0 else None
            ),
            "encoder_drift_ppm": p.drift_ppm,
        }
        for p in analysis.programs
    ]  # fmt: skip


def calls(analysis: Analysis) -> list[dict[str, Any]]:
    """Calls, at each point that saw them."""

    def after(call_ns: int, asked_ns: int) -> float | None:
        return (call_ns - asked_ns) / _MS if call_ns >= 0 else None

    return [
        {
            "call": c.call_id, "point": analysis.capture.points[c.point], "from": c.caller, "to": c.callee,
            "asked_ns": c.asked_ns, "ringing_ms": after(c.ringing_ns, c.asked_ns),
            "answered_ms": after(c.answered_ns, c.asked_ns), "ended_ms": after(c.ended_ns, c.asked_ns),
            "outcome": c.outcome, "tries": c.tries,
            "streams": [
                {"to": target, "kind": kind, "codecs": sorted({name for name, _ in codecs.values() if name})}
                for target, kind, codecs in c.streams
            ],
        }
        for c in analysis.calls
    ]  # fmt: skip
