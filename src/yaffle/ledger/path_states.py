"""The state of a path at a moment: what a queue on the way out cost, by the round trips of all that passed on it.

One connection alone cannot tell a queue that others fill from a host that is slow to answer; the round trips of all
connections between the same two networks, at the same time and through the same place, can.
"""

from typing import NamedTuple

import numpy as np

from yaffle.arrays import Int64s2, Int64s3
from yaffle.kernels import int64, kernel, leaf
from yaffle.transport.round_trips import ACKNOWLEDGED, FEW_BARE, HELD, HELD_LEAST_NS, HOLD_NS, Samples

SIDES = 2
NEAR_NS = 200_000_000  # A queue of one moment tells nothing of one further away.
NO_FLOOR = int64(1) << 60


class PathStates(NamedTuple):
    """Samples of what the way out took above its least, sorted by time, path by path."""

    # int64 (connections, 2, 3), by the side they went to: where the samples of a connection's path begin and end,
    places: Int64s3
    # and the least round trip of the path where the connection never saw it, else NO_FLOOR
    samples: Int64s2  # (n, 2): when it set out from the point, what the way out took above its least, ns


FIRST, LAST, FLOOR = range(3)
TIME, AWAY = range(2)


def no_states(connections: int) -> PathStates:
    """Nothing known of any path but what each connection tells itself."""
    places = np.zeros((connections, SIDES, 3), np.int64)
    places[:, :, FLOOR] = NO_FLOOR
    return PathStates(places, np.empty((0, 2), np.int64))


@leaf
def away_at(paths: PathStates, c: int, side: int, t: int) -> tuple[int, int, int]:
    """(estimate, least, most) of what the way out took at time t above its least, by samples around it; -1 without."""
    first, last = paths.places[c, side, FIRST], paths.places[c, side, LAST]
    if first == last:
        return int64(-1), int64(-1), int64(-1)
    low, high = first, last
    while low < high:
        middle = (low + high) >> 1
        if paths.samples[middle, TIME] < t:
            low = middle + 1
        else:
            high = middle
    before = low > first and t - paths.samples[low - 1, TIME] <= NEAR_NS
    after = low < last and paths.samples[low, TIME] - t <= NEAR_NS
    if before and after:
        one, other = paths.samples[low - 1, AWAY], paths.samples[low, AWAY]
        span = paths.samples[low, TIME] - paths.samples[low - 1, TIME]
        part = (t - paths.samples[low - 1, TIME]) / span if span > 0 else 0.5
        return int64(one + (other - one) * part), min(one, other), max(one, other)
    if before:
        return paths.samples[low - 1, AWAY], paths.samples[low - 1, AWAY], paths.samples[low - 1, AWAY]
    if after:
        return paths.samples[low, AWAY], paths.samples[low, AWAY], paths.samples[low, AWAY]
    return int64(-1), int64(-1), int64(-1)


@kernel
def release_by_path(samples: Samples, extra: Int64s2, paths: PathStates, c: int) -> None:
    """Takes samples as measures of the way again where others' round trips explain what seemed held."""
    floors = np.empty(SIDES, np.int64)
    for side in range(SIDES):
        floors[side] = paths.places[c, side, FLOOR]
    for k in range(samples.size):
        if samples[k].way < HELD and samples[k].rtt >= 0:
            floors[samples[k].side] = min(floors[samples[k].side], samples[k].rtt)
    for k in range(samples.size):
        if samples[k].way == HELD:
            side = samples[k].side
            _, _, most = away_at(paths, c, side, samples[k].t - samples[k].rtt)
            over = samples[k].rtt - floors[side] - max(int64(0), extra[side, samples[k].i])
            if over - max(int64(0), most) < HELD_LEAST_NS:
                samples[k].way = ACKNOWLEDGED
        elif (
            samples[k].bare == FEW_BARE
            and samples[k].way == ACKNOWLEDGED
            and samples[k].rtt - paths.places[c, samples[k].side, FLOOR] >= HOLD_NS
        ):
            samples[k].way = HELD  # The connection alone could not tell; others show how short the way is.
