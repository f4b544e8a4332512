"""A capture of export traffic in the window: who told what, and what fills the line."""

from pathlib import Path

from tests.desktop.test_examine import load, settle, window  # noqa: F401  (the fixture)
from yaffle.findings.flow_labels import DIMENSIONS

_DATA = Path(__file__).parents[1] / "data" / "flows"


def test_exporters_stand_in_gather_and_their_volume_in_survey(window, qtbot):  # noqa: F811
    load(window, qtbot, [_DATA / "routers-v9.pcap.gz"])
    window.go(0)
    rows = [
        [window.gather.exporter_model.index(r, c).data() for c in range(8)]
        for r in range(window.gather.exporter_model.rowCount())
    ]
    assert len(rows) == 4
    assert any(row[5] == "scaled by 50" for row in rows)
    assert any(row[4].startswith("about") for row in rows)
    window.go(1)
    window.survey.parts.setCurrentIndex(2)
    settle(window, qtbot)
    panel = window.survey.flows
    assert panel.exporter.count() == 5
    assert panel.exporter.itemText(4).startswith("packets at")
    assert panel.model.rowCount() >= 3
    panel.by.setCurrentIndex(DIMENSIONS.index("DSCP"))
    panel.by.activated.emit(panel.by.currentIndex())
    settle(window, qtbot)
    assert panel.picture.settings.by == "DSCP"
    assert sum(p.share for p in panel.picture.parts) > 0.999
    panel.exporter.setCurrentIndex(3)
    panel.exporter.activated.emit(3)
    settle(window, qtbot)
    assert panel.picture.exporter == panel.exporter.currentData()


def test_without_flow_records_the_page_says_what_to_open(window, qtbot):  # noqa: F811
    load(window, qtbot, [_DATA.parent / "services" / "clocks.pcap.gz"])
    window.go(1)
    settle(window, qtbot)
    assert "NetFlow" in window.survey.flows.words.text()
    assert window.gather.exporters.isHidden()
