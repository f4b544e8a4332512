"""Flow records by any dimension: sums are those of plain arithmetic, over any period, and one exporter stands for a
path.
"""

import numpy as np
import pytest

from tests.records.messages import a_set, ipfix, template
from tests.records.test_intake import FIELDS, NOW, S, record
from yaffle.analysis import analyse
from yaffle.findings.flow_labels import DIMENSIONS
from yaffle.records.flow_table import Exporter, FlowRecords, empty_flows
from yaffle.session.flow_parts import BINS, FlowSettings, flow_picture
from yaffle.session.investigation import Opened


@pytest.fixture
def evidence(tmp_path):
    path = tmp_path / "kept.ipfix"
    flows = [
        record(10, 1000, NOW // 10**6 - 5000),
        record(20, 3000, NOW // 10**6 - 4000),
        record(30, 6000, NOW // 10**6 - 2500),
    ]
    path.write_bytes(ipfix([template(300, FIELDS), a_set(300, b"".join(flows))]))
    return Opened(analyse([path])).evidence


@pytest.mark.parametrize("by", DIMENSIONS)
def test_every_dimension_adds_up(evidence, by):
    found = flow_picture(evidence, NOW - 10 * S, NOW, FlowSettings(by))
    assert sum(p.octets for p in found.parts) == pytest.approx(10_000) == found.octets
    assert sum(p.packets for p in found.parts) == pytest.approx(60)
    assert sum(p.share for p in found.parts) == pytest.approx(1)
    assert sum(float(p.trend.sum()) for p in found.parts) == pytest.approx(10_000)
    assert (found.bits_per_s * np.diff(found.edges_ns) / 8e9).sum() == pytest.approx(10_000, rel=1e-6)
    assert found.records == 3


def test_a_period_takes_its_part_of_a_record(evidence):
    found = flow_picture(
        evidence, NOW - 4500 * S // 1000, NOW - 3500 * S // 1000, FlowSettings("host")
    )  # Half of the first, half of the second.
    assert found.octets == pytest.approx(500 + 1500)
    [one] = found.parts
    assert (one.label, one.records) == ("198.51.100.1", 2)


def test_of_several_exporters_one_is_shown(evidence):
    rows = np.concatenate([evidence.analysis.flows.rows, empty_flows(1)])
    rows[-1]["exporter"], rows[-1]["octets"], rows[-1]["packets"], rows[-1]["first_ns"], rows[-1]["last_ns"] = (
        1,
        500,
        5,
        NOW - 2 * S,
        NOW - S,
    )
    first = evidence.analysis.flows.exporters[0]
    evidence.analysis.flows = FlowRecords(rows, [first, Exporter("192.0.2.9", 0, 1, flow_records=1)])
    found = flow_picture(evidence, NOW - 10 * S, NOW, FlowSettings("port"))
    assert (found.exporter, found.octets) == (0, pytest.approx(10_000))
    assert flow_picture(evidence, NOW - 10 * S, NOW, FlowSettings("port", 1)).octets == pytest.approx(500)
    assert flow_picture(evidence, NOW - 10 * S, NOW, FlowSettings("port", 7)).exporter == 0


def test_without_records_there_is_an_empty_picture(evidence):
    evidence.analysis.flows = FlowRecords()
    found = flow_picture(evidence, 0, S, FlowSettings("host"))
    assert (found.exporter, found.parts, found.bits_per_s.size) == (-1, [], BINS)


def test_what_the_exporter_measured_is_told_by_label(evidence):
    flows = evidence.analysis.flows
    flows.own = {0: {"dropped_packets": 2, "32473/7": "word"}, 1: {"dropped_packets": 6}}
    found = flow_picture(evidence, NOW - 10 * S, NOW, FlowSettings("host"))
    assert found.parts[0].measured == "dropped_packets 4 (most 6), 32473/7 word"
    assert flow_picture(evidence, NOW - 10 * S, NOW, FlowSettings("host", inside=(("host", "nobody"),))).parts == []
