"""Baselines of what packets tell: every measure of every group is there, and latencies are those of their group."""

from pathlib import Path

import numpy as np
import pytest

from yaffle.analysis import analyse
from yaffle.session.baselines import (
    WIDTHS,
    NormalSettings,
    Subject,
    dimensions_of,
    groups_of,
    measured,
    measures_of,
    normal,
)
from yaffle.session.investigation import Investigation, Opened
from yaffle.session.measures import COUNTED, LATENCIES

_DATA = Path(__file__).parents[1] / "data" / "services"


@pytest.fixture(scope="module")
def model():
    model = Investigation()
    model.open(Opened(analyse([_DATA / "page-load.pcap.gz", _DATA / "leases-own.pcap.gz"])))
    return model


@pytest.mark.parametrize("measure", list(COUNTED))
def test_every_measure_of_every_dimension_has_a_picture(model, measure):
    assert measure in measures_of(model.scene)
    for by in dimensions_of(measure):
        found = normal(model.scene, NormalSettings(Subject(measure, by), WIDTHS["1 s"]))
        assert found.values.size == found.baseline.expected.size
        assert bool(by) == bool(found.settings.subject.label) or not found.groups


def test_look_ups_are_measured_by_who_asked(model):
    rows = [
        one
        for one in model.evidence.analysis.lookups.rows
        if one.protocol in LATENCIES["DNS response time"] and one.latency_ns >= 0
    ]
    client = rows[0].client
    subject, evidence = Subject("DNS response time", "client", client), model.evidence
    assert client in groups_of(model.scene, subject)
    own = sorted(one.latency_ns / 1e9 for one in rows if one.client == client)
    assert measured(model.scene, subject, np.array([evidence.first_ns, evidence.last_ns + 1])).tolist() == [
        own[len(own) // 2]
    ]
    assert 0 < len(own) < len(rows) or len({one.client for one in rows}) == 1
