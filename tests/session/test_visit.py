"""Visits: real page loads with a slow look-up or server in them, and made-up chains whose savings are known by hand."""

import gzip
import json
from pathlib import Path

import numpy as np
import pytest

from yaffle.analysis import analyse
from yaffle.ledger import causes
from yaffle.session.investigation import Opened
from yaffle.session.visit import Step, Visits, _chain, _saved, _starts, _triggers

_CORPUS = Path(__file__).parents[3] / "shared" / "corpus" / "services" / "page-load"
_OWN = Path(__file__).parents[1] / "data" / "services"
MS = 1_000_000


def step(first, last, connection=0, slow=0, answering=None):
    charges = np.zeros(causes.COUNT, np.int64)
    charges[causes.ROUND_TRIP], charges[causes.PROCESSING] = (last - first - slow) * MS, slow * MS
    return Step(
        "x",
        "200",
        connection,
        first * MS,
        (answering or last) * MS,
        last * MS,
        0,
        charges,
        wait=0,
        connection=connection,
    )


def test_mending_moves_what_follows():
    # A page of 100, then two side by side: 50 and 300 (of which 200 are the server's), then one of 40 after the longer.
    steps = [step(0, 100), step(101, 150, 1), step(101, 400, 2, slow=200), step(402, 440, 2)]
    follows = _triggers(steps)
    assert follows == [-1, 0, 0, 2]
    assert _chain(steps, follows) == (0, 2, 3)
    assert [_saved(steps, follows, k) / MS for k in range(4)] == [0, 0, 200, 0]


def test_mending_saves_no_more_than_the_next_slowest_allows():
    steps = [step(0, 100), step(101, 380, 1), step(101, 400, 2, slow=200)]
    assert _saved(steps, _triggers(steps), 2) / MS == 20


def test_what_begins_while_the_page_still_comes_follows_the_begin_of_its_answer():
    steps = [step(0, 500, 0, slow=100, answering=200), step(210, 300, 1)]
    assert _triggers(steps) == [-1, 0]


def test_a_pause_parts_two_visits():
    first = np.array([0, 10, 1300, 1310]) * MS
    last = np.array([200, 100, 1400, 1500]) * MS
    assert _starts(first, last).tolist() == [0, 2]
    assert _starts(first[:0], last[:0]).size == 0


def test_page_loads_are_told_whole_with_what_was_slowest():
    if _CORPUS.is_dir():
        truth, capture = json.loads((_CORPUS / "truth.json").read_text()), _CORPUS / "near_client.pcap"
    else:
        truth, capture = (
            json.loads(gzip.decompress((_OWN / "page-load.json.gz").read_bytes())),
            _OWN / "page-load.pcap.gz",
        )
    evidence = Opened(analyse([capture])).evidence
    for page in truth["pages"]:
        visits = Visits.of(evidence, page["client"])
        assert len(visits) == 1
        visit = visits.visit(0)
        assert visit.span_ns / MS == pytest.approx(page["total_ms"], abs=0.02 * page["total_ms"] + 5)
        assert len([s for s in visit.steps if s.wait >= 0]) == 1 + len(page["objects"])
        assert len(visit.lanes) == 1 + len(page["connections"])
        first = visit.steps[visit.chain[0]]
        name_ms = (first.charges[causes.NAME] + first.charges[causes.SERVER_NAME]) / MS
        assert name_ms == pytest.approx(page["dns_ms"], abs=2)
        if page["slowest"] == "dns":
            assert visit.to_mend[0] == visit.chain[0]
            told = len(truth["pages"]) >= 3  # Fewer answers do not tell how far the name server is.
            assert first.dearest == (causes.SERVER if told else causes.NETWORK, "name")
            assert first.saved_ns / MS == pytest.approx(page["dns_ms"], abs=0.1 * page["dns_ms"])
