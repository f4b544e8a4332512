"""Measures, make-up and the figures of groups against plain counting."""

import math
from collections import Counter, defaultdict

import numpy as np
import pytest

from yaffle.ledger import causes
from yaffle.session.apportion import dearest, distribution, picture
from yaffle.session.focus import Focus
from yaffle.session.interval_sums import by_hour, over_time
from yaffle.session.investigation import Investigation, Opened
from yaffle.session.make_up import make_up, within
from yaffle.session.measures import COUNTED, MOST_INTERVALS, Measure, edges, values
from yaffle.session.survey import SurveySettings, survey
from yaffle.session.wait_group import repeat_words
from yaffle.session.wait_levels import groups
from yaffle.transport import kinds

S = 10**9


@pytest.fixture(scope="module")
def model(analysed_morning):
    model = Investigation()
    model.open(Opened(analysed_morning))
    return model


@pytest.fixture
def scene(model):
    model.look(Focus())
    return model.scene


def test_packets_are_weighed_as_by_counting(scene):
    packets = scene.evidence.analysis.capture.packets
    edge_ns = edges(scene.first_ns, scene.last_ns, 60 * S)
    volume, repeats = Counter(), Counter()
    for t, octets, kind, mine in zip(
        packets.time_ns.tolist(),
        packets.wire_bytes.tolist(),
        packets.kind.tolist(),
        scene.packets.tolist(),
        strict=True,
    ):
        if mine:
            volume[(t - int(edge_ns[0])) // (60 * S)] += octets
            repeats[(t - int(edge_ns[0])) // (60 * S)] += kinds.is_repeat(kind)
    found = values(scene, Measure("", "volume"), edge_ns)
    assert found.tolist() == pytest.approx([volume[k] * 8 / 60 for k in range(edge_ns.size - 1)])
    again = values(scene, Measure("", "retransmissions"), edge_ns)
    assert again.tolist() == pytest.approx([repeats[k] / 60 for k in range(edge_ns.size - 1)])


def test_waits_are_summed_as_by_counting(scene):
    waits = scene.evidence.waits
    edge_ns = edges(scene.first_ns, scene.last_ns, 120 * S)
    began = defaultdict(list)
    for row in scene.rows.tolist():
        k = min(edge_ns.size - 2, int((waits.first_ns[row] - edge_ns[0]) // (120 * S)))
        began[k].append((int(waits.wait_ns[row]), int(scene.evidence.client.codes[waits.connection[row]])))
    for k in range(edge_ns.size - 1):
        rows = sorted(began[k])
        got = {
            name: values(scene, Measure("", name), edge_ns)[k]
            for name in ("exchanges", "clients", "concurrent waits", "max wait", "median wait")
        }
        assert got["exchanges"] == pytest.approx(len(rows) / 120)
        assert got["clients"] == len({c for _, c in rows})
        assert got["concurrent waits"] == pytest.approx(sum(w for w, _ in rows) / (120 * S))
        if rows:
            assert got["max wait"] == pytest.approx(rows[-1][0] / S)
            assert got["median wait"] == pytest.approx(rows[len(rows) // 2][0] / S)
        else:
            assert np.isnan(got["max wait"])
    parts = [values(scene, Measure("", f"waiting for the {p}"), edge_ns) for p in ("client", "network", "server")]
    assert (sum(parts) <= values(scene, Measure("", "concurrent waits"), edge_ns) + 1e-9).all()


def test_every_measure_can_be_drawn_and_a_filter_narrows_it(scene):
    edge_ns = edges(scene.first_ns, scene.last_ns, 0)
    for counted in COUNTED:
        assert values(scene, Measure("", counted), edge_ns).size == edge_ns.size - 1
    all_of_it = values(scene, Measure("", "volume"), edge_ns)
    database = values(scene, Measure("", "volume", "server_port = 5432"), edge_ns)
    assert 0 < database.sum() < all_of_it.sum()


def test_intervals_are_as_asked_for_up_to_what_can_be_held():
    edge_ns = edges(5, 5 + 3600 * S, 10**6)
    assert edge_ns.size - 1 == MOST_INTERVALS
    assert edges(5, 5 + 10 * S, S).tolist() == [5 + k * S for k in range(11)]
    assert edges(7, 7, 0).size == 401


def test_a_way_down_holds_what_its_line_held(scene):
    evidence = scene.evidence
    for by in ("application", "host", "port", "DSCP", "cast type", "protocol"):
        part = make_up(evidence, scene.packets, by)[0]
        inner = within(evidence, scene.packets, by, part.label)
        assert int(evidence.analysis.capture.packets.wire_bytes[inner].sum()) == part.octets
    assert not within(evidence, scene.packets, "application", "nothing of the kind").any()
    told = {p.label: p.told for p in make_up(evidence, scene.packets, "application")}
    assert told["ticket desk"] == "server name"


def test_what_was_sent_again_is_told_by_what_set_it_off(scene):
    account = scene.evidence.analysis.account
    level = [group for group in groups(scene.evidence, scene.filtered, ()) if group.repeats]
    assert level
    for group in level:
        words = repeat_words(scene.evidence, group)
        told = sum(
            int(part.split()[0].replace(",", ""))
            for part in words.removeprefix("Retransmissions: ").split(", ")
            if part[0].isdigit()
        )
        connections = np.unique(scene.evidence.waits.connection[group.rows])
        again = sum(account.side(side, "retransmitted_packets")[connections].sum() for side in (0, 1))
        assert told >= again > 0, words  # Of a segment that stands for several, each counts.


def test_the_figures_of_groups_are_those_of_plain_sorting(scene):
    evidence = scene.evidence
    account = evidence.analysis.account
    again = account.side(0, "retransmitted_packets") + account.side(1, "retransmitted_packets")
    whole, trail = groups(evidence, scene.filtered, ()), ()
    for _ in range(5):
        level = [g for g in whole if not g.beside]
        assert [g.wait_ns for g in level] == sorted((g.wait_ns for g in level), reverse=True)
        assert len({g.trail for g in level}) == len(level)
        for group in list(level)[:5]:
            wait = sorted(evidence.waits.wait_ns[group.rows].tolist())
            owner = np.unique(evidence.waits.connection[group.rows])
            assert group.exchanges == len(wait)
            assert (group.median_ns, group.p95_ns, group.worst_ns) == (
                wait[math.ceil(0.5 * len(wait)) - 1],
                wait[math.ceil(0.95 * len(wait)) - 1],
                wait[-1],
            )
            assert group.wait_ns == sum(wait)
            assert group.users == np.unique(evidence.client.codes[owner]).size
            assert group.repeats == int(again[owner].sum())
            assert (group.charges == evidence.waits.charges[group.rows].sum(axis=0)).all()
        first = level[0]
        assert whole.place_of(first.trail[-1]) == len(whole) - len(level)
        whole, trail = groups(evidence, first.rows, first.trail), first.trail
    assert len(trail) == 5
    assert all(g.beside for g in whole)


def test_below_the_tree_nothing_is_lost(scene):
    evidence, rows = scene.evidence, scene.rows
    total = evidence.waits.charges[rows].sum()
    assert over_time(evidence, rows, edges(scene.first_ns, scene.last_ns, 0)).sum() == total
    hours, counts = by_hour(evidence, rows)
    assert hours.sum() == total
    assert counts[6] == rows.size
    shares, quantiles = distribution(evidence, rows)
    assert quantiles[-1] == evidence.waits.wait_ns[rows].max()
    assert (np.diff(quantiles) >= 0).all() and (np.diff(shares) > 0).all()
    loss = [causes.LOSS]
    top = dearest(evidence, rows, loss, 50)
    paid = evidence.waits.charges[top, causes.LOSS]
    assert paid[0] == evidence.waits.charges[rows, causes.LOSS].max()
    assert (np.diff(paid) <= 0).all() and (paid > 0).all()
    found = picture(scene, rows, 100, loss)
    whole = (found.own_bps + found.rest_bps) * np.diff(found.edges_ns) / 8e9
    assert whole.sum() == pytest.approx(evidence.analysis.capture.packets.wire_bytes[scene.in_period].sum())


def test_the_survey_of_a_scene_tells_what_it_left_out(scene):
    settings = SurveySettings(
        (Measure("volume", "volume"), Measure("wrong", "volume", "nonsense > 5")),
        S,
        "host",
        (("application", "ticket desk"),),
        50e6,
    )
    found = survey(scene, settings)
    assert [m.name for m, _ in found.lines] == ["volume"]
    assert "wrong" in found.errors[0]
    assert found.full_ms.size == pytest.approx((scene.last_ns - scene.first_ns) / S, abs=2)
    assert any("ticket-desk" in p.label for p in found.parts)
    assert found.troubles[0].count >= found.troubles[-1].count
