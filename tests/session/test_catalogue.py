"""Every measure of the catalogue over time: readings, counters, what kernels measured of connections."""

from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest

from tests.findings.test_host_readings import rows
from yaffle.analysis import analyse
from yaffle.desktop.survey.measures_dialog import MeasuresDialog
from yaffle.history.layout import READINGS
from yaffle.history.writer import HistoryWriter
from yaffle.records import catalogue_page
from yaffle.records.catalogue import CATALOGUE, OF_READINGS
from yaffle.records.counter_table import COUNTER, Counters, unknown_counters
from yaffle.records.flow_table import SOCKETS, Exporter, FlowRecords, empty_flows
from yaffle.session.baselines import Subject, dimensions_of, groups_of, measured, measures_of
from yaffle.session.catalogue_values import BY_TITLE, THING, choices, titles
from yaffle.session.investigation import Investigation, Opened
from yaffle.session.kept import Complaint
from yaffle.session.measures import Measure, edges, values
from yaffle.session.peaks import peaks
from yaffle.session.survey import SurveySettings, survey

S = 10**9
HOUR = 3600 * S
START = 1_790_000_000 // 3600 * HOUR


@pytest.fixture
def scene(tmp_path):
    """Four hours of a host: load, a total, counters of one interface, and records of its sockets."""
    writer = HistoryWriter(tmp_path / "history", settle=False)
    told = []
    for minute in range(240):
        at = START + minute * 60 * S
        told.append((at, "pier-office", "", "memory available", 1e9 * (1 + minute // 60), "bytes"))
        told.append((at, "pier-office", "cpu0", "cpu user", 60.0 * 0.25 * minute, "s"))
        told.append((at, "pier-office", "", "tcp timeouts", 120.0 * minute if minute < 200 else 0.0, "timeouts"))
    writer.append_rows(READINGS, rows(*told))
    counters = np.concatenate([unknown_counters(1) for _ in range(240)])
    counters["time_ns"] = START + np.arange(240) * 60 * S
    counters["interface"], counters["speed_bps"] = 2, 10**9
    counters["in_octets"], counters["in_errors"] = np.arange(240) * 60 * 1000, np.arange(240) * 60 * 2
    assert counters.dtype == COUNTER
    flows = empty_flows(240)
    flows["protocol"], flows["transport"], flows["dst_port"] = SOCKETS, 6, 443
    flows["src_lo"], flows["dst_lo"] = 0xC0000201, 0xC6336407
    flows["first_ns"] = START + np.arange(240) * 60 * S
    flows["last_ns"] = flows["arrived_ns"] = flows["first_ns"] + 50 * S
    flows["packets"], flows["octets"], flows["retransmissions"], flows["timeouts"] = 100, 100_000, 3, 1
    flows["busy_ns"], flows["receiver_limited_ns"], flows["sender_limited_ns"] = 10 * S, 4 * S, S
    flows["round_trip_ns"], flows["floor_ns"] = 30_000_000, 10_000_000
    writer.append(
        FlowRecords(
            flows,
            [Exporter("pier-office", 0, SOCKETS, flow_records=240)],
            counters=Counters(devices=["pier-office"], names={(0, 2): "eth0"}, rows=counters),
        )
    )
    writer.close()
    model = Investigation()
    model.open(Opened(analyse([tmp_path / "history"])))
    return model.scene


EDGES = START + np.arange(5, dtype=np.int64) * HOUR


@pytest.mark.parametrize(
    ("title", "by", "label", "values"),
    [
        ("memory available", THING, "pier-office", [1e9, 2e9, 3e9, 4e9]),
        ("cpu user", THING, "pier-office cpu0", [25, 25, 25, 25]),
        (
            "tcp timeouts",
            THING,
            "pier-office",
            [2, 2, 2, 40 / 59],
        ),  # Begun anew within the last hour: that step is left out.
        ("in octets of interfaces", "interface", "pier-office eth0", [8000, 8000, 8000, 8000]),
        ("in errors of interfaces", "interface", "pier-office eth0", [2, 2, 2, 2]),
        ("retransmission rate of flow records", "", "", [3, 3, 3, 3]),
        ("timeouts of flow records", "host", "192.0.2.1", [60, 60, 60, 60]),
        ("receive-window-limited time of flow records", "", "", [40, 40, 40, 40]),
        ("send-buffer-limited time of flow records", "", "", [10, 10, 10, 10]),
        ("RTT of flow records", "", "", [30, 30, 30, 30]),
        ("minimum RTT of flow records", "", "", [10, 10, 10, 10]),
    ],
)
def test_values_over_time(scene, title, by, label, values):
    subject = Subject(title, by, label)
    assert title in measures_of(scene) and by in dimensions_of(title)
    if by:
        assert label in groups_of(scene, subject)
    found = measured(scene, subject, EDGES)
    assert found == pytest.approx(values, rel=0.02)


def test_only_what_is_there_is_offered(scene, tmp_path):
    assert "udp no ports" not in titles(scene.evidence.analysis)
    assert np.isnan(measured(scene, Subject("memory available", THING, "nobody"), EDGES)).all()


def test_peaks_of_any_measure_stand_with_complaints(scene):
    complaint = Complaint("Northpoint", "pages", "slow", START + 3 * HOUR, START + 3 * HOUR + 60 * S)
    found = peaks(scene, (complaint,), Subject("memory available", THING, "pier-office"))
    assert (found[0].at, found[0].value, found[0].unit) == ("pier-office", pytest.approx(4e9), "bytes")
    assert found[0].complaints == (complaint,) and found[0].pair == ""


def test_every_measure_has_a_unit_or_says_what_its_numbers_mean():
    assert set(OF_READINGS) <= set(CATALOGUE)
    for name, entry in CATALOGUE.items():
        assert entry.name == name and entry.words and entry.groups and entry.table
    assert len({title for title in BY_TITLE}) == len(BY_TITLE)
    assert pa.array([entry.unit for entry in CATALOGUE.values()]).null_count == 0


def test_survey_draws_them_in_intervals_of_any_length(scene):
    edge_ns = edges(START + 7 * 60 * S, START + 127 * 60 * S, 0)
    for title, of, value in (
        ("cpu user", "pier-office cpu0", 25),
        ("in octets of interfaces", "pier-office eth0", 8000),
    ):
        measure = Measure("", title, of=of)
        found = values(scene, measure, edge_ns)
        assert found.size == edge_ns.size - 1 and np.nanmean(found) == pytest.approx(value, rel=0.02)
        assert Measure.from_json(measure.as_json()).of == of
        assert measure.is_kept and measure.unit == BY_TITLE[title].unit
    assert choices(scene.evidence.analysis)["cpu user"] == ["pier-office cpu0"]
    assert choices(scene.evidence.analysis)["in octets of interfaces"] == ["pier-office eth0"]
    picture = survey(
        scene, SurveySettings((Measure("load", "cpu user", of="pier-office cpu0"),), 0, "application", (), 0.0)
    )
    assert [line[0].name for line in picture.lines] == ["load"] and not picture.errors


def test_the_dialog_says_of_what(scene, qtbot):
    dialog = MeasuresDialog((Measure("mine", "volume"),), None, None, choices(scene.evidence.analysis))
    qtbot.addWidget(dialog)
    dialog.table.cellWidget(0, 1).setCurrentText("cpu user")
    assert dialog.table.cellWidget(0, 2).text() == "pier-office cpu0" and dialog.table.item(0, 4).text() == "%"
    dialog.table.cellWidget(0, 2).setText("nobody")
    dialog.accept()
    assert "choose an object, one of pier-office cpu0" in dialog._wrong.text()
    dialog.table.cellWidget(0, 2).setText("pier-office cpu0")
    dialog.accept()
    assert dialog.measures == (Measure("mine", "cpu user", of="pier-office cpu0"),)


def test_the_page_of_measures_is_that_of_the_catalogue():
    written = Path(__file__).parents[2] / "docs" / "catalogue.md"
    assert written.read_text() == catalogue_page.page()
