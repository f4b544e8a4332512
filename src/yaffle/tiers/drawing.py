"""What may be, drawn from what is likely: states of one host's calls, all together or piece by piece."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import astuple, dataclass
from functools import partial

import numpy as np

from yaffle.arrays import Bools, Float64s, Int64s
from yaffle.tiers.habits import Habits
from yaffle.tiers.observing import note_owners
from yaffle.tiers.owning import prepare, take_kinds
from yaffle.tiers.pieces import put, told_owners
from yaffle.tiers.weighing import FULL_CHAINS, SAMPLES, Walk, Weighing


@dataclass(frozen=True)
class Steps:
    """How the calls of a piece of a large host find their owners."""

    settling: int  # steps from tolerant to strict
    settled: int  # steps that then tell who is certain


_FEW_AT_ONCE, _MANY_AT_ONCE = 4.0, 16.0  # requests under way, at which a call's steps are as follow
_LIGHT, _HEAVY = (Steps(1, 3), Steps(3, 5)), (Steps(4, 8), Steps(8, 8))
_HARD = 0.2  # share of a piece's calls that are doubtful after light steps, above which heavy ones follow
_HOPELESS = 0.4  # the same, above which these would be of no use
_HARDEST = 0.25  # the same after heavy ones, above which several chains follow
_APART = 4  # chains of a piece of which much is doubtful
_COLD = 0.4  # how strict the first step is
_CERTAIN = 0.99  # calls of a large host whose owner is as likely are not weighed again


@dataclass(frozen=True)
class _Piece:
    """Calls of a large host that have nothing to do with its others."""

    every: Int64s
    owners: Int64s  # that values tell, by place
    chosen: Int64s  # the calls of which they tell none
    place: slice  # of the possible owners of all


def sweeps_of(weighing: Weighing) -> int:
    """How often each call will be weighed, at least."""
    drawn = SAMPLES * weighing.effort.sweeps
    if not weighing.large:
        return drawn
    light = _by_crowd(weighing, *_LIGHT)
    return drawn + light.settling + light.settled


def _by_crowd(weighing: Weighing, few: Steps, many: Steps) -> Steps:
    """Between these, the more the more requests were under way at once."""
    crowd = (weighing.owners_a_call - _FEW_AT_ONCE) / (_MANY_AT_ONCE - _FEW_AT_ONCE)
    crowd = min(1.0, max(0.0, crowd))
    return Steps(*(round(a + crowd * (b - a)) for a, b in zip(astuple(few), astuple(many), strict=True)))


def draw(weighing: Weighing, learnt: Habits) -> None:
    """Fills `found` and `shares`: all calls in several chains."""
    weighing.shares[:] = 0.0
    for walk in weighing.walks:
        prepare(weighing.host, learnt, walk.state, weighing.open)
    _draw(weighing, learnt, weighing.walks, weighing.open, weighing.open, np.arange(SAMPLES))
    weighing.shares /= SAMPLES * weighing.effort.sweeps


def draw_piece(weighing: Weighing, learnt: Habits, number: int) -> None:
    """Fills `found` and `shares` of a piece: what values tell is taken for sure, the rest weighed a few times in one
    chain, and drawn where it is not certain then; where much is not, in several chains. Pieces may be drawn at once:
    none touches what another reads.
    """
    walk = weighing.walk(weighing.walks[0].state.beside(weighing.seed(FULL_CHAINS + number)))
    piece = _begun(weighing, learnt, walk, weighing.pieces[number])
    doubtful = _settle(weighing, learnt, walk, piece, _by_crowd(weighing, *_LIGHT))
    if _HARD * piece.chosen.size < doubtful.sum() < _HOPELESS * piece.chosen.size:
        doubtful = _settle(weighing, learnt, walk, piece, _by_crowd(weighing, *_HEAVY))
    if doubtful.sum() > _HARDEST * piece.chosen.size:
        _draw_apart(weighing, learnt, walk, piece)
        weighing.shares[piece.owners] = 1.0
        return
    weighing.shares[piece.owners] = 1.0
    chosen, calls = piece.chosen[doubtful], weighing.host.calls
    low, high = calls["owners"][chosen], calls["owners_end"][chosen]
    again = np.repeat(low - np.cumsum(high - low) + high - low, high - low) + np.arange(int((high - low).sum()))
    weighing.shares[again] = 0.0
    _draw(weighing, learnt, [walk], piece.every, chosen, np.arange(SAMPLES))
    weighing.shares[again] /= SAMPLES * weighing.effort.sweeps


def _begun(weighing: Weighing, learnt: Habits, walk: Walk, every: Int64s) -> _Piece:
    """A piece of some calls, those of which values tell with their owners."""
    host = weighing.host
    sure, owners = told_owners(host, learnt, every)
    put(host, walk.state, sure, owners)
    prepare(host, learnt, walk.state, every)
    place = slice(host.calls["owners"][every[0]], host.calls["owners_end"][every[-1]])
    return _Piece(every, owners, np.setdiff1d(every, sure, assume_unique=True), place)


def _settle(weighing: Weighing, learnt: Habits, walk: Walk, piece: _Piece, steps: Steps) -> Bools:
    """Has calls find their owners, and fills `shares` at their place. Which of the chosen are doubtful then."""
    _cool(weighing, learnt, walk, piece.chosen, steps)
    walk.shares[piece.place] = 0.0
    for _ in range(steps.settled):
        weighing.go(walk, learnt, piece.chosen, 1.0)
    walk.shares[piece.place] /= steps.settled
    return _doubtful(weighing, piece.chosen)


def _cool(weighing: Weighing, learnt: Habits, walk: Walk, chosen: Int64s, steps: Steps) -> None:
    """From tolerant to strict."""
    for turn in range(steps.settling):
        coldness = _COLD + (1.0 - _COLD) * turn / max(1, steps.settling - 1)
        weighing.go(walk, learnt, chosen, coldness)


def _draw_apart(weighing: Weighing, learnt: Habits, walk: Walk, piece: _Piece) -> None:
    """Draws from the state that there is, and from others in which calls found their owners from none, so that what
    one of them got stuck in does not look certain. Those of a host's only piece are drawn at once, each in its room.
    """
    alone = len(weighing.pieces) == 1
    chain = partial(_chain, weighing, learnt, walk, piece, alone)
    with ThreadPoolExecutor(2) as pool:
        drawn = sum((pool.map if alone else map)(chain, np.array_split(np.arange(SAMPLES), _APART)))
    weighing.shares[piece.place] = drawn / (SAMPLES * weighing.effort.sweeps)


def _chain(weighing: Weighing, learnt: Habits, walk: Walk, piece: _Piece, alone: bool, some: Int64s) -> Float64s:
    """Draws some samples, the first ones from the state that there is; how often each possible owner of the piece was
    one. `alone`: others in room of their own.
    """
    first = int(some[0])
    if first and alone:
        room = np.zeros(weighing.host.owners.size)
        walk = weighing.walk(weighing.nobody(FULL_CHAINS + len(weighing.pieces) + first), room)
        _begun(weighing, learnt, walk, piece.every)
    elif first:
        take_kinds(weighing.host, learnt, walk.state, piece.chosen, np.ones(weighing.host.shape[1], bool))
    if first:
        _cool(weighing, learnt, walk, piece.chosen, _by_crowd(weighing, *_HEAVY))
    walk.shares[piece.place] = 0.0
    _draw(weighing, learnt, [walk], piece.every, piece.chosen, some)
    return walk.shares[piece.place].copy()


def _draw(
    weighing: Weighing, learnt: Habits, walks: list[Walk], every: Int64s, chosen: Int64s, numbers: Int64s
) -> None:
    """Fills some samples with the owners of `every`, of which the chosen ones are weighed between two of them."""
    for number in numbers.tolist():
        walk = walks[number % len(walks)]
        for _ in range(weighing.effort.sweeps if chosen.size else 0):
            weighing.go(walk, learnt, chosen, 1.0)
        note_owners(weighing.host, walk.state, every, weighing.found[number])


def _doubtful(weighing: Weighing, calls: Int64s) -> Bools:
    """Of which calls the owner is not certain, by `shares`."""
    if not calls.size:
        return np.empty(0, bool)
    low, high = weighing.host.calls["owners"][calls], weighing.host.calls["owners_end"][calls]
    at = np.stack([low, high], axis=1).reshape(-1) - low[0]
    shares = np.append(weighing.shares[low[0] : high[-1]], 0.0)
    most, total = np.maximum.reduceat(shares, at)[::2], np.add.reduceat(shares, at)[::2]
    return np.asarray(np.maximum(most, 1.0 - total) < _CERTAIN)
