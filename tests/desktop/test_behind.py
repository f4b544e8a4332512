"""Apportion tells where servers' time went."""

import pytest

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
