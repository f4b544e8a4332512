"""What lies behind waits, in the words of the window; and findings that name who held things up."""

from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest

from tests.tiers.truth import DATA
from yaffle.analysis import analyse
from yaffle.case.folder import open_case, save_case
from yaffle.errors import CaseError
from yaffle.findings.held_up import spent_by
from yaffle.findings.ranking import all_findings
from yaffle.ledger import causes
from yaffle.report.document import document
from yaffle.report.html import render
from yaffle.session.behind import behind_words, neighbours
from yaffle.session.evidence import Evidence
from yaffle.session.expressions import only
from yaffle.session.filtering import Filter
from yaffle.session.tiers_view import foremost, tiered_exchanges, tiers_of_exchange
from yaffle.session.wait_levels import groups
from yaffle.tiers.behind import nothing_behind


@pytest.fixture(scope="module")
def analysis():
    return analyse([DATA / "pool-exhausted.pcap.gz"])


def test_the_server_that_held_things_up_is_named_and_those_before_it_are_told_with_it(analysis):
    found = [f for f in all_findings(analysis) if "held_up" in f.grounds]
    assert found
    worst = found[0]
    assert worst.subject.startswith("port 9080 for")  # Its requests wait inside it for a connection to the database.
    assert worst.grounds["held_up"] == "web"
    assert "Behind it, port 9080" in worst.sentence
    assert "web itself took" in worst.sentence
    told = document(analysis)
    assert not any(c["subject"].startswith("203.0.113.") for c in told["cleared"])
    assert any("Behind it" in c["verdict"]["sentence"] for c in told["connections"])


def test_what_was_spent_adds_up(analysis):
    rows = np.arange(analysis.account.exchange.shape[0])
    spent = spent_by(analysis, rows)
    server = analysis.account.exchange_charges[:, causes.party_columns(causes.SERVER)].sum()
    assert spent.total_ns == pytest.approx(float(server), rel=1e-9)


def test_an_exchange_leads_to_those_in_front_of_it_and_behind_it(analysis):
    evidence = Evidence(analysis)
    front = int(analysis.behind.front[analysis.behind.named][0])
    row = int(np.flatnonzero(evidence.waits.exchange == front)[0])
    behind = [one for one in neighbours(evidence, row) if one.words.startswith("Behind it")]
    assert behind
    call = next(x for x, owner in analysis.behind.in_front.items() if owner == front)
    back = neighbours(evidence, int(np.flatnonzero(evidence.waits.exchange == call)[0]))
    assert back[0].words.startswith("In front of it")
    assert back[0].first_ns == evidence.waits.first_ns[row]
    assert "Of the server's" in behind_words(evidence, np.array([row]))
    assert "their own" in behind_words(evidence, np.array([row, row + 1]))


def test_a_server_opens_into_what_it_waited_for_and_that_into_who_asked(analysis):
    evidence = Evidence(analysis)
    every = np.arange(evidence.waits.connection.size)
    application = next(g for g in groups(evidence, every, ()) if g.label.startswith("www"))
    server = next(iter(groups(evidence, application.rows, application.trail)))
    beside = [g for g in groups(evidence, server.rows, server.trail) if g.beside]
    assert [g.label for g in beside] == ["behind it: app"]
    exchanges = evidence.waits.exchange[server.rows]
    spent = spent_by(analysis, exchanges)
    assert beside[0].wait_ns == pytest.approx(spent.total_ns - spent.own_ns, abs=100)
    assert beside[0].charges[causes.party_columns(causes.CLIENT)].sum() == 0
    client = next(g for g in groups(evidence, beside[0].rows, beside[0].trail) if not g.beside)
    back = [g for g in groups(evidence, client.rows, client.trail) if g.beside]
    assert back[0].label.startswith("in front of it: www")
    assert set(back[0].rows.tolist()) <= set(server.rows.tolist())
    assert back[0].wait_ns == pytest.approx(beside[0].wait_ns, rel=0.05)


def test_the_tiers_of_an_exchange_stand_below_those_in_front_of_them(analysis):
    evidence, behind = Evidence(analysis), analysis.behind
    deep = max(behind.in_front, key=lambda x: len(_fronts(behind.in_front, x)))
    picture = tiers_of_exchange(evidence, deep)
    assert evidence.waits.exchange[picture.tiers[0].wait] == foremost(evidence, deep)
    assert {picture.tiers[0].depth, max(t.depth for t in picture.tiers)} == {0, len(_fronts(behind.in_front, deep))}
    for place, tier in enumerate(picture.tiers[1:], 1):
        assert tier.front < place
        assert picture.tiers[tier.front].depth == tier.depth - 1
        assert tier.first_ns <= tier.server_begin_ns <= tier.server_end_ns <= tier.last_ns
    assert all(one.end_ns == two.begin_ns for one, two in pairwise(picture.path))
    first = picture.tiers[0]
    assert (picture.path[0].begin_ns, picture.path[-1].end_ns) == (first.server_begin_ns, first.server_end_ns)
    assert deep in tiered_exchanges(evidence, int(analysis.account.of_exchange("connection")[deep]))


def _fronts(in_front, x):
    found = []
    while (x := in_front.get(x)) is not None:
        found.append(x)
    return found


def test_a_case_keeps_what_lies_behind(analysis, tmp_path):
    save_case(tmp_path / "a.yaffle", analysis, {})
    again, _ = open_case(tmp_path / "a.yaffle")
    assert np.array_equal(again.behind.call, analysis.behind.call)
    assert np.array_equal(again.behind.parts.ns, analysis.behind.parts.ns)


def test_a_case_whose_links_point_outside_is_damaged(analysis, tmp_path):
    wrong = replace(analysis, behind=replace(analysis.behind, call=analysis.behind.call + 10**6))
    save_case(tmp_path / "a.yaffle", wrong, {})
    with pytest.raises(CaseError, match="outside"):
        open_case(tmp_path / "a.yaffle")


def test_the_filter_finds_what_waited_for_a_request_and_what_a_request_asked_for(analysis):
    evidence, behind = Evidence(analysis), analysis.behind
    asks = Filter(evidence)
    in_front = asks.rows("in_front <> ''")
    assert in_front.sum() == len(behind.in_front)
    waits = evidence.waits
    statement = next(
        evidence.label(row) for row in np.flatnonzero(in_front) if evidence.label(row).startswith("select")
    )
    fronts = np.flatnonzero(asks.rows(only("longest_behind", statement)))
    assert fronts.size
    for row in fronts.tolist():
        calls = behind.call[behind.links_of(int(waits.exchange[row]))]
        assert statement in {evidence.label(int(evidence.wait_of_exchange[call])) for call in calls.tolist()}


def test_the_report_lists_who_waited_for_whom(analysis):
    page = render(analysis)
    assert "Servers that waited for servers" in page
    table = page[page.index("waited for</th>") : page.index("Delay by cause")]
    assert table.index(":9080)") < table.index(":5432)")
    assert "Servers that waited" not in render(replace(analysis, behind=nothing_behind()))


def test_what_lies_behind_others_however_deep_is_what_following_the_fronts_finds(analysis):
    behind, every = analysis.behind, np.arange(analysis.account.exchange.shape[0])
    fronts = every[::3]
    expected = []
    for row in every.tolist():
        found, passed = False, set()
        while (row := behind.in_front.get(row, -1)) >= 0 and row not in passed:
            passed.add(row)
            found = found or row % 3 == 0
        expected.append(found)
    assert sum(expected) > 10
    np.testing.assert_array_equal(behind.lie_behind(every, fronts), expected)
    assert not behind.lie_behind(every, every[:0]).any()
