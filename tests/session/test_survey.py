from collections import Counter

import numpy as np
import pytest

from yaffle.session.datagram_groups import other_groups
from yaffle.session.evidence import Evidence
from yaffle.session.filtering import Filter
from yaffle.session.focus import Focus
from yaffle.session.make_up import make_up
from yaffle.session.measures import RETRANSMISSIONS
from yaffle.session.scene import Scene
from yaffle.session.survey import series, troubles
from yaffle.transport import kinds


@pytest.fixture(scope="module")
def evidence(analysed_morning):
    return Evidence(analysed_morning)


def test_the_series_agrees_with_counting_packet_by_packet(evidence):
    packets = evidence.analysis.capture.packets
    first, last = evidence.first_ns, evidence.first_ns + 60 * 10**9
    data = series(evidence, None, first, last, 60)
    wanted, octets = Counter(), Counter()
    for t, size, counts in zip(
        packets.time_ns.tolist(), packets.wire_bytes.tolist(), evidence.packet_counts.tolist(), strict=True
    ):
        if counts and first <= t <= last:
            wanted[min(59, (t - first) * 60 // (last - first))] += 1
            octets[min(59, (t - first) * 60 // (last - first))] += size
    assert [wanted[k] for k in range(60)] == data.packets.tolist()
    assert [octets[k] for k in range(60)] == data.octets.tolist()
    assert data.bits_per_s[0] == pytest.approx(octets[0] * 8)


def test_every_way_of_making_up_holds_all_the_bytes(evidence):
    total = int(evidence.analysis.capture.packets.wire_bytes[evidence.packet_counts].sum())
    for by, times in (
        ("application", 1),
        ("pair", 1),
        ("host", 2),
        ("port", 1),
        ("protocol", 1),
        ("DSCP", 1),
        ("VLAN", 1),
        ("cast type", 1),
    ):
        parts = make_up(evidence, None, by, most=10_000)
        assert sum(p.octets for p in parts) == times * total, by
        assert [p.octets for p in parts] == sorted((p.octets for p in parts), reverse=True)
        assert sum(p.share for p in parts) == pytest.approx(times)
        assert all(p.trend.sum() == p.octets for p in parts)


def test_a_mask_narrows_the_make_up(evidence):
    packets = evidence.analysis.capture.packets
    port = evidence.analysis.capture.conversations.b_port
    mask = evidence.packet_counts & (port[packets.flow] == 5432)
    parts = make_up(evidence, mask, "application")
    assert [p.label for p in parts] == ["ticket database"]
    assert make_up(evidence, np.zeros(mask.size, bool), "pair") == []


def test_troubles_are_counted_by_kind(evidence):
    packets = evidence.analysis.capture.packets
    nothing = np.empty(0, np.int64)
    scene = Scene(evidence, Focus(), Filter(evidence), nothing, nothing)
    counts = {t.name: t.count for t in troubles(scene)}
    repeats = sum(1 for k in packets.kind[evidence.packet_counts].tolist() if kinds.is_repeat(k))
    assert counts["retransmissions"] == repeats > 100
    kept = packets.kind[evidence.packet_counts] & kinds.KIND_MASK
    by_cause = sum(counts.get(name, 0) for name in RETRANSMISSIONS)
    assert by_cause + int((kept == kinds.REPEAT_CLOSE).sum()) == repeats


def test_look_ups_are_answered_and_announcements_ask_nothing(evidence):
    groups = {g.label: g for g in other_groups(evidence, evidence.first_ns, evidence.last_ns)}
    names, voice = groups["names, UDP"], groups["announcements, UDP"]
    assert names.answers > 100
    assert names.unanswered <= names.answers * 0.02
    assert 0 < names.median_ns < names.p95_ns < 100_000_000
    assert (voice.answers, voice.unanswered, voice.median_ns) == (0, 0, None)
    assert voice.packets > 5000
    assert other_groups(evidence, evidence.last_ns + 1, evidence.last_ns + 2) == []


def test_labels_fall_together_under_other_names(evidence):
    sites = evidence.client.named(evidence.places.site)
    assert set(sites.texts) == {"Quay House", "Northpoint", "Saltmarsh", "Isle of Wren"}
    for row in range(0, sites.codes.size, 97):
        assert sites[row] == evidence.places.site(evidence.client[row])
    assert sites.code("nowhere") == -1
    assert sites.texts[sites.code("Saltmarsh")] == "Saltmarsh"
