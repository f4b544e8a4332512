"""One stream at one point over time: jitter after each packet, and when packets were missing."""

from dataclasses import dataclass

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Array
from yaffle.exchanges.media import Media, packets_of_stream
from yaffle.exchanges.payload import Payload


@dataclass(frozen=True)
class StreamSeries:
    """times_ns, jitter_ns: of each packet in order of arrival; missing_ns: when missing packets should have come."""

    media: Media
    times_ns: Array
    jitter_ns: Array
    missing_ns: Array


def stream_series(analysis: Analysis, media: Media) -> StreamSeries | None:
    """The series; None where the capture's bytes cannot be had any more."""
    found = packets_of_stream(analysis.capture, Payload(analysis.capture), media)
    if found is None:
        return None
    times, number, jitter = found
    seen, first = np.unique(number, return_index=True)
    holes = np.setdiff1d(np.arange(seen[0], seen[-1] + 1), seen) if seen[-1] - seen[0] < 1 << 22 else np.empty(0, np.int64)
    return StreamSeries(media, times, jitter, np.interp(holes, seen, times[first]).astype(np.int64))
