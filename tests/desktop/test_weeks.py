"""Two weeks of flow records in the window: from the finding to the interface, the application, the pair; baseline,
periods, ticket, sites, live.
"""

import socket
import time

import pytest
from PySide6.QtWidgets import QApplication

from tests.desktop.test_examine import load, settle, window  # noqa: F401  (the fixture)
from tests.history.test_reception import FIELDS, RECORD
from tests.history.two_weeks import LONG_DAY, ROUTER, START
from tests.ports import free_port
from tests.records.messages import a_set, ipfix, template
from yaffle.desktop.survey.station import FLOWS, INTERFACES
from yaffle.desktop.window.receiving import ReceiveDialog
from yaffle.desktop.window.sites_dialog import SitesDialog
from yaffle.desktop.window.station_rail import COMPARE
from yaffle.desktop.window.ticket_dialog import TicketDialog
from yaffle.history.layout import DAY_NS, HOUR_NS
from yaffle.inventory.places import Site
from yaffle.session.baselines import FLOW_VOLUME, OUT


@pytest.fixture
def folder(two_weeks):
    return two_weeks


def texts(model):
    return [[str(model.index(r, c).data()) for c in range(model.columnCount())] for r in range(model.rowCount())]


def test_from_the_finding_to_the_pair(window, qtbot, folder):  # noqa: F811
    load(window, qtbot, [folder])
    window.go(0)
    assert "flow records" in window.status_words.text()
    assert texts(window.gather.table_model)[0][2] == "history"
    window.follow_first()
    settle(window, qtbot)
    survey = window.survey
    assert survey.parts.currentIndex() == INTERFACES
    assert "1 above 80 % utilization" in survey.interfaces.words.text()
    assert texts(survey.interfaces.model)[0][4] == "outbound 95 %"
    survey.interfaces.table.entered.emit(0)
    settle(window, qtbot)
    assert survey.parts.currentIndex() == FLOWS
    assert "out of line" in survey.flows._where.text()
    assert [row[0] for row in texts(survey.flows.model)] == ["port 873"]
    survey.flows.table.entered.emit(0)
    settle(window, qtbot)
    assert texts(survey.flows.model)[0][0] == "198.51.100.180 to 203.0.113.35"
    survey.flows.table.entered.emit(0)
    settle(window, qtbot)
    assert texts(survey.flows.model)[0][0].startswith("TCP 198.51.100.180")
    survey.flows.back()
    survey.flows.back()
    survey.flows.back()
    settle(window, qtbot)
    assert survey.flows.inside == ()
    assert survey.flows.by.currentText() == "interface out"
    assert survey.flows.pace.isVisible()


def test_the_baseline_leads_to_the_morning_and_two_periods_say_who(window, qtbot, folder):  # noqa: F811
    load(window, qtbot, [folder])
    window.go(COMPARE)
    settle(window, qtbot)
    panel = window.compare.normal
    assert panel.measure.currentText() == FLOW_VOLUME
    panel.choose(OUT, "interface", f"{ROUTER} line")
    settle(window, qtbot)
    rows = texts(panel.model)
    assert rows[0][0] == "2026-10-07 03:00:00"
    assert panel._words_at((LONG_DAY * 24 + 4) * 3600, 0).strip().startswith("2026-10-07 04:00:00  95.0 %, usual")
    narrower = len(rows)
    panel.band.setValue(12.0)
    settle(window, qtbot)
    assert 0 < panel.model.rowCount() <= narrower
    panel.table.entered.emit(0)
    settle(window, qtbot)
    assert window.investigation.focus.period[0] == START + LONG_DAY * DAY_NS + 3 * HOUR_NS
    window.go(COMPARE)
    window.compare.parts.setCurrentIndex(1)
    settle(window, qtbot)
    periods = window.compare.periods
    assert "Two periods are compared" in periods.words.text()
    panel.choose(FLOW_VOLUME, "", "")
    periods.typed[0].setText("yesterday")
    periods.wanted.emit()
    assert "is not a time" in periods.words.text()
    periods.typed[0].setText("2026-09-30 05:00 to 09:00")
    periods.taken.emit(1)
    settle(window, qtbot)
    assert periods.typed[1].text().startswith("2026-10-07 03:00:00 to 2026-10-07 09:00:00")
    assert "median" in periods.words.text()
    changed = {row[0]: row for row in texts(periods.model)}
    assert changed["198.51.100.180"][3] in ("more", "new")
    periods.trim.setChecked(True)
    settle(window, qtbot)
    window.switch_theme()
    settle(window, qtbot)
    window.switch_theme()


def test_a_ticket_leads_to_its_moment_and_says_at_which_level(window, qtbot, folder):  # noqa: F811
    load(window, qtbot, [folder])
    dialog = TicketDialog((window.investigation.evidence.first_ns, window.investigation.evidence.last_ns), window)
    dialog.when.setText("2026-10-07 07:30 +- 10 min")
    dialog.port_text.setText("x")
    dialog.accept()
    assert "is not a port" in dialog._wrong.text()
    dialog.port_text.setText("873")
    dialog.accept()
    window._to_ticket(dialog.period, dialog.port)
    settle(window, qtbot)
    assert window.survey.parts.currentIndex() == FLOWS
    assert texts(window.survey.flows.model)[0][0] == "198.51.100.180 to 203.0.113.35"
    assert "kept as single records" in window.survey.flows.words.text()


def test_ranges_become_sites_and_can_be_taken_back(window, qtbot, folder):  # noqa: F811
    load(window, qtbot, [folder])
    dialog = SitesDialog((), window)
    dialog.add(Site("Saltmarsh", "198.51.100.128/33"))
    dialog.accept()
    assert "is not a range" in dialog._wrong.text()
    dialog.table.item(0, 1).setText("198.51.100.128/26")
    dialog.accept()
    assert dialog.sites == (Site("Saltmarsh", "198.51.100.128/26"),)
    from dataclasses import replace

    window.investigation.keep(replace(window.investigation.kept, sites=dialog.sites), "sites")
    settle(window, qtbot)
    window.go(1)
    window.survey.flows.by.setCurrentText("site")
    window.survey.parts.setCurrentIndex(FLOWS)
    settle(window, qtbot)
    assert "Saltmarsh" in [row[0] for row in texts(window.survey.flows.model)]
    window.investigation.undo()
    settle(window, qtbot)
    assert window.investigation.opened.analysis.sites == ()


def test_what_is_received_appears_while_it_is_looked_at(window, qtbot, tmp_path):  # noqa: F811
    port = free_port()
    dialog = ReceiveDialog(window)
    dialog.udp.setText("dozens")
    dialog.accept()
    assert "is not a port" in dialog._wrong.text()
    dialog.udp.setText(str(port))
    dialog.folder.setText(str(tmp_path / "kept"))
    dialog.accept()
    window.live.set_pace(1)
    window.files.receiver.start(dialog.kept_in, dialog.arguments)
    qtbot.waitUntil(lambda: window.investigation.opened is not None and window.task.job is None, timeout=30_000)
    assert window.files.receiver.running
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
        sender.sendto(
            ipfix([template(300, FIELDS), a_set(300, RECORD * 5)], seconds=int(time.time())), ("127.0.0.1", port)
        )
    window.go(1)
    window.survey.parts.setCurrentIndex(FLOWS)
    qtbot.waitUntil(lambda: window.survey.flows.model.rowCount() == 1, timeout=30_000)
    window.live.set_pace(0)
    assert not window.live._timer.isActive()
    window.files.receive()
    assert not window.files.receiver.running
    qtbot.waitUntil(lambda: "what came is kept" in window.statusBar().currentMessage(), timeout=20_000)
    window.files.receiver.start(dialog.kept_in, [*dialog.arguments[:4], "--udp", "99999"])
    qtbot.waitUntil(lambda: not window.files.receiver.running, timeout=20_000)
    QApplication.processEvents()
