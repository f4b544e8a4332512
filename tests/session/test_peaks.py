"""The highest hours with what made them."""

import numpy as np

from tests.history.two_weeks import LONG_DAY, START
from yaffle.analysis import analyse
from yaffle.history.layout import DAY_NS, HOUR_NS
from yaffle.session.baselines import FLOW_VOLUME, Subject
from yaffle.session.investigation import Investigation, Opened
from yaffle.session.kept import Complaint
from yaffle.session.peaks import highest, peaks

VOLUME = Subject(FLOW_VOLUME)


def test_peaks_stand_out_of_what_surrounds_them():
    assert highest(np.array([1.0, 5, 2, 2, 9, 9, 8.5, 0, 3]), 9) == [4, 1, 8]
    assert highest(np.zeros(4), 3) == []
    assert highest(np.array([4.0, 0, 6, 0, 5]), 2) == [2, 4]


def test_peaks_say_who_made_them_and_which_complaints_came_then(two_weeks):
    model = Investigation()
    model.open(Opened(analyse([two_weeks])))
    morning = START + LONG_DAY * DAY_NS + 7 * HOUR_NS
    found = peaks(model.scene, (Complaint("Saltmarsh", "tickets", "slow", morning, morning + HOUR_NS),), VOLUME)
    assert {p.pair for p in found[:14]} == {"198.51.100.180 to 203.0.113.35"}
    assert {p.at for p in found} == {"203.0.113.9, domain 1, ipfix"}
    assert len({p.first_ns // DAY_NS for p in found[:14]}) == 14  # One a night.
    assert found[0].pair_share > 0.9
    assert any(p.complaints for p in found if p.first_ns // DAY_NS == morning // DAY_NS)
    assert not any(p.complaints for p in found if p.first_ns // DAY_NS != morning // DAY_NS)


def test_peaks_of_a_span_lie_in_it_and_are_its_highest(two_weeks):
    model = Investigation()
    model.open(Opened(analyse([two_weeks])))
    span = (START + 3 * DAY_NS, START + 5 * DAY_NS)
    found = peaks(model.scene, (), VOLUME, span)
    assert found and all(span[0] <= one.first_ns and one.last_ns <= span[1] for one in found)
    inside = [one for one in peaks(model.scene, (), VOLUME) if span[0] <= one.first_ns < span[1]]
    assert found[0].value == inside[0].value


def test_without_flow_records_there_are_none(tmp_path):
    (tmp_path / "c.csv").write_text("device,interface,time\nsw1,1,2026-11-17T08:00:00Z\nsw1,1,2026-11-17T09:00:00Z\n")
    model = Investigation()
    model.open(Opened(analyse([tmp_path / "c.csv"])))
    assert peaks(model.scene, (), VOLUME) == []
