"""Markings against what the user expects of each application: where they are lost, or whether they were ever set."""

from collections import defaultdict
from dataclasses import dataclass

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Array, Bools
from yaffle.capture.addresses import server_address
from yaffle.capture.registry import marking
from yaffle.findings.finding import Finding
from yaffle.findings.flow_labels import FlowLabels
from yaffle.findings.flow_path import FlowWay, flow_ways
from yaffle.findings.flow_source import held_flows
from yaffle.inventory.expected_markings import VIDEO, VOICE, Expected
from yaffle.ledger import causes
from yaffle.media.calls import ends_of
from yaffle.units import count, share

CAUSE = "marking"
_UDP = 17
_LEAST = 4  # Packets with another marking, without which nothing is said.


@dataclass(frozen=True)
class Violation:
    """Packets of an application that do not carry the expected DSCP."""

    rule: Expected
    seen: int  # the marking that most of them bear instead
    number: int  # of packets, or of flows where flow records told it
    of: int  # all of the application there
    unit: str  # packets, flows
    place: str  # in words: between two points, at an exporter, before a point
    lost: bool  # whether the marking was there before; else nobody saw it set
    party: str
    connections: tuple[int, ...]
    first_ns: int
    last_ns: int

    @property
    def words(self) -> str:
        """The violation in a sentence."""
        told = f"{count(self.number)} of {count(self.of)} {self.unit} ({share(self.number / self.of)})"
        if self.lost:
            return (
                f"{self.rule.application} is re-marked {self.place}: {told} leave with {marking(self.seen)}"
                f" instead of {self.rule.marking}."
            )
        return (
            f"{self.rule.application} is not marked {self.place}: {told} carry {marking(self.seen)} instead of"
            f" {self.rule.marking}."
        )


def applications(analysis: Analysis) -> list[str]:
    """Names that a rule can be about, those with most packets first; voice and video stand for streams of that kind."""
    named = _named(analysis)
    sizes: dict[str, int] = defaultdict(int)
    for name, packets in zip(named, analysis.capture.conversations.packets.tolist(), strict=True):
        sizes[name] += packets
    return [*sorted(sizes, key=lambda name: -sizes[name])[:200], VOICE, VIDEO]


def _named(analysis: Analysis) -> list[str]:
    """The application of each conversation."""
    flows, places = analysis.capture.conversations, analysis.places
    host = {int(analysis.account.flow[c]): text for c, text in analysis.messages.host.items()}
    known: dict[tuple[int, int, int, str], str] = {}
    named = []
    for row, (high, low, port) in enumerate(
        zip(flows.b_hi.tolist(), flows.b_lo.tolist(), flows.b_port.tolist(), strict=True)
    ):
        key = high, low, port, host.get(row, "")
        if key not in known:
            known[key] = places.application(server_address(flows, row), port, key[3])
        named.append(known[key])
    return named


def _streams(analysis: Analysis) -> dict[str, Array]:
    """The conversations that carry voice and video."""
    flows = analysis.capture.conversations
    marks = {kind: np.zeros(flows.point.size, bool) for kind in (VOICE, VIDEO)}
    ends = {m.destination: VIDEO if m.kind == "video" else VOICE for m in analysis.media} | {
        p.destination: VIDEO for p in analysis.programs
    }
    for row in np.flatnonzero(flows.protocol == _UDP).tolist() if ends else []:
        for end in ends_of(flows, row, False):
            if end in ends:
                marks[ends[end]][row] = True
    return marks


def violations(analysis: Analysis, period: tuple[int, int] | None = None) -> list[Violation]:
    """All of them in a period (all the time by default), by the user's rules; those with most packets first.

    A history is asked of a period alone.
    """
    if not analysis.expected:
        return []
    marks = _streams(analysis)
    by_name = [rule for rule in analysis.expected if rule.application not in marks]
    labels = np.array(_named(analysis) if by_name else [], object)
    found: list[Violation] = []
    first_ns, last_ns = period or (0, 1 << 62)
    owned = [
        (rule, marks[rule.application] if rule.application in marks else np.asarray(labels == rule.application, bool))
        for rule in analysis.expected
    ]
    if owned := [(rule, own) for rule, own in owned if own.any()]:
        inside = (analysis.capture.packets.time_ns >= first_ns) & (analysis.capture.packets.time_ns <= last_ns)
        for rule, own in owned:
            found += _on_segments(analysis, rule, own, inside)
            found += _never_set(analysis, rule, own, inside)
    if by_name and (period is not None or analysis.history is None):  # Flow records do not tell what is voice.
        found += _at_exporters(analysis, (first_ns, last_ns))
    return sorted(found, key=lambda one: -one.number)


def _told(
    analysis: Analysis, rule: Expected, rows: Array, before: int, place: str, *, lost: bool, party: str
) -> Violation:
    packets = analysis.capture.packets
    codes = packets.tos[rows] >> 2
    wanted = np.unique(packets.flow[rows])
    connections = np.flatnonzero(np.isin(analysis.account.flow, wanted))[:50]
    times = packets.time_ns[rows]
    return Violation(
        rule,
        int(np.bincount(codes).argmax()),
        int(rows.size),
        before,
        "packets",
        place,
        lost,
        party,
        tuple(int(c) for c in connections),
        int(times.min()),
        int(times.max()),
    )


def _on_segments(analysis: Analysis, rule: Expected, own: Bools, inside: Bools) -> list[Violation]:
    """Markings that were there at one point and not at the next."""
    packets, points = analysis.capture.packets, analysis.point_names
    found = []
    for segment in analysis.path.segments:
        for way, start, end in ((segment.up, segment.near, segment.far), (segment.down, segment.far, segment.near)):
            sent, arrived = way.matched
            mine = inside[sent] & own[packets.flow[sent]] & (packets.tos[sent] >> 2 == rule.dscp)
            changed = arrived[mine & (packets.tos[arrived] >> 2 != rule.dscp)]
            if changed.size >= _LEAST:
                place = f"between {points[start]} and {points[end]}"
                found.append(_told(analysis, rule, changed, int(mine.sum()), place, lost=True, party=causes.NETWORK))
    return found


def _never_set(analysis: Analysis, rule: Expected, own: Bools, inside: Bools) -> list[Violation]:
    """Packets that bear another marking at the first point that they pass."""
    packets, flows, points = analysis.capture.packets, analysis.capture.conversations, analysis.point_names
    later = np.zeros(packets.time_ns.size, bool)  # Seen before, at another point.
    for segment in analysis.path.segments:
        for way in (segment.up, segment.down):
            later[way.arrived[way.arrived >= 0]] = True
    rows = np.flatnonzero(inside & (packets.flow >= 0) & ~later)
    rows = rows[own[packets.flow[rows]]]
    wrong = packets.tos[rows] >> 2 != rule.dscp
    found = []
    for point in np.unique(flows.point[packets.flow[rows]]).tolist():
        for direction, party in ((0, causes.CLIENT), (1, causes.SERVER)):
            here = (flows.point[packets.flow[rows]] == point) & (packets.direction[rows] == direction)
            mine = rows[here & wrong]
            if mine.size >= _LEAST:
                found.append(
                    _told(
                        analysis,
                        rule,
                        mine,
                        int(here.sum()),
                        f"when it passes {points[point]} on its path from the {party}",
                        lost=False,
                        party=party,
                    )
                )
    return found


def _at_exporters(analysis: Analysis, period: tuple[int, int]) -> list[Violation]:
    """Markings that flow records say were changed at a device on the way."""
    held = held_flows(analysis, *period, packets=False)
    if not held.rows.size or held.width_ns:
        return []
    expected = {rule.application: rule for rule in analysis.expected}
    labels = FlowLabels(held, held.rows, analysis.places).by("application")
    found = []
    for way in flow_ways(held):
        for place, rows, old in _changes(way):
            for rule in expected.values():
                mine = [row for row in rows if old == rule.dscp and labels[row] == rule.application]
                if mine:
                    own, of = held.rows[mine], sum(labels[row] == rule.application for row in way.rows)
                    seen = int(np.bincount(np.where(own["post_dscp"] >= 0, own["post_dscp"], own["dscp"])).argmax())
                    found.append(
                        Violation(
                            rule,
                            seen,
                            len(mine),
                            of,
                            "flows",
                            place,
                            True,
                            causes.NETWORK,
                            (),
                            int(own["first_ns"].min()),
                            int(own["last_ns"].max()),
                        )
                    )
    return found


def _changes(way: FlowWay) -> list[tuple[str, list[int], int]]:
    """(place in words, rows, marking before) of each change of marking along a way of flow records."""
    return [(f"at {hop.exporter}", rows, old) for hop in way.hops for (old, _new), rows in hop.remarked_rows.items()]


def marking_findings(analysis: Analysis) -> list[Finding]:
    """Each violation as a finding: it costs no time by itself, and stands after what does."""
    found = []
    for one in violations(analysis):
        step = (
            f"Look at what marks or trusts markings {one.place}: a device there does not keep {one.rule.marking}."
            if one.lost
            else (
                f"Let the sender of {one.rule.application} mark its packets {one.rule.marking}, or the first device"
                " that it meets."
            )
        )
        grounds = {
            "application": one.rule.application, "expected": one.rule.marking, "seen": marking(one.seen),
            one.unit: one.number, "of": one.of, "place": one.place,
            "connections": list(one.connections), "first_ns": one.first_ns, "last_ns": one.last_ns, "exchanges": 0,
            "users": 0, "ruled_out": "",
        }  # fmt: skip
        severity = "major" if one.lost else "minor"
        found.append(
            Finding(
                one.party,
                CAUSE,
                severity,
                f"{one.rule.application} {one.place}",
                one.words,
                step,
                0.99,
                one.first_ns,
                one.last_ns,
                0,
                0,
                "",
                [],
                list(one.connections),
                grounds,
            )
        )
    return found
