"""What lies behind servers, in the window: Apportion's rows and line, the tiers of an exchange in Examine."""

import numpy as np
import pytest
from PySide6.QtCore import Qt

from tests.desktop.test_examine import load, settle, window  # noqa: F401  (the fixture)
from tests.tiers.truth import DATA


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
    assert "Of the server's" in panel._words.text()
    qtbot.keyClick(panel.lanes, Qt.Key.Key_End)
    last = panel.picture.tiers[-1]
    assert panel.lanes.selected == len(panel.picture.tiers) - 1
    assert "is in front of it" in panel._chosen_words.text()
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
    panel._show_number(0)
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
    assert "A capture at that server would show it" in tiers.examine.tiers._words.text()
