"""Routes over time in Path, and what they add to the map."""

import pytest

from tests.desktop.test_kept_waits import opened, settle
from tests.session.test_route_paths import OTHER, START_NS, TARGET, WAY, run
from yaffle.desktop.path.station import MAP, ROUTES
from yaffle.desktop.window.station_rail import PATH
from yaffle.history.layout import PROBES
from yaffle.history.probe_rows import rows_of
from yaffle.history.writer import HistoryWriter

MINUTE_NS = 60 * 10**9


@pytest.fixture
def routed(tmp_path):
    writer = HistoryWriter(tmp_path / "h", settle=False)
    other = (WAY[0], (OTHER, 3, 8.0), (TARGET, 3, 12.0))
    told = [run(k, *(other if 20 <= k < 30 else WAY)) for k in range(0, 60, 2)]
    writer.append_rows(PROBES, rows_of("pier", told))
    writer.close()
    return tmp_path / "h"


def test_paths_and_hops_of_a_route_and_its_change_by_keys(qtbot, routed):
    window = opened(qtbot, [routed])
    window.go(PATH)
    page = window.path.routes
    window.path.parts.setCurrentIndex(ROUTES)
    settle(qtbot, window)
    assert page.words.text() == "1 route, 2 path changes"
    assert [page.hops.columns.index(r, 1).data() for r in range(page.hops.columns.rowCount())] == [
        WAY[0][0], WAY[1][0], OTHER, TARGET,
    ]  # fmt: skip
    assert [page.changes.columns.index(r, 2).data() for r in range(3)] == ["–", "2", "2"]
    assert "path change" in [key.words for key in page.plot._keys]
    assert "2: 5.00 ms" in page._words_at(1, 0) and "3: 12.0 ms" in page._words_at(22 * 60, 0)
    page.changes.entered.emit(1)
    settle(qtbot, window)
    first, last = window.investigation.focus.period
    assert first < START_NS + 20 * MINUTE_NS < last
    window.path.dress()


def test_routes_stand_on_the_map(qtbot, routed):
    window = opened(qtbot, [routed])
    window.go(PATH)
    window.path.parts.setCurrentIndex(MAP)
    settle(qtbot, window)
    picture = window.path.map.picture
    words = {link.key: link.words for link in picture.links}
    assert any("route pier: added RTT 4.00 ms, loss 0 %, 2 path changes" in one for one in words.values()), words
    assert {place.words for place in picture.places} >= {"tests begin here", "device", "1 server"}
    assert all(link.state != "unmeasured" for link in picture.links)


def test_without_routes_it_is_said_how_to_get_some(qtbot, morning):
    window = opened(qtbot, morning[1:2])
    window.go(PATH)
    window.path.parts.setCurrentIndex(ROUTES)
    settle(qtbot, window)
    assert "[[probe]]" in window.path.routes.words.text() and not window.path.routes.body.isVisible()


def test_an_address_in_a_table_can_be_tested(qtbot, routed):
    from yaffle.desktop.shared.column_table import address_in

    window = opened(qtbot, [routed])
    assert [address_in(text) for text in ("192.0.2.1", "port 3", "desk 2001:db8::1", "203.0.113.9 (named)", "1.2")] == [
        "192.0.2.1", "", "2001:db8::1", "203.0.113.9", "",
    ]  # fmt: skip
    offers = dict(window.offers_for_address(TARGET))
    assert list(offers) == [f"Test now: reach {TARGET}…", f"Test now: route {TARGET}…"]
    offers[f"Test now: route {TARGET}…"]()
    assert (window.testing.kind.currentText(), window.testing.target.text()) == ("route", TARGET)
    window.testing.close()
