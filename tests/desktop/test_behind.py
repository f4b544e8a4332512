"""Apportion tells where servers' time went, and leads to what lies in front of an exchange and behind it."""

import pytest
from PySide6.QtWidgets import QMenu

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


def test_the_menu_of_an_exchange_leads_to_what_is_behind_it(tiers, qtbot, monkeypatch):
    model, tree = tiers.apportion.tree_model, tiers.apportion.tree
    index = model.index(0, 0)
    for _ in range(4):  # Application, server, client, connection, exchange.
        tree.expand(index)
        settle(tiers, qtbot)
        index = model.index(0, 0, index)
    tree.setCurrentIndex(index)
    shown = []
    monkeypatch.setattr(QMenu, "exec", lambda menu, _place: shown.append(menu))
    tiers.apportion._menu(tree.visualRect(index).center())
    behind = [action for action in shown[0].actions() if action.text().startswith("Behind it")]
    assert behind
    behind[0].trigger()
    settle(tiers, qtbot)
    assert tiers.examine.isVisible()
