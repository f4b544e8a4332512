"""Streams of voice and video, programs and calls, as part of a case: JSON."""

from dataclasses import asdict
from typing import Any

from yaffle.media.calls import Call
from yaffle.media.programs import Program
from yaffle.media.streams import Media


def beside_media(media: list[Media], programs: list[Program], calls: list[Call]) -> dict[str, Any]:
    """For JSON."""
    told = [
        {
            **asdict(call),
            "streams": [
                [target, kind, [[number, *codec] for number, codec in codecs.items()]]
                for target, kind, codecs in call.streams
            ],
        }
        for call in calls
    ]
    return {
        "media": [asdict(stream) for stream in media],
        "programmes": [asdict(one) for one in programs],
        "calls": told,
    }


def read_media(told: dict[str, Any], points: int) -> tuple[list[Media], list[Program], list[Call]]:
    """The reverse. Raises KeyError, TypeError or ValueError where it makes no sense."""
    media = [
        Media(
            **{
                **stream,
                "jitter_ns": tuple(stream["jitter_ns"]),
                "course": tuple((int(t), float(j), int(m)) for t, j, m in stream["course"]),
            }
        )
        for stream in told["media"]
    ]
    programs = [
        Program(
            **{
                **one,
                "jitter_ns": tuple(one["jitter_ns"]),
                "pids": [(int(a), int(b), int(c)) for a, b, c in one["pids"]],
            }
        )
        for one in told["programmes"]
    ]
    calls = [
        Call(
            **{
                **call,
                "streams": [
                    (str(target), str(kind), {int(n): (str(name), int(hz)) for n, name, hz in codecs})
                    for target, kind, codecs in call["streams"]
                ],
            }
        )
        for call in told["calls"]
    ]
    if any(
        not 0 <= point < points
        for point in [*(m.point for m in media), *(p.point for p in programs), *(c.point for c in calls)]
    ):
        raise ValueError("a stream points outside the points")
    return media, programs, calls
