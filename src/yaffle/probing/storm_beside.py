"""A storm beside speed: the same runs with and without it, by turns, and what it did, as comparisons.

Quiet and stormy runs alternate, and each pair begins with the other one, so that what drifts meanwhile falls on both.
Each measure is compared by rank (normal.comparison): the test of Mann and Whitney on all runs, with the shift of Hodges
and Lehmann; the medians leave the best and the worst run out.
"""

import asyncio
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from yaffle.normal.comparison import Comparison, compare, without_best_and_worst
from yaffle.probing.host_work import HOST_WORK
from yaffle.probing.result import Result
from yaffle.probing.speed import BACK, RESPONDER, THERE, speed
from yaffle.probing.storm import Storm
from yaffle.probing.wanted import Wanted
from yaffle.quantiles import median
from yaffle.units import rate, three_digits

ROUNDS = 8  # so many on each side can be told from chance
_ECHOES_S = 5.0  # at most, that a run takes besides its two ways
_OF_HOSTS = tuple(f"{whose}{name}" for whose in ("", RESPONDER) for name in HOST_WORK)
MEASURES = {  # words, unit
    "bps": ("throughput", "bit/s"),
    "idle_ms": ("RTT without load", "ms"),
    "loaded_ms": ("RTT under load", "ms"),
    "retransmitted_percent": ("retransmissions", "%"),
    "interrupts_per_s": ("interrupts of this host", "/s"),
    "receive_softirqs_per_s": ("receive softirqs of this host", "/s"),
    RESPONDER + "interrupts_per_s": ("interrupts of the responder", "/s"),
    RESPONDER + "receive_softirqs_per_s": ("receive softirqs of the responder", "/s"),
}


@dataclass(frozen=True)
class Beside:
    """What a storm did to one measure."""

    measure: str  # key of a result
    direction: str
    comparison: Comparison  # quiet, stormy
    medians: tuple[float, float]  # without the best and the worst run

    def as_json(self) -> dict[str, Any]:
        """As it stands in a document."""
        told = self.comparison
        return {
            "measure": self.measure, "direction": self.direction, "runs": list(told.counts),
            "median": list(self.medians), "difference": told.difference, "exceeds": told.exceeds,
            "chance": told.chance, "certainty": told.certainty,
        }  # fmt: skip

    @property
    def words(self) -> str:
        """In a line."""
        quiet, stormy = self.medians
        words, unit = MEASURES[self.measure]
        change = f" ({100 * (stormy - quiet) / quiet:+.1f} %)" if quiet else ""
        told = [rate(value) if unit == "bit/s" else f"{three_digits(value)} {unit}" for value in (quiet, stormy)]
        return (
            f"{words}, {self.direction}: {told[0]} without, {told[1]} with the storm{change},"
            f" {self.comparison.certainty}"
        )


async def storm_beside(wanted: Wanted, responder: str, rounds: int, tell: Callable[[Result], None]) -> None:
    """Speed against a responder in so many rounds, each once without and once with the storm. tell: hears each result.
    A result of speed says whether there was a `storm`. Raises YaffleError.
    """
    quick = replace(wanted, kind="speed", target=responder)
    # It ends with the run; this is the longest it lasts.
    stormy = replace(wanted, seconds=min(60.0, (2 + wanted.both) * wanted.seconds + _ECHOES_S))

    (await asyncio.to_thread(Storm, stormy)).close()  # What is not agreed to, or not allowed, is said before any run.
    for turn in range(rounds):
        for with_storm in (turn % 2 == 1, turn % 2 == 0):
            if not with_storm:
                for one in await speed(quick):
                    tell(_marked(one, False))
                continue
            storming = await asyncio.to_thread(Storm, stormy)
            with storming:
                results = await speed(quick)
            for one in (*(_marked(one, True) for one in results), storming.result()):
                tell(one)


def _marked(one: Result, with_storm: bool) -> Result:
    return replace(one, more=one.more | {"storm": with_storm})


def compared(results: Sequence[Result]) -> list[Beside]:
    """What the storm did, by measure and direction; hosts' work both ways together."""
    found = []
    for measure in MEASURES:
        for direction in ("both ways",) if measure in _OF_HOSTS else (THERE, BACK):
            quiet, stormy = (_values(results, measure, direction, storm) for storm in (False, True))
            if quiet.size and stormy.size:
                medians = [median(np.array(without_best_and_worst(side.tolist()))) for side in (quiet, stormy)]
                found.append(Beside(measure, direction, compare(quiet, stormy), (medians[0], medians[1])))
    return found


def _values(results: Sequence[Result], measure: str, direction: str, storm: bool) -> Any:
    values = [
        one.more.get(measure)
        for one in results
        if one.ok and one.more.get("storm") is storm and direction in (one.more["direction"], "both ways")
    ]
    return np.array([value for value in values if isinstance(value, int | float)], float)
