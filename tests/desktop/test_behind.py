"""What lies behind servers, in the window: Apportion's rows and line, the tiers of an exchange in Examine."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMenu

from tests.desktop.test_examine import load, settle, window  # noqa: F401  (the fixture)
from tests.tiers.truth import DATA
from yaffle.session.expressions import only


@pytest.fixture
def tiers(window, qtbot):  # noqa: F811
    load(window, qtbot, [DATA / "alone.pcap.gz"])
    window.go(2)
    settle(window, qtbot)
    return window


def test_the_line_below_the_tree_says_where_the_servers_time_went(tiers, qtbot):
    assert "Of the servers'" in tiers.apportion._of.text()
    assert "their own" in tiers.apportion._of.text()


def _open(window, qtbot, index):  # noqa: F811
    window.apportion.tree.expand(index)
    settle(window, qtbot)
    return window.apportion.tree_model.index(0, 0, index)


def test_a_server_opens_into_what_it_waited_for_itself(tiers, qtbot):
    tree, model = tiers.apportion.tree, tiers.apportion.tree_model
    tops = [model.index(row, 0) for row in range(model.rowCount())]
    top = next(index for index in tops if index.data().startswith("www"))
    server = _open(tiers, qtbot, top)
    behind = _open(tiers, qtbot, server)
    assert behind.data().startswith("behind it: ")
    assert behind.data(Qt.ItemDataRole.FontRole).italic()
    assert "part of its server time" in behind.data(Qt.ItemDataRole.ToolTipRole)
    tree.setCurrentIndex(behind)
    settle(tiers, qtbot)
    tree.chosen.emit(behind)  # As Enter: the focus goes to the server behind.
    settle(tiers, qtbot)
    assert tiers.investigation.focus.trail == tiers.apportion.tree_model.group(tree.currentIndex()).trail
    assert tiers.investigation.focus.trail[0] == "app"


def test_an_exchange_shows_its_tiers_and_leads_to_the_packets_of_each(tiers, qtbot):
    evidence = tiers.investigation.evidence
    front = int(evidence.analysis.behind.front[evidence.analysis.behind.named][0])
    row = int(evidence.wait_of_exchange[front])
    tiers.apportion.tiers_wanted.emit(int(evidence.waits.connection[row]), int(evidence.waits.first_ns[row]))
    settle(tiers, qtbot)
    panel = tiers.examine.tiers
    assert panel.isVisible()
    assert panel.picture.tiers[panel.lanes.selected].wait == row
    assert "Of the server's" in panel.words.text()
    qtbot.keyClick(panel.lanes, Qt.Key.Key_End)
    last = panel.picture.tiers[-1]
    assert panel.lanes.selected == len(panel.picture.tiers) - 1
    assert "is in front of it" in panel.about.text()
    assert "is in front of it" in panel.lanes.words_of(panel.lanes.selected)
    qtbot.keyClick(panel.lanes, Qt.Key.Key_Return)
    settle(tiers, qtbot)
    assert tiers.examine.parts.currentIndex() == 0
    assert tiers.investigation.connection.number == last.connection
    qtbot.keyClick(tiers.examine.ladder, Qt.Key.Key_W)
    settle(tiers, qtbot)
    shown = panel.picture.tiers[panel.lanes.selected]
    assert (shown.connection, shown.wait) == (last.connection, last.wait)


def test_later_and_earlier_walk_the_exchanges_with_tiers(tiers, qtbot):
    evidence = tiers.investigation.evidence
    behind = evidence.analysis.behind
    connection = evidence.analysis.account.of_exchange("connection")[behind.front[behind.named]]
    busiest = int(np.bincount(connection).argmax())
    tiers._examine(busiest)
    tiers.examine.parts.setCurrentIndex(2)
    settle(tiers, qtbot)
    panel = tiers.examine.tiers
    panel.show_number(0)
    settle(tiers, qtbot)
    assert not panel.former.isEnabled()
    if panel.next.isEnabled():
        panel.next.click()
        settle(tiers, qtbot)
        assert panel.former.isEnabled()


def test_a_connection_without_tiers_says_what_would_show_them(tiers, qtbot):
    evidence = tiers.investigation.evidence
    behind = evidence.analysis.behind
    connection = evidence.analysis.account.of_exchange("connection")
    without = set(connection.tolist()) - set(connection[behind.front].tolist()) - set(connection[behind.call].tolist())
    if not without:
        pytest.skip("every connection has tiers")
    tiers._examine(min(without))
    tiers.examine.parts.setCurrentIndex(2)
    settle(tiers, qtbot)
    assert "A capture at that server would show it" in tiers.examine.tiers.words.text()


def test_the_menu_of_an_exchange_leads_to_its_tiers_and_across_applications(tiers, qtbot, monkeypatch):
    shown = []

    class Quiet(QMenu):
        def exec(self, *_):
            shown.append({one.text(): one for one in self.actions()})

    monkeypatch.setattr("yaffle.desktop.apportion.station.QMenu", Quiet)
    tree, model = tiers.apportion.tree, tiers.apportion.tree_model
    index = next(i for i in (model.index(row, 0) for row in range(model.rowCount())) if i.data() == "database")
    while model.group(index).level < 4:
        tree.expand(index)
        settle(tiers, qtbot)
        below = [model.index(row, 0, index) for row in range(model.rowCount(index))]
        index = next(child for child in below if not model.group(child).beside)
    tree.scrollTo(index)
    tiers.apportion._menu(tree.visualRect(index).center())
    actions = shown[-1]
    assert any(text.startswith("In front of it") for text in actions)
    row = int(model.group(index).trail[4])
    statement = tiers.investigation.evidence.label(row)
    actions["All that waited longest for such a request"].trigger()
    settle(tiers, qtbot)
    focus = tiers.investigation.focus
    assert focus.trail == ()
    assert focus.filter == only("longest_behind", statement)
    assert tiers.investigation.rows.size
    actions["Its tiers"].trigger()
    settle(tiers, qtbot)
    assert tiers.examine.tiers.picture is not None
