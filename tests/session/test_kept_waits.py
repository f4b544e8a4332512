"""Months of waits answer as packets of minutes do: tree, plots, measures, findings."""

import numpy as np
import pytest

from tests.session.kept_history import DAYS, EVENING, QUICK_NS, SLOW_NS, START_NS, write_kept
from yaffle.analysis import analyse
from yaffle.findings.ranking import all_findings
from yaffle.history.layout import DAY_NS, HOUR_NS
from yaffle.history.wait_rows import ACCURACY
from yaffle.inventory.places import Rule
from yaffle.ledger import causes
from yaffle.session.baselines import Subject
from yaffle.session.catalogue_values import choices, groups, over_time, titles
from yaffle.session.focus import Focus
from yaffle.session.investigation import Investigation, Opened
from yaffle.session.kept import Kept
from yaffle.session.kept_waits import kept_waits

EXCHANGES = DAYS * 144 * 20
TRAIL = ("remote desktop", "203.0.113.9 3389")


@pytest.fixture(scope="module")
def analysis(tmp_path_factory):
    return analyse([write_kept(tmp_path_factory.mktemp("kept") / "h")])


def investigation(analysis):
    model = Investigation()
    model.open(Opened(analysis))
    return model


def test_the_tree_leads_from_application_to_hours_worst_first(analysis):
    model = investigation(analysis)
    kept = kept_waits(model.scene)
    assert kept is not None and "hours of waits" not in kept.words  # Three days: minutes are not too much.
    (top,) = kept.groups(())
    assert (top.label, top.exchanges, top.users) == ("remote desktop", EXCHANGES, 2)
    assert abs(top.median_ns / QUICK_NS - 1) <= ACCURACY and abs(top.worst_ns / SLOW_NS - 1) <= ACCURACY
    assert top.wait_ns == EXCHANGES * QUICK_NS + DAYS * 60 * (SLOW_NS - QUICK_NS)
    (server,) = kept.groups(top.trail)
    assert server.trail == TRAIL and "port 3389" in server.label
    pier, quay = kept.groups(server.trail)
    assert "198.51.100.7" in pier.label and pier.wait_ns > quay.wait_ns
    hours = kept.groups(pier.trail)
    assert len(hours) == DAYS * 24 and hours.place_of(hours[5].trail[-1]) == 5 and hours.place_of("x") == -1
    assert {(one.period[0] - START_NS) // HOUR_NS % 24 for one in hours[:DAYS]} == {EVENING}
    assert hours[0].charges[causes.QUEUEING] == 60 * (SLOW_NS - QUICK_NS) and hours.widest_ns == hours[0].wait_ns
    assert kept.groups(hours[0].trail[:2])[0].exchanges == EXCHANGES // 2
    assert [len(level) for level in kept.levels_along(pier.trail)] == [1, 1, 2, DAYS * 24]
    words = kept.summary(())
    assert f"{EXCHANGES:,} exchanges" in words and "10 of 100 packets were dropped" in words
    assert "No waits are kept" in kept.summary(("nothing",))


def test_what_stands_below_the_tree(analysis):
    model = investigation(analysis)
    kept = kept_waits(model.scene)
    group = kept.groups((*TRAIL,))[0]
    found = kept.picture(group, 180)
    assert found.charges.sum() == group.wait_ns and found.hours.sum() == group.wait_ns
    assert found.hour_counts.sum() == group.exchanges and int(np.argmax(found.hours.sum(axis=1))) == EVENING
    assert found.quantiles_ns[-1] > 5 * found.quantiles_ns[0] and not found.dearest.size and not found.own_bps.any()


def test_a_period_narrows_it_and_packets_come_first(analysis, morning):
    model = investigation(analysis)
    begin = START_NS + EVENING * HOUR_NS
    model.look(Focus((begin, begin + HOUR_NS - 1)))
    kept = kept_waits(model.scene)
    assert kept.groups(())[0].exchanges == 120
    model.look(Focus((START_NS - DAY_NS, START_NS - HOUR_NS)))
    assert kept_waits(model.scene) is None
    assert kept_waits(investigation(analyse([morning[1]])).scene) is None


def test_the_users_names_are_those_of_kept_waits_too(analysis):
    model = Investigation()
    own = Kept(rules=(Rule("the desk's screen", "203.0.113.9", 3389),))
    model.open(Opened(analysis, memory=own.as_json()))
    kept = kept_waits(model.scene)
    assert [group.label for group in kept.groups(())] == ["the desk's screen"]
    assert kept.groups(("the desk's screen",))[0].exchanges == EXCHANGES


def test_measures_over_months(analysis):
    model = investigation(analysis)
    names = [name for name in titles(analysis) if name.endswith("over months")]
    assert len(names) == 9 and choices(analysis)["wait median over months"] == ["remote desktop"]
    edge_ns = START_NS + np.arange(DAYS * 24 + 1) * HOUR_NS
    evidence = model.evidence

    def of(name, by="site", label="pier"):
        return over_time(evidence, f"{name} over months", by, label, edge_ns)

    evenings = np.arange(DAYS) * 24 + EVENING
    assert np.allclose(of("wait mean")[evenings], SLOW_NS / 1e6) and np.allclose(of("server wait"), QUICK_NS / 1e6)
    assert np.allclose(of("wait median")[evenings], SLOW_NS / 1e6, rtol=ACCURACY)
    assert np.allclose(of("network wait")[evenings], (SLOW_NS - QUICK_NS) / 1e6) and of("client wait").max() == 0
    assert np.allclose(of("exchange rate"), 60 / 3600) and np.allclose(of("failure rate"), 10)
    assert np.allclose(of("waiting", "", ""), (of("waiting") + of("waiting", "site", "quay")))
    assert groups(evidence, "wait p95 over months", "site") == ["pier", "quay"]
    assert groups(evidence, "wait p95 over months", "server") == ["203.0.113.9 3389"]
    assert Subject("wait median over months", "site", "pier").unit == "ms"


def test_long_hours_are_a_finding(analysis):
    (finding,) = [one for one in all_findings(analysis) if one.grounds.get("kept")]
    assert finding.site == "pier" and finding.cause == "queueing" and finding.grounds["days"] == DAYS
    assert "remote desktop" in finding.sentence and "899 ms instead of 99.2 ms" in finding.sentence
    assert len(finding.grounds["stretches"]) == DAYS and finding.confidence == 0.95
