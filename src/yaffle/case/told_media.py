"""Streams of voice and video, programmes and calls, as part of a case: JSON."""

from dataclasses import asdict
from typing import Any

from yaffle.exchanges.calls import Call
from yaffle.exchanges.media import Media
from yaffle.exchanges.programmes import Programme


def beside_media(media: list[Media], programmes: list[Programme], calls: list[Call]) -> dict[str, Any]:
    """For JSON."""
    told = [{**asdict(call), "streams": [[target, kind, [[number, *codec] for number, codec in codecs.items()]] for target, kind, codecs in call.streams]} for call in calls]
    return {"media": [asdict(stream) for stream in media], "programmes": [asdict(one) for one in programmes], "calls": told}


def read_media(told: dict[str, Any], points: int) -> tuple[list[Media], list[Programme], list[Call]]:
    """The reverse. Raises KeyError, TypeError or ValueError where it makes no sense."""
    media = [Media(**{**stream, "jitter_ns": tuple(stream["jitter_ns"]), "course": tuple((int(t), float(j), int(m)) for t, j, m in stream["course"])}) for stream in told["media"]]
    programmes = [Programme(**{**one, "jitter_ns": tuple(one["jitter_ns"]), "pids": [(int(a), int(b), int(c)) for a, b, c in one["pids"]]}) for one in told["programmes"]]
    calls = [
        Call(**{**call, "streams": [(str(target), str(kind), {int(n): (str(name), int(hz)) for n, name, hz in codecs}) for target, kind, codecs in call["streams"]]})
        for call in told["calls"]
    ]
    if any(not 0 <= point < points for point in [*(m.point for m in media), *(p.point for p in programmes), *(c.point for c in calls)]):
        raise ValueError("a stream points outside the points")
    return media, programmes, calls
