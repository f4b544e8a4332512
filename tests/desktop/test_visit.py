"""A page load, from the tree of who waits to its lanes and back to the packets, by keyboard and mouse."""

from pathlib import Path

import pytest
from PySide6.QtCore import Qt

from tests.desktop.test_examine import load, settle, window  # noqa: F401  (the fixture)
from yaffle.desktop.shared.picture_file import write_picture

_PAGE = Path(__file__).parents[1] / "data" / "services" / "page-load.pcap.gz"
_WEB = Path(__file__).parents[1] / "data" / "services" / "web-pages.pcap.gz"


@pytest.fixture
def page(window, qtbot):  # noqa: F811
    load(window, qtbot, [_PAGE])
    window.go(3)
    qtbot.keyClick(window.examine.ladder, Qt.Key.Key_V)
    settle(window, qtbot)
    return window


def test_the_slow_look_up_is_what_to_mend(page):
    panel = page.examine.visit
    assert page.examine.parts.currentIndex() == 1
    assert "7 exchanges over 3 connections" in panel.words.text()
    assert "DNS lookup (network)" in panel.words.text()
    assert panel.lanes.selected == panel.visit.chain[0]
    assert "fixing this alone saves" in panel.about.text()
    assert not panel.former.isEnabled() and not panel.next.isEnabled()


def test_keys_walk_the_steps_and_enter_leads_to_the_packets(page, qtbot):
    panel = page.examine.visit
    qtbot.keyClick(panel.lanes, Qt.Key.Key_End)
    assert panel.lanes.selected == len(panel.visit.steps) - 1
    last = panel.visit.steps[panel.lanes.selected]
    qtbot.keyClick(panel.lanes, Qt.Key.Key_Return)
    assert page.examine.parts.currentIndex() == 0
    assert page.investigation.connection.number == last.connection
    chosen = page.investigation.connection.segments["t"][page.investigation.segment]
    assert abs(int(chosen) - last.first_ns) < 50_000_000
    qtbot.keyClick(page.examine.ladder, Qt.Key.Key_V)
    settle(page, qtbot)
    assert panel.visit is not None and panel.visit.first_ns <= chosen <= panel.visit.last_ns


def test_a_click_selects_a_step_and_the_picture_can_be_kept(page, qtbot, tmp_path):
    panel = page.examine.visit
    row = next(r for r in panel.lanes._rows if r.bar == 2)
    qtbot.mouseClick(
        panel.lanes.viewport(),
        Qt.MouseButton.LeftButton,
        pos=panel.lanes.viewport().rect().topLeft() + _down(row.top + 5),
    )
    assert panel.lanes.selected == 2
    assert (
        write_picture(panel.lanes.viewport(), tmp_path / "visit.svg")
        and b"<svg" in (tmp_path / "visit.svg").read_bytes()
    )
    assert (
        write_picture(panel.lanes.viewport(), tmp_path / "visit.png")
        and (tmp_path / "visit.png").read_bytes()[1:4] == b"PNG"
    )
    assert not write_picture(panel.lanes.viewport(), tmp_path / "no" / "visit.png")


def _down(pixels):
    from PySide6.QtCore import QPoint

    return QPoint(30, pixels)


def test_exchanges_stand_below_their_connection_and_lead_to_their_moment(window, qtbot):  # noqa: F811
    load(window, qtbot, [_WEB])
    window.go(2)
    settle(window, qtbot)
    tree, model = window.apportion.tree, window.apportion.tree_model
    index = model.index(0, 0)
    for _ in range(4):
        tree.expand(index)
        settle(window, qtbot)
        index = model.index(0, 0, index)
    group = model.group(index)
    assert group.level == 4 and group.exchanges == 1
    assert "GET /" in group.label and "→ " in group.label
    assert not model.hasChildren(index)
    tree.setCurrentIndex(index)
    settle(window, qtbot)
    qtbot.keyClick(tree, Qt.Key.Key_Return)
    settle(window, qtbot)
    assert window.stations.currentIndex() == 3
    evidence = window.investigation.evidence
    assert window.investigation.connection.number == int(evidence.waits.connection[int(group.trail[4])])
    assert group.charges.sum() == evidence.waits.wait_ns[int(group.trail[4])]
    assert (group.charges == evidence.waits.charges[int(group.trail[4])]).all()
