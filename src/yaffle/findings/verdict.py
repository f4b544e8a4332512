"""Verdict of one connection: the party with the largest charged time, or none where nothing is slow."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Bools, Float64s, Int64s, Int64s2
from yaffle.findings.certainty import bounds_of_connection, bounds_of_connections, confidences, could_be_nil
from yaffle.ledger import causes
from yaffle.ledger.accounts import Account
from yaffle.ledger.fields import OPENINGS
from yaffle.ledger.sums import by_party
from yaffle.units import duration

# Above these a wait is felt (Miller 1968; ITU-T G.1010 for interactive data puts "preferred" at about 2 s in all).
SLOW_EXCHANGE_NS = 250_000_000
SLOW_TOTAL_NS = 2_000_000_000
FELT_REPAIR_NS = 30_000_000
PATH_SHIFT_NS = 5_000_000  # A floor that moves by less may be a queue that never emptied.
PATH_SAMPLES = 12

AVOIDABLE = [causes.LOSS, causes.QUEUEING, causes.STALL, causes.SERVER_WINDOW, causes.PACING, causes.CLIENT_WINDOW]


@dataclass(frozen=True)
class Verdict:
    """Who made the users of a connection wait, and how sure that is (0 to 1)."""

    party: str
    cause: str
    confidence: float
    sentence: str


def is_slow(facts: Account, charges: Int64s2) -> Bools:
    """For each connection: whether anything in it is slow: a long wait, a long sum of waits, or a repair that was
    felt.
    """
    wait, worst = facts.fact("wait_ns"), facts.fact("worst_wait_ns")
    repaired = charges[:, AVOIDABLE].sum(axis=1) >= FELT_REPAIR_NS
    return np.asarray((worst >= SLOW_EXCHANGE_NS) | (wait >= SLOW_TOTAL_NS) | repaired)


def verdict_columns(account: Account) -> tuple[Int64s, Int64s, Float64s]:
    """For each connection: party (index into PARTIES, -1 none), charge column (-1 none), confidence."""
    return _columns(account, account.connection_charges, bounds_of_connections(account))


def verdict_columns_of(account: Account, c: int) -> tuple[Int64s, Int64s, Float64s]:
    """The same for one connection, each (1,)."""
    return _columns(account.only(c), account.connection_charges[c : c + 1], bounds_of_connection(account, c))


def _columns(facts: Account, charges: Int64s2, bounds: tuple[Array, Array]) -> tuple[Int64s, Int64s, Float64s]:
    sums, heaviest = by_party(charges)
    party = np.argmax(sums, axis=1)
    slow = is_slow(facts, charges)
    low, high = bounds
    party[could_be_nil(sums, party, low)] = causes.PARTIES.index(
        causes.UNEXPLAINED
    )  # Nobody is named whose part may be none.
    confidence = confidences(sums, party, low, high)
    party[~slow] = -1
    column = np.where(slow, heaviest[np.arange(party.size), party], -1).astype(np.int64)
    column[slow & (column < 0)] = causes.UNSEEN
    opening = facts.fact("opening")
    refused = opening == OPENINGS.index("refused")
    party[refused], column[refused], confidence[refused] = 2, causes.SET_UP, 0.9
    unanswered = opening == OPENINGS.index("unanswered")
    party[unanswered], column[unanswered], confidence[unanswered] = 3, causes.UNSEEN, 0.5
    confidence[party == -1] = 0.9
    return party, column, confidence


def sentence(party: str, column: int, opening: str, charges: Int64s) -> str:
    """The verdict in words."""
    if opening == "refused":
        return "The server refused the connection."
    if opening == "unanswered":
        return "No response to the SYN; a capture near the server would show whether it arrived there."
    wait = int(charges.sum())
    if party == causes.NONE:
        return f"No significant delay ({duration(wait)} in total)." if wait else "No exchange was waited for here."
    if party == causes.UNEXPLAINED:
        return (
            f"{duration(wait)} total wait, and this capture leaves open whose it is; a capture at the other end would"
            " tell."
        )
    own = int(charges[causes.party_columns(party)].sum())
    why = causes.WORDS[causes.CHARGES[column][1]]
    return f"{duration(own)} of {duration(wait)} is the {party}'s, most of it {why} ({duration(int(charges[column]))})."


def verdict_of(account: Account, c: int, columns: tuple[Array, Array, Array] | None = None) -> Verdict:
    """The verdict of connection c."""
    party, column, confidence = columns if columns is not None else verdict_columns_of(account, c)
    k = c if columns is not None else 0
    who = causes.PARTIES[party[k]] if party[k] >= 0 else causes.NONE
    cause = causes.CHARGES[column[k]][1] if party[k] >= 0 else ""
    opening = OPENINGS[account.fact("opening")[c]]
    if opening == "refused":
        cause = "refused"
    elif opening == "unanswered":
        cause = "unanswered"
    return Verdict(
        who,
        cause,
        round(float(confidence[k]), 3),
        sentence(who, int(column[k]), opening, account.connection_charges[c]),
    )


def moved_paths(account: Account) -> Array:
    """For each connection, to client and to server: whether the floor moved between the first and the last eighth of
    its samples.
    """
    moved = []
    for side in ("client", "server"):
        early, late = account.fact(f"to_{side}_early_min_ns"), account.fact(f"to_{side}_late_min_ns")
        least = np.minimum(early, late)
        enough = (account.fact(f"to_{side}_samples") >= PATH_SAMPLES) & (least >= 0)
        moved.append(enough & (np.abs(late - early) > np.maximum(PATH_SHIFT_NS, 0.3 * least)))
    return np.stack(moved, axis=1)


def path_changed(account: Account, c: int) -> list[str]:
    """Sides ("client", "server") the way to which changed during connection c."""
    return [side for side, moved in zip(("client", "server"), moved_paths(account.only(c))[0], strict=True) if moved]
