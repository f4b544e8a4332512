"""Classes of service: load, loss and delay by marking on a segment; markings that are lost; a split of the line worked
out by hand.
"""

import random

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.frames import ether, ip, pcap
from tests.path.test_shared import HERE, MS, THERE, two_points
from yaffle.analysis import Told, analyse
from yaffle.findings.classes import ClassLoad, ClassLoads, class_loads
from yaffle.findings.markings import applications, violations
from yaffle.findings.planner import _waits, plan, tc_script
from yaffle.findings.ranking import all_findings
from yaffle.inventory.expected_markings import VOICE, Expected, code_point
from yaffle.session.kept import Kept

EF, AF21 = 46, 18
S = 10**9


def datagram(source, target, port, payload, dscp):
    """An IP packet with a datagram from and to one port, marked."""
    size = 8 + len(payload)
    return ip(
        source,
        target,
        17,
        bytes([port >> 8, port & 255]) * 2 + size.to_bytes(2, "big") + b"\0\0" + payload,
        tos=dscp << 2,
    )


def marked_path(folder, keeps=False):
    """Voice marked EF that arrives as default unless the way keeps it, and bulk marked AF21 of which each tenth is
    lost; 14 ms apart.
    """
    rnd, events = random.Random(2), []
    for k in range(300):
        t = 10 * S + k * 20 * MS
        voice = (
            bytes([0x80, 0])
            + k.to_bytes(2, "big")
            + (k * 160).to_bytes(4, "big")
            + (99).to_bytes(4, "big")
            + bytes(160)
        )
        events.append(
            (
                t,
                t + 14 * MS,
                ether(datagram(HERE, THERE, 5004, voice, EF)),
                ether(datagram(HERE, THERE, 5004, voice, EF if keeps else 0)),
            )
        )
        bulk = rnd.randbytes(900)
        frame = ether(datagram(THERE, HERE, 7000, bulk, AF21))
        events.append((None if k % 10 == 0 else t + 17 * MS, t + 3 * MS, frame, frame))
    return two_points(folder, events)


def test_each_class_of_a_segment(tmp_path):
    analysis = analyse(marked_path(tmp_path))
    segments = analysis.path.segments
    loads = [
        class_loads(analysis.capture, way, 10 * S, 16 * S) for s in segments for way in (s.up, s.down) if way.sent.size
    ]
    found = {
        (one.dscp): (one.packets, one.lost, round(one.median_ns / MS), round(one.mean_bps / 1000))
        for each in loads
        for one in each.classes
    }
    assert found[EF] == (300, 0, 14, round(300 * 214 * 8 / 6 / 1000))
    assert found[AF21][:3] == (300, 30, 14)
    assert sum(each.whole.sum() for each in loads) == 300 * 8 * (214 + 942)


def test_a_marking_that_is_lost_is_a_finding_with_its_place(tmp_path):
    analysis = analyse(marked_path(tmp_path))
    assert violations(analysis) == []
    told = analysis.as_told(Told(expected=(Expected(VOICE, EF), Expected("port 7000", EF))))
    lost, never = violations(told)
    assert (lost.rule.application, lost.lost, lost.number, lost.of, lost.seen, lost.place) == (
        VOICE,
        True,
        300,
        300,
        0,
        "between Near and Far",
    )
    assert (never.rule.application, never.lost, never.number, never.seen) == ("port 7000", False, 300, AF21)
    found = [f for f in all_findings(told) if f.cause == "marking"]
    assert [(f.party, f.severity) for f in found] == [("network", "major"), (found[1].party, "minor")]
    assert "leave with CS0, default instead of EF" in found[0].sentence
    assert applications(told)[-2:] == [VOICE, "video"]


def test_what_keeps_its_marking_is_no_finding(tmp_path):
    told = analyse(marked_path(tmp_path, keeps=True)).as_told(Told(expected=(Expected(VOICE, EF),)))
    assert violations(told) == []


@pytest.mark.parametrize(
    ("text", "code"), [("EF", 46), ("af41", 34), ("CS0", 0), ("best effort", 0), ("12", 12), ("DSCP 46", 46)]
)
def test_markings_are_read_as_people_write_them(text, code):
    assert code_point(text) == code


def test_what_is_no_marking_is_said():
    for text in ("", "gold", "64", "-1", "EF5"):
        with pytest.raises(ValueError, match="is no marking"):
            code_point(text)
    assert Kept.from_json(
        {"expected": [{"application": "x", "dscp": 64}, {"application": "y", "dscp": 46}]}
    ).expected == (Expected("y", 46),)


def loads_of(bits_of, bin_ns=10 * MS):
    """Classes from their bits by interval."""
    return ClassLoads(
        [ClassLoad(code, 1, 1, 0.0, 0.0, 0, 0.0, 0.0, 0.0, np.asarray(bits, float)) for code, bits in bits_of.items()],
        0,
        bin_ns,
    )


def plain_waits(bits, line, rates, first, step_ns, single):
    """The same by lists."""
    classes, steps = len(bits), len(bits[0])
    queue, waited = [0.0] * classes, [[0.0] * steps for _ in range(classes)]
    for s in range(steps):
        queue = [q + bits[c][s] for c, q in enumerate(queue)]
        if single:
            total = sum(queue)
            for c in range(classes):
                waited[c][s] = max(0.0, total - line) / line * step_ns
            queue = [q - q * (min(1.0, line / total) if total > 0 else 0.0) for q in queue]
            continue
        left = line
        for turn in (True, False):
            for c in range(classes):
                if bool(first[c]) == turn:
                    given = min(queue[c], rates[c], left)
                    queue[c], left = queue[c] - given, left - given
        for _ in range(classes):
            weight = sum(rates[c] for c in range(classes) if queue[c] > 0)
            if left <= 0 or weight <= 0:
                break
            spare = left
            for c in range(classes):
                if queue[c] > 0:
                    given = min(queue[c], spare * rates[c] / weight)
                    queue[c], left = queue[c] - given, left - given
        for c in range(classes):
            waited[c][s] = queue[c] / max(rates[c], 1.0) * step_ns
    return waited


@pytest.mark.parametrize("single", [True, False])
@pytest.mark.parametrize("seed", range(4))
def test_the_preview_runs_as_by_the_plain_way(single, seed):
    rng = np.random.default_rng(seed)
    bits = rng.exponential(300, (3, 80)) * (rng.random((3, 80)) < 0.5)
    rates, first = np.array([200.0, 300.0, 100.0]), np.array([True, False, False])
    waited = np.zeros(bits.shape)
    _waits(bits, 600.0, rates, first, 1e6, single, waited)
    assert np.allclose(waited, plain_waits(bits.tolist(), 600.0, rates.tolist(), first.tolist(), 1e6, single))


@given(st.dictionaries(st.sampled_from([0, 8, 18, 34, 44, 46]), st.floats(0, 3e7), min_size=1), st.floats(1e5, 1e8))
def test_the_shares_add_up_to_the_line(needs, line):
    made = plan(loads_of({code: np.full(200, bps / 100) for code, bps in needs.items()}), line)
    assert sum(share.rate_bps for share in made.shares) == pytest.approx(line, rel=1e-6)
    assert all(share.rate_bps > 0 for share in made.shares)
    assert made.fits == (made.needed_bps <= line)
    assert made.shares[-1].dscp == 0


def test_voice_waits_less_by_the_plan_than_behind_bulk():
    bulk = np.zeros(1000)
    bulk[::100] = 5e6  # A second's worth of a line of 5 Mbit/s at once, each second.
    made = plan(loads_of({0: bulk, EF: np.full(1000, 800.0)}), 6e6)
    voice, default = made.shares
    assert (voice.dscp, voice.first, default.dscp) == (EF, True, 0)
    assert voice.wait_now_ns > 100 * MS
    assert voice.wait_planned_ns < 10 * MS
    with pytest.raises(ValueError, match="not known"):
        plan(loads_of({0: bulk}), 0.0)


def test_the_script_is_text_with_all_classes():
    made = plan(loads_of({0: np.full(500, 1e4), EF: np.full(500, 800.0), AF21: np.full(500, 2e4)}), 10e6)
    text = tc_script(made, "wan0")
    assert "htb rate 10000kbit ceil 10000kbit" in text
    assert "match ip dsfield 0xb8 0xfc flowid 1:10" in text
    assert text.count("tc class add") == 4
    assert text.count("fq_codel") == 2
    for name in ("", "eth0; reboot", "x" * 16, "$(id)"):
        with pytest.raises(ValueError, match="no name of an interface"):
            tc_script(made, name)


def test_no_capture_has_no_violations(tmp_path):
    path = pcap(tmp_path / "one.pcap", [(S, ether(datagram(HERE, THERE, 9, b"x" * 20, 0)))])
    told = analyse([path]).as_told(Told(expected=(Expected(VOICE, EF),)))
    assert violations(told) == []


def test_flow_records_tell_where_a_marking_is_lost(analysed_morning):
    told = analysed_morning.as_told(Told(expected=(Expected("announcements", EF),)))
    at_router, between = sorted(violations(told), key=lambda one: one.unit)
    assert (at_router.number, at_router.of, at_router.unit, at_router.place) == (
        1,
        1,
        "flows",
        "at 203.0.113.242, domain 1, ipfix",
    )
    assert "1 of 1 flows (100 %) leave with CS0, default instead of EF" in at_router.words
    assert (between.number, between.of, between.unit) == (3600, 3600, "packets")
    first = told.capture.sources[0].first_ns
    (early,) = [one for one in violations(told, (first, first + 300 * S)) if one.unit == "packets"]
    assert early.number == 600
