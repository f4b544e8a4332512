"""Which part degrades a set of flows, by all sets that share each part: near end, path or far end.

A part is told by how well it separates the sets that are degraded from those that are not (informedness, Youden
1950). Where two parts separate alike, or nothing else shares any of them, it cannot be told, and that is said.

Of kept waits only the network's part is judged: where it is longer, the network is at fault, at whichever end. Repeats
and round trips of records may be an end's own; there the network is at fault for sure where the path is.
"""

from collections.abc import Sequence
from dataclasses import dataclass

from yaffle.records.catalogue import WAITS
from yaffle.watching.flow_sets import SetHealth, Way

NEAR, PATH, FAR = "near end", "path", "far end"
YES, NO, UNKNOWN = "yes", "no", "unknown"


@dataclass(frozen=True)
class Verdict:
    """part: one of NEAR, PATH, FAR, or empty where it cannot be told; what: which one; words: why."""

    part: str
    what: str
    words: str


@dataclass(frozen=True)
class NetworkFault:
    """fault: yes, no, unknown; verdicts: of every set and direction that is degraded, by (name, direction)."""

    fault: str
    words: str
    verdicts: dict[tuple[str, str], Verdict]


def network_fault(told: Sequence[SetHealth]) -> NetworkFault:
    """Whether the network is at fault in the last interval of which anything is known."""
    ways = [(one.of.name, way) for one in told for way in one.ways]
    known = [(name, way) for name, way in ways if way.now is not None]
    bad = [(name, way) for name, way in known if way.now]
    if not known:
        return NetworkFault(UNKNOWN, "nobody measured any of these sets of flows", {})
    if not bad:
        rest = len(ways) - len(known)
        if rest:
            return NetworkFault(UNKNOWN, f"none of {len(known)} measured directions is degraded; {rest} unknown", {})
        return NetworkFault(NO, f"none of {len(known)} directions is degraded", {})
    verdicts = {(name, way.direction): _verdict(way, [other for _, other in known]) for name, way in bad}
    of_waits = {one.of.name for one in told if one.of.of == WAITS}
    sure = [one for (name, _), one in verdicts.items() if one.part == PATH or name in of_waits]
    if sure:
        first = max(sure, key=lambda one: bool(one.part))
        return NetworkFault(YES, first.words if first.part else f"where is not known: {first.words}", verdicts)
    first = next(iter(verdicts.values()))
    ends = f"{first.words}: its link, or the hosts there" if first.part else first.words
    return NetworkFault(UNKNOWN, ends, verdicts)


def _ends(way: Way) -> dict[tuple[str, str], str]:
    """Parts of a direction, by what is shared: an end is the same end whichever way flows go."""
    parts = {("end", way.near): NEAR, ("end", way.far): FAR}
    parts |= {("path", part): PATH for part in way.path}
    return {key: part for key, part in parts.items() if key[1]}


def _verdict(way: Way, known: Sequence[Way]) -> Verdict:
    bad, good = [one for one in known if one.now], [one for one in known if not one.now]
    scores = []
    for key, part in _ends(way).items():
        hit, fine = sum(key in _ends(one) for one in bad), sum(key in _ends(one) for one in good)
        informed = hit / len(bad) + (1 - fine / len(good) if good else 0.0) - 1
        scores.append((informed, hit, fine, part, key[1]))
    if not scores:
        return Verdict("", "", "it is degraded, and neither its ends nor its path are known")
    scores.sort(key=lambda one: -one[0])
    best = scores[0]
    alike = [one for one in scores if abs(one[0] - best[0]) < 1e-9]
    if not good:
        return Verdict(
            "", "", f"all {len(bad)} measured directions are degraded: which part they share cannot be told apart"
        )
    if len(alike) > 1:
        named = " and ".join(f"{part} {what}" for _, _, _, part, what in alike[:3])
        return Verdict("", "", f"{named} are shared alike: another set over one of them would tell")
    _, hit, fine, part, what = best
    if hit == 1 and fine == 0 and len(bad) == 1 and not any(key in _ends(one) for one in good for key in _ends(way)):
        return Verdict("", "", "it alone is degraded, and no other set shares any part of it")
    spared = f"{fine} over it not" if fine else f"none of the {len(good)} others share it"
    return Verdict(part, what, f"{what}: {hit} degraded, {spared}")
