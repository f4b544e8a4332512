"""The filter of the focus on flow records: columns of their own, and what it leaves alone."""

import numpy as np
import pytest

from yaffle.analysis import analyse
from yaffle.errors import Cancelled
from yaffle.findings.flow_source import HeldFlows, held_flows
from yaffle.findings.kernel_figures import kernel_figures
from yaffle.history.locked_database import FilterError
from yaffle.inventory.places import Places
from yaffle.records.flow_table import SOCKETS, Exporter, empty_flows
from yaffle.session.completion import complete
from yaffle.session.flow_filter import FLOW_COLUMNS, filter_words, fits_flows, narrowed
from yaffle.session.flow_parts import FlowSettings, flow_picture
from yaffle.session.investigation import Investigation, Opened


@pytest.fixture(scope="module")
def model(analysed_morning):
    found = Investigation()
    found.open(Opened(analysed_morning))
    return found


def test_every_column_can_be_asked_for(model):
    held = held_flows(model.evidence.analysis, model.evidence.first_ns, model.evidence.last_ns)
    for name, _ in FLOW_COLUMNS:
        known = 0 if name.startswith("sen") else held.rows.size  # No kernel told anything here.
        assert narrowed(held, model.evidence.places, f"{name} is not null").rows.size == known
        assert narrowed(held, model.evidence.places, f"{name} is null").rows.size == held.rows.size - known


def test_records_are_narrowed_and_their_own_elements_go_along(model):
    held = held_flows(model.evidence.analysis, model.evidence.first_ns, model.evidence.last_ns)
    found = narrowed(held, model.evidence.places, "exporter = '203.0.113.244' and server_port = 443")
    assert 0 < found.rows.size < held.rows.size
    assert {found.exporters[k].address for k in found.rows["exporter"].tolist()} == {"203.0.113.244"}
    assert set(found.own) <= set(range(found.rows.size))


def test_what_speaks_of_one_leaves_the_other_alone(model):
    assert fits_flows("bytes > 5") and not fits_flows("wait_ms > 5") and fits_flows("site = 'Northpoint'")
    assert "not filtered" in filter_words("wait_ms > 5") and filter_words("") == ""
    waits = model.evidence.waits.connection.size
    model.look(model.focus.with_filter("interface_in = 'into line'"))
    assert model.filter_error is None and model.rows.size == waits
    model.look(model.focus.with_filter("bytes > 5 and wait_ms > 5"))
    assert model.filter_error is not None  # Nothing has both.
    model.look(model.focus.with_filter(""))


def test_a_filter_that_fails_on_the_records_shows_none_of_them_as_filtered(model):
    held = held_flows(model.evidence.analysis, model.evidence.first_ns, model.evidence.last_ns)
    fails = "cast(application as integer) > 0"
    assert fits_flows(fails)
    with pytest.raises(FilterError):
        narrowed(held, model.evidence.places, fails)
    with pytest.raises(FilterError):
        flow_picture(model.evidence, model.evidence.first_ns, model.evidence.last_ns, FlowSettings(filter=fails))


def test_columns_of_flow_records_are_completed():
    assert "interface_in" in complete("interf")[1]


@pytest.fixture
def small(tmp_path):
    from tests.frames import Talk

    return Investigation(), analyse([Talk().open().write(tmp_path / "a.pcap")])


ENDLESS = "(with recursive t(n) as (select 1 union all select n + 1 from t where n < 1e12) select count(*) from t) > 0"


def test_a_filter_that_never_ends_is_stopped_and_says_so(small, monkeypatch):
    model, analysis = small
    model.open(Opened(analysis))
    monkeypatch.setattr("yaffle.history.locked_database.MOST_S", 0.3)
    with pytest.raises(FilterError, match="was stopped"):
        model.opened.filter.rows(ENDLESS)
    assert model.opened.filter.known(ENDLESS)  # It is not run again.
    model.look(model.focus.with_filter(ENDLESS))
    assert "was stopped" in str(model.filter_error)


def test_a_filter_can_be_stopped(small):
    model, analysis = small
    model.open(Opened(analysis))
    with pytest.raises(Cancelled):
        model.opened.filter.rows(ENDLESS, lambda share, words: False)
    assert not model.opened.filter.known(ENDLESS)


def test_what_kernels_measured_can_be_asked_for():
    rows = empty_flows(3)
    rows["retransmissions"][:2], rows["timeouts"][:2], rows["round_trip_ns"][:2] = (5, 0), (1, 0), (2 * 10**7, 10**6)
    held = HeldFlows(rows, [Exporter("pier-office", 0, SOCKETS)])
    for expression, count in (
        ("sender_retransmissions > 0", 1), ("sender_timeouts = 0", 1), ("sender_rtt_ms > 10", 1),
        ("sender_retransmissions is null", 1),
    ):  # fmt: skip
        assert narrowed(held, Places({}), expression).rows.size == count
    figures = kernel_figures(rows, np.array([0, 0, 1]), 2)
    assert set(figures) == {0} and figures[0].retransmissions == 5 and figures[0].words == ""


def test_the_ledger_of_kernels_adds_up():
    rng = np.random.default_rng(3)
    rows = empty_flows(200)
    for name, most in (("packets", 100), ("retransmissions", 9), ("timeouts", 2), ("round_trip_ns", 10**8)):
        rows[name] = rng.integers(0, most, 200)
    rows["floor_ns"] = rows["round_trip_ns"] // 2
    rows["busy_ns"] = rng.integers(0, 10**9, 200)
    rows["receiver_limited_ns"] = rows["busy_ns"] // 3
    rows["sender_limited_ns"] = rows["busy_ns"] // 4
    codes = rng.integers(0, 5, 200)
    for k, own in kernel_figures(rows, codes, 5).items():
        mine = rows[codes == k]
        assert own.network_ns + own.receiver_limited_ns + own.sender_limited_ns == own.busy_ns == mine["busy_ns"].sum()
        assert own.retransmissions == mine["retransmissions"].sum() and own.floor_ns == mine["floor_ns"].min()
        assert mine["round_trip_ns"].min() <= own.round_trip_ns <= mine["round_trip_ns"].max()
        assert "network" in own.words and "receive window" in own.words and "send buffer" in own.words
