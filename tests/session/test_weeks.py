"""With flow records and counters alone: the full line, what filled it, since when, and whom it hurt."""

from dataclasses import replace

import numpy as np
import pytest

from tests.history.two_weeks import LINE_BPS, LONG_DAY, ROUTER, START
from yaffle.analysis import analyse
from yaffle.errors import YaffleError
from yaffle.findings.flow_labels import DIMENSIONS, REST, FlowLabels
from yaffle.findings.flow_source import held_flows
from yaffle.findings.full_links import interface_findings
from yaffle.findings.interfaces import interfaces, through
from yaffle.history.layout import DAY_NS, HOUR_NS
from yaffle.inventory.places import Rule, Site
from yaffle.session.baselines import EVERYTHING, FLOW_VOLUME, OUT, NormalSettings, Subject, measures_of, normal
from yaffle.session.comparing import CompareSettings, compared
from yaffle.session.exports import write_flows
from yaffle.session.flow_parts import FlowSettings, flow_picture
from yaffle.session.investigation import Investigation, Opened
from yaffle.session.kept import Kept
from yaffle.session.survey import SurveySettings, survey

NIGHT = (START + LONG_DAY * DAY_NS, START + LONG_DAY * DAY_NS + 12 * HOUR_NS)


@pytest.fixture
def folder(two_weeks):
    return two_weeks


@pytest.fixture
def model(folder):
    analysis = analyse([folder])
    kept = Kept(
        rules=(Rule("archive copy", "203.0.113.35", 873),),
        sites=(Site("Saltmarsh", "198.51.100.128/26"), Site("centre", "203.0.113.0/26")),
    )
    model = Investigation()
    model.open(Opened(analysis, memory=kept.as_json()))
    return model


def test_the_full_line_is_found_with_what_filled_it_and_whom_it_hurt(model):
    (found,) = model.findings
    assert (found.cause, found.party, found.severity) == ("full-line", "network", "critical")
    assert found.sentence.startswith(
        f"Line of {ROUTER} had outbound utilization above 80 % of 10.0 Mbit/s on 14 days, worst from 2026-10-07 00:59"
        " for 8 h"
    )
    assert "100 % of it was 198.51.100.180 to 203.0.113.35, 100 % archive copy" in found.sentence
    assert found.grounds["days"] == 14
    model.follow(found)
    assert model.focus.period[0] <= START + LONG_DAY * DAY_NS + HOUR_NS <= model.focus.period[1]


def test_interfaces_stand_fullest_first_with_the_stretch(model):
    (line,) = interfaces(model.evidence.analysis, *NIGHT).rows
    assert (line.device, line.name, line.speed_bps, line.direction) == (ROUTER, "line", LINE_BPS, "outbound")
    assert line.utilization == pytest.approx(0.95, rel=1e-3)
    assert line.full_period == pytest.approx(
        (START + LONG_DAY * DAY_NS + HOUR_NS, START + LONG_DAY * DAY_NS + 9 * HOUR_NS), abs=10**9
    )
    exporter, inside = through(model.evidence.analysis, line)
    found = flow_picture(model.evidence, *line.full_period, FlowSettings("application", exporter, inside))
    assert [p.label for p in found.parts] == ["archive copy"]
    assert found.words == "single records"


@pytest.mark.parametrize("by", DIMENSIONS)
def test_every_level_adds_up_by_every_dimension(model, by):
    history = model.evidence.analysis.history
    whole = flow_picture(model.evidence, *NIGHT, FlowSettings(by))
    assert sum(p.octets for p in whole.parts) == pytest.approx(whole.octets)
    first = whole.parts[0].label
    inside = flow_picture(model.evidence, *NIGHT, FlowSettings("protocol", whole.exporter, ((by, first),)))
    assert inside.octets == pytest.approx(whole.parts[0].octets)
    assert REST not in [p.label for p in whole.parts]
    assert history.rows(*NIGHT).words == "single records"


def test_sites_and_pairs_of_sites(model):
    found = flow_picture(model.evidence, *NIGHT, FlowSettings("site pair"))
    assert {p.label for p in found.parts} == {"Saltmarsh to centre", "centre to Saltmarsh"}


def test_what_is_normal_and_what_is_not(model):
    scene = model.scene
    assert measures_of(scene)[:3] == [FLOW_VOLUME, "inbound utilization", OUT]
    found = normal(scene, NormalSettings(Subject(OUT, "interface")))
    assert found.groups == [f"{ROUTER} line"]
    assert found.settings.subject.label == f"{ROUTER} line"
    long = next(found.period(run) for run in found.anomalies if run.side > 0)
    assert long == (START + LONG_DAY * DAY_NS + 3 * HOUR_NS, START + LONG_DAY * DAY_NS + 9 * HOUR_NS)
    everything = normal(scene, NormalSettings(Subject(FLOW_VOLUME)))
    assert everything.settings.subject.words == f"{FLOW_VOLUME}, {EVERYTHING}"
    assert np.nansum(everything.values) * 900 / 8 == pytest.approx(model.opened.overview.octets.sum(), rel=0.01)
    host = normal(scene, NormalSettings(Subject(FLOW_VOLUME, "host", "198.51.100.180"), 3600 * 10**9))
    assert np.nanmax(host.values) == pytest.approx(LINE_BPS * 0.95, rel=1e-3)


def test_two_mornings_side_by_side_with_extent(model):
    morning = 5 * HOUR_NS, 9 * HOUR_NS
    before, after = (tuple(START + day * DAY_NS + h for h in morning) for day in (LONG_DAY - 7, LONG_DAY))
    found = compared(
        model.scene,
        CompareSettings(Subject(FLOW_VOLUME, "interface out", "out of line"), (before,), (after,), 300 * 10**9),
    )
    assert found.comparison.sure
    first = {g.dimension: g for g in found.extent[::-1]}
    assert (first["application"].label, first["application"].words) == ("archive copy", "new")
    assert first["host"].label == "198.51.100.180"
    assert first["application"].separates > 0.9
    unchanged = next(g for g in found.extent if g.label == "centre to Saltmarsh")
    assert unchanged.words == "unchanged"
    trimmed = compared(model.scene, CompareSettings(Subject(FLOW_VOLUME), (before,), (after,), 300 * 10**9, trim=True))
    assert trimmed.comparison.counts == (46, 46)


def test_sets_of_runs_and_two_groups(model):
    runs = [
        tuple((START + day * DAY_NS + 4 * HOUR_NS, START + day * DAY_NS + 8 * HOUR_NS) for day in days)
        for days in ((1, 2, 3, 4), (7, 8, LONG_DAY, 10))
    ]
    found = compared(model.scene, CompareSettings(Subject(FLOW_VOLUME), *runs, 300 * 10**9, trim=True))
    assert (found.settings.runs, found.before.size, found.comparison.counts) == (True, 4, (2, 2))
    assert np.nanmax(found.after) > 8e6 > np.nanmax(found.before)
    assert {g.dimension: g for g in found.extent[::-1]}["application"].label == "archive copy"
    groups = Subject(FLOW_VOLUME, "host", "198.51.100.180"), Subject(FLOW_VOLUME, "host", "203.0.113.22")
    night = ((START + LONG_DAY * DAY_NS + 2 * HOUR_NS, START + LONG_DAY * DAY_NS + 8 * HOUR_NS),)
    other = compared(model.scene, CompareSettings(groups[0], night, night, 900 * 10**9, other=groups[1]))
    assert other.comparison.medians[0] > 100 * other.comparison.medians[1]
    assert other.extent == []


def test_flow_records_of_a_period_go_out_and_come_back(model, tmp_path):
    model.look(model.focus.with_period(NIGHT))
    number = write_flows(model.scene, tmp_path / "out.ipfix")
    again = analyse([tmp_path / "out.ipfix"]).flows
    assert again.rows.size == number > 100
    assert write_flows(model.scene, tmp_path / "out.csv") == number
    assert (tmp_path / "out.csv").read_text().splitlines()[0].startswith('"exporter","src","dst"')


def test_a_survey_of_a_history_has_interfaces_and_flows_only_when_asked(model):
    settings = SurveySettings(model.kept.measures, 0, "application", (), 0.0)
    assert survey(model.scene, settings).flows is None
    assert len(survey(model.scene, settings).interfaces.rows) == 1


def test_two_histories_at_once_and_nothing_are_refused(folder):
    with pytest.raises(YaffleError, match="only one history"):
        analyse([folder, folder])
    with pytest.raises(YaffleError, match="no file"):
        analyse([])


def test_a_case_finds_its_history_again(model, tmp_path):
    model.keep(model.kept, "nothing")
    model.save(tmp_path / "kept.yaffle")
    from yaffle.session.investigation import open_folder

    again = open_folder(tmp_path / "kept.yaffle")
    assert again.analysis.history is not None
    assert (again.evidence.first_ns, again.evidence.last_ns) == (model.evidence.first_ns, model.evidence.last_ns)


def test_a_case_opens_without_its_history_and_says_so(model, tmp_path):
    import shutil

    from yaffle.case.folder import open_case, save_case

    moved = tmp_path / "history"
    shutil.copytree(model.evidence.analysis.history.folder, moved)
    save_case(tmp_path / "kept.yaffle", analyse([moved]), {})
    shutil.rmtree(moved)
    again, _ = open_case(tmp_path / "kept.yaffle")
    assert again.history is None
    assert any("cannot be had" in note for note in again.capture.sources[0].notes)


def test_applications_of_any_number_and_names_of_hosts_do_no_harm(model):
    analysis = model.evidence.analysis
    named = {"198.51.100.144": "desk1.saltmarsh.tarn.example"}
    analysis = replace(analysis, capture=replace(analysis.capture, names=named))
    assert interface_findings(analysis)[0].grounds["sites_hurt"] == []
    rows = held_flows(analysis, *NIGHT).rows.copy()
    rows["application"][::2] = (1 << 62) + 5
    labels = FlowLabels(held_flows(analysis, *NIGHT), rows, analysis.places).by("application")
    assert f"application {(1 << 62) + 5}" in labels.texts
