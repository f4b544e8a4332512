"""Where a station was: associations, moves from one access point to another, and what failed, from its management
frames and the data that it sent.
"""

from dataclasses import dataclass, field, replace

import numpy as np

from yaffle.arrays import Bools, Int64s
from yaffle.radio import elements as e

AUTHENTICATION, ASSOCIATION, KEYS, ADDRESS = "authentication", "association", "keys", "address"
REASSOCIATED, FAST, ASSOCIATED = "reassociation", "fast transition", "association"
_S = 10**9
_MOVE_NS = 10 * _S  # Who comes back at another access point within this has moved.
_ASKED_NS = 2 * _S  # An answer belongs to a question within this.
_KEYS_NS = 10 * _S  # Keys of a sign-on come within this.
_FEW = 3  # frames of data that show where a station is
_PATIENCE_NS = 3 * _S  # Without an address for so long, an address failed.


@dataclass(frozen=True)
class Note:
    """One management frame of a station, as far as it matters. kind: a subtype, -1 of data that show that a station was
    let in; by_station: who sent it; code: status or reason; fast: whether it is part of a fast transition.
    """

    time_ns: int
    kind: int
    bssid: int
    by_station: bool
    code: int = 0
    algorithm: int = 0
    number: int = 0
    fast: bool = False
    current: int = -1  # of a request to be let in again: the access point that the station names as its present one


@dataclass(frozen=True)
class Association:
    """From when to when a station was at an access point; whether beginning and end were heard."""

    bssid: int
    from_ns: int
    to_ns: int
    start_seen: bool = True
    end_seen: bool = True


@dataclass(frozen=True)
class Roam:
    """A move. gap_ns: from the last data by the old access point to the first by the new one, -1 without; before: what
    came before it, in words.
    """

    time_ns: int
    old: int
    new: int
    gap_ns: int
    kind: str
    before: str = ""
    address_ns: int = -1
    back_ns: int = -1  # when data came by the new access point, -1 without
    keys_ns: int = -1  # from the answer that let it in to the last key frame: sign-on and keys, -1 without


@dataclass(frozen=True)
class Failure:
    """What failed. code: status, reason, or -1 where there is none."""

    time_ns: int
    bssid: int
    stage: str
    code: int


@dataclass
class Course:
    """All that happened to a station."""

    associations: list[Association] = field(default_factory=list)
    roams: list[Roam] = field(default_factory=list)
    failures: list[Failure] = field(default_factory=list)
    sent_away: list[Note] = field(default_factory=list)


@dataclass(frozen=True)
class Traffic:
    """Data frames of one station, in order of time: which access point, from the station or to it, keys, protected; and
    questions and answers for an address.
    """

    time_ns: Int64s
    bssid: Int64s
    from_station: Bools
    is_key: Bools
    protected: Bools
    asks_address: Int64s  # times
    has_address: Int64s  # times
    any_ns: Int64s  # of every frame between the station and an access point, whatever it was
    any_bssid: Int64s


def course_of(notes: list[Note], traffic: Traffic) -> Course:
    """What notes (in order of time) and data tell."""
    found = Course()
    found.failures = [one for note in notes if (one := _refused(note)) is not None]
    found.sent_away = ends = [note for note in notes if note.kind in (e.DEAUTHENTICATION, e.DISASSOCIATION)]
    joined = _joined(notes, ends, traffic)
    kept = []
    for span, note in _spans(joined, ends, notes, traffic):
        failure = _keys_failed(span, ends, traffic)
        if failure is not None:
            found.failures.append(failure)
        else:
            kept.append((span, note))
    found.associations = [span for span, _ in kept]
    before: Association | None = None
    for span, note in kept:
        roam = _roam(before, span, note, notes, ends, traffic)
        if roam is not None:
            found.roams.append(roam)
        before = span
    found.failures += _without_address(found.associations, traffic)
    found.failures.sort(key=lambda one: one.time_ns)
    return found


def _refused(note: Note) -> Failure | None:
    if note.by_station:
        return None
    if note.kind == e.AUTHENTICATION and e.is_refusal(note.code):
        return Failure(note.time_ns, note.bssid, AUTHENTICATION, note.code)
    if note.kind in (e.ASSOCIATED, e.REASSOCIATED) and note.code > 0:
        return Failure(note.time_ns, note.bssid, ASSOCIATION, note.code)
    return None


def _joined(notes: list[Note], ends: list[Note], traffic: Traffic) -> list[Note]:
    """The answers that let a station in. Where one was not heard: the question, if data followed; else the data."""
    answers = [n for n in notes if n.kind in (e.ASSOCIATED, e.REASSOCIATED) and not n.by_station]
    found = [n for n in answers if n.code == 0]
    for one in notes:
        if one.kind not in (e.ASSOCIATION, e.REASSOCIATION) or not one.by_station:
            continue
        if any(n.bssid == one.bssid and 0 <= n.time_ns - one.time_ns <= _ASKED_NS for n in answers):
            continue
        own = traffic.from_station & (traffic.bssid == one.bssid) & (traffic.time_ns > one.time_ns)
        if (own & (traffic.time_ns <= one.time_ns + 5 * _S)).any():
            kind = e.ASSOCIATED if one.kind == e.ASSOCIATION else e.REASSOCIATED
            found.append(replace(one, kind=kind, by_station=False, code=0))
    found.sort(key=lambda one: one.time_ns)
    return sorted(found + _shown_by_data(found, ends, traffic), key=lambda one: one.time_ns)


def _shown_by_data(joined: list[Note], ends: list[Note], traffic: Traffic) -> list[Note]:
    """Data of a station by an access point at which it is not known to be: it was let in unheard."""
    changes = sorted([*((n.time_ns, n.bssid) for n in joined), *((n.time_ns, -n.bssid) for n in ends)])
    edges = [-(1 << 62), *(at for at, _ in changes), 1 << 62]
    states = [0, *(bssid for _, bssid in changes)]
    found = []
    for k, state in enumerate(states):
        inside = (traffic.time_ns >= edges[k]) & (traffic.time_ns < edges[k + 1])
        for bssid in np.unique(traffic.bssid[inside & traffic.from_station]).tolist():
            own = np.flatnonzero(inside & (traffic.bssid == bssid))
            sent = own[traffic.from_station[own]]
            if bssid == state or (state < 0 and -state != bssid and k + 1 < len(states)):
                continue
            left = k + 1 < len(states) and states[k + 1] == -bssid  # Who is sent away was there.
            if left or (sent.size >= _FEW and traffic.time_ns[sent[-1]] - traffic.time_ns[sent[0]] >= _S // 5):
                heard = traffic.any_ns[traffic.any_bssid == bssid]
                at = int(heard[0]) if k == 0 and heard.size else int(traffic.time_ns[sent[0]])
                found.append(Note(at, -1, bssid, False))
    return found


def _spans(joined: list[Note], ends: list[Note], notes: list[Note], traffic: Traffic) -> list[tuple[Association, Note]]:
    """From when to when, with the note that let it in. Who is let in again where it is has not left; unless it says
    that it comes from elsewhere: then it had left when it was heard last.
    """
    found: list[tuple[Association, Note]] = []
    for k, note in enumerate(joined):
        following = joined[k + 1] if k + 1 < len(joined) else None
        until = following.time_ns if following is not None else 1 << 62
        over = next((n for n in ends if n.bssid == note.bssid and note.time_ns <= n.time_ns <= until), None)
        from_elsewhere = following is not None and _comes_from(following, notes) not in (-1, note.bssid)
        if over is not None:
            to_ns, seen = over.time_ns, True
        elif following is not None and following.bssid == note.bssid and not from_elsewhere:
            to_ns, seen = until, False
        elif following is not None and following.bssid == note.bssid:
            asked = _asked(following, notes)
            to_ns, seen = _heard_last(note, asked.time_ns if asked else until, traffic), False
        elif following is not None:
            to_ns, seen = until, True
        else:
            to_ns, seen = _heard_last(note, 1 << 62, traffic), False
        goes_on = bool(found) and found[-1][0].bssid == note.bssid and found[-1][0].to_ns == note.time_ns
        if goes_on and not found[-1][0].end_seen:
            former, first = found.pop()
            found.append((replace(former, to_ns=to_ns, end_seen=seen), first))
        else:
            found.append((Association(note.bssid, note.time_ns, to_ns, note.kind >= 0, seen), note))
    return found


def _asked(join: Note, notes: list[Note]) -> Note | None:
    """The request that an answer belongs to."""
    own = [n for n in notes if n.by_station and n.kind in (e.ASSOCIATION, e.REASSOCIATION) and n.bssid == join.bssid
           and 0 <= join.time_ns - n.time_ns <= _ASKED_NS]  # fmt: skip
    return own[-1] if own else None


def _comes_from(join: Note, notes: list[Note]) -> int:
    """The access point that a station says it comes from; -1 where it does not."""
    asked = _asked(join, notes)
    return asked.current if asked is not None and asked.kind == e.REASSOCIATION else -1


def _heard_last(join: Note, before_ns: int, traffic: Traffic) -> int:
    """When anything was last heard between a station and an access point, before it asked to be let in again."""
    at = traffic.any_bssid == join.bssid
    times = traffic.any_ns[at & (traffic.any_ns < before_ns - (_ASKED_NS if before_ns < 1 << 62 else 0))]
    return max(join.time_ns, int(times[-1])) if times.size else join.time_ns


def _inside(span: Association, traffic: Traffic) -> Int64s:
    return np.flatnonzero(
        (traffic.bssid == span.bssid) & (traffic.time_ns >= span.from_ns) & (traffic.time_ns <= span.to_ns)
    )


def _keys_failed(span: Association, ends: list[Note], traffic: Traffic) -> Failure | None:
    """An association in which keys were sent and nothing else, and which the access point ended."""
    rows = _inside(span, traffic)
    if not rows.size or not traffic.is_key[rows].all():
        return None
    over = [
        n for n in ends if n.bssid == span.bssid and not n.by_station and span.to_ns <= n.time_ns <= span.to_ns + _S
    ]
    return Failure(over[-1].time_ns, span.bssid, KEYS, over[-1].code) if over else None


def _roam(
    before: Association | None, after: Association, note: Note, notes: list[Note], ends: list[Note], traffic: Traffic
) -> Roam | None:
    """The move that an association begins with; None where it is none."""
    asked, old = _asked(note, notes), _comes_from(note, notes)
    if old < 0 and before is not None and after.from_ns - before.to_ns <= _MOVE_NS:
        old = before.bssid
    if old in (-1, after.bssid):
        return None
    plain = ~traffic.is_key
    left = np.flatnonzero((traffic.bssid == old) & plain & (traffic.time_ns <= after.from_ns))
    new = np.flatnonzero((traffic.bssid == after.bssid) & plain & (traffic.time_ns >= after.from_ns))
    gap = int(traffic.time_ns[new[0]] - traffic.time_ns[left[-1]]) if left.size and new.size else -1
    fast = note.fast or any(
        n.kind == e.AUTHENTICATION and n.algorithm == e.FAST_TRANSITION and n.bssid == after.bssid
        and 0 <= after.from_ns - n.time_ns <= _ASKED_NS for n in notes
    )  # fmt: skip
    anew = asked.kind == e.ASSOCIATION if asked is not None else note.kind == e.ASSOCIATED
    kind = FAST if fast else ASSOCIATED if anew else REASSOCIATED
    away = next((n for n in ends if n.bssid == old and 0 <= after.from_ns - n.time_ns <= _S), None)
    words = ""
    if away is not None:
        who = "the station left" if away.by_station else "sent away by the access point"
        words = f"{who}: {e.REASONS.get(away.code, f'reason {away.code}')}"
    answers = traffic.has_address[traffic.has_address >= after.from_ns]
    asks = traffic.asks_address[(traffic.asks_address >= after.from_ns) & (traffic.asks_address <= after.to_ns)]
    address = int(answers[0] - asks[0]) if answers.size and asks.size and answers[0] <= after.to_ns else -1
    back = int(traffic.time_ns[new[0]]) if gap >= 0 else -1
    keys = traffic.time_ns[
        traffic.is_key & (traffic.bssid == after.bssid) & (traffic.time_ns >= after.from_ns)
        & (traffic.time_ns <= min(after.to_ns, after.from_ns + _KEYS_NS))
    ]  # fmt: skip
    signed = int(keys[-1]) - after.from_ns if keys.size else -1
    return Roam(after.from_ns, old, after.bssid, gap, kind, words, address, back, signed)


def _without_address(spans: list[Association], traffic: Traffic) -> list[Failure]:
    """Associations in which a station asked for an address again and again, and got no answer."""
    found = []
    for span in spans:
        asks = traffic.asks_address[(traffic.asks_address >= span.from_ns) & (traffic.asks_address <= span.to_ns)]
        answers = traffic.has_address[(traffic.has_address >= span.from_ns) & (traffic.has_address <= span.to_ns)]
        if asks.size > 1 and not answers.size and asks[-1] - asks[0] >= _PATIENCE_NS:
            found.append(Failure(int(asks[-1]), span.bssid, ADDRESS, -1))
    return found
