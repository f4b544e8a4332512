"""A watch made from what is looked at: a test, a measure with its baseline, a finding; filled in, and tried."""

import pytest

from tests.desktop.test_kept_waits import opened, settle
from tests.desktop.test_tests_page import tested  # noqa: F401
from yaffle.desktop.survey.station import TESTS
from yaffle.desktop.window.station_rail import COMPARE, SURVEY
from yaffle.session.baselines import FLOW_VOLUME, Subject
from yaffle.session.told_watch import watch_of_finding, watch_of_measure


def waited(qtbot, window):
    """The dialog that opens by itself."""
    qtbot.waitUntil(lambda: getattr(window.watch, "dialog", None) is not None, timeout=30_000)
    return window.watch.dialog


def test_from_a_test_to_a_watch_that_is_tried(qtbot, tested):  # noqa: F811
    window = opened(qtbot, [tested])
    window.go(SURVEY)
    window.survey.parts.setCurrentIndex(TESTS)
    settle(qtbot, window)
    table = window.survey.tests.table
    row = next(r for r in range(table.columns.rowCount()) if table.columns.index(r, 0).data() == "quay")
    [(words, take)] = table.row_offers(int(table.columns.order[row]))
    assert words == "Tell me when…"
    take()
    dialog = waited(qtbot, window)
    settle(qtbot, window)
    watch = dialog.watch()
    assert (watch.name, watch.measure, watch.of, watch.where) == (
        "quay is slow", "test_round_trip", "test", "name = 'quay'",
    )  # fmt: skip
    assert watch.over_ns == 300 * 10**9  # It runs every minute.
    assert watch.limit == 36  # One and a half times 24 ms, which 95 of 100 stay below.
    dialog.try_it()
    qtbot.waitUntil(lambda: bool(dialog.found.text()), timeout=30_000)
    dialog.close()


def test_from_a_measure_in_compare(qtbot, tested):  # noqa: F811
    window = opened(qtbot, [tested])
    window.go(COMPARE)
    settle(qtbot, window)
    page = window.compare.normal
    page.measure.setCurrentText("test failures")
    page._other_measure()
    settle(qtbot, window)
    page.tell.click()
    watch = waited(qtbot, window).watch()
    assert watch.measure == "test_failures" and watch.of == "test" and watch.rule == "above"
    window.watch.dialog.close()


@pytest.mark.parametrize(
    ("subject", "usual", "told"),
    [
        (Subject(FLOW_VOLUME, "site", "Pier"), 2e6, ("volume", "site", "site = 'Pier'", "above", 3e6)),
        (Subject("test throughput", "test", "up"), 8e6, ("test_throughput", "test", "name = 'up'", "below", 4e6)),
        (Subject("wait p95 over months", "application", "desk"), 100.0,
         ("wait_p95", "application", "application = 'desk'", "above", 150.0)),
        (Subject("retransmitted segments"), 1.0, None),
    ],
)  # fmt: skip
def test_measures_as_watches(subject, usual, told):
    watch = watch_of_measure(subject, usual)
    assert (watch and (watch.measure, watch.of, watch.where, watch.rule, watch.limit)) == told


def test_findings_of_a_history_offer_theirs(qtbot, two_weeks):
    window = opened(qtbot, [two_weeks])
    evidence = window.investigation.evidence
    watches = [watch_of_finding(evidence, finding) for finding, _ in window.investigation.ranked]
    full = next(one for one in watches if one is not None and one.measure == "utilization")
    assert full.where.startswith("interface = '203.0.113.9 line") and full.limit == 90
    card = window.findings.cards[0]
    card.menu.aboutToShow.emit()
    action = next(one for one in card.menu.actions() if one.text().startswith("Tell me when"))
    action.trigger()
    assert waited(qtbot, window).watch().name
    window.watch.dialog.close()


def test_captures_alone_offer_none(morning, qtbot):
    window = opened(qtbot, morning[1:2])
    assert all(watch_of_finding(window.investigation.evidence, one) is None for one, _ in window.investigation.ranked)
