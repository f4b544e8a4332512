"""What Python programs get: Arrow tables by filter, period and page; series; the document; said errors."""

import subprocess
import sys
import threading

import numpy as np
import pyarrow as pa
import pytest

import yaffle
from tests.report.test_report import slow_talk
from yaffle.errors import YaffleError
from yaffle.history.locked_database import FilterError
from yaffle.history.store import History
from yaffle.ledger import causes
from yaffle.programs.case import UnknownError
from yaffle.session.period_words import PeriodError


def test_a_capture_is_analysed_in_one_call(tmp_path):
    case = yaffle.analyse(slow_talk().write(tmp_path / "desk.pcap"))
    assert (case.name, case.exchanges.num_rows, case.connections.num_rows) == ("desk", 3, 1)
    assert case.document["format"] == "yaffle-analysis"
    assert "desk" in repr(case)


def test_a_case_opens_again_with_the_same_tables(tmp_path):
    from yaffle.case.folder import save_case

    case = yaffle.analyse([slow_talk().write(tmp_path / "desk.pcap")])
    save_case(tmp_path / "desk.yaffle", case.opened.analysis, {})
    assert yaffle.open(tmp_path / "desk.yaffle").exchanges.equals(case.exchanges)


def test_the_charges_of_an_exchange_are_its_wait(morning_case):
    table = morning_case.exchanges
    parts = sum(table[f"{party}_ms"].to_numpy() for party in causes.PARTIES)
    assert np.allclose(parts, table["wait_ms"].to_numpy())


def test_rows_are_selected_by_filter_period_columns_and_page(morning_case):
    whole = morning_case.table("exchanges", filter="wait_ms > 1000", columns=["client", "wait_ms"])
    assert whole.column_names == ["client", "wait_ms"] and min(whole["wait_ms"].to_pylist()) > 1000
    pages = [morning_case.table("exchanges", "wait_ms > 1000", limit=40, offset=k) for k in range(0, 400, 40)]
    joined = pa.concat_tables(page.select(["client", "wait_ms"]) for page in pages)
    assert joined.num_rows == min(400, whole.num_rows) and joined.equals(whole.slice(0, 400))
    waits = morning_case.opened.evidence.waits
    first, last = waits.first_ns[50], waits.end_ns[50]
    inside = (waits.first_ns <= last) & (waits.end_ns >= first)
    assert morning_case.table("exchanges", period=(int(first), int(last))).num_rows == inside.sum()
    assert 0 < morning_case.table("exchanges", period="last 5 min").num_rows < morning_case.exchanges.num_rows


def test_every_table_can_be_read(morning_case, weeks_case):
    for case in (morning_case, weeks_case):
        for name, words in case.tables.items():
            assert words
            assert case.table(name, limit=3).num_rows <= 3, name
    assert morning_case.findings["subject"][0].as_py().startswith("ticket database")
    assert morning_case.segments.num_rows >= 2


def test_a_history_is_read_part_by_part(weeks_case):
    history = weeks_case.opened.analysis.history
    day = (history.first_ns, history.first_ns + 86_400 * 10**9 - 1)
    parts = list(weeks_case.batches("counters", period=day))
    assert len(parts) > 3
    told = weeks_case.table("counters", period=day)
    assert told.num_rows == sum(part.num_rows for part in parts)
    assert np.all((told["time_ns"].to_numpy() >= day[0]) & (told["time_ns"].to_numpy() <= day[1]))
    device = told["device"][0].as_py()
    some = weeks_case.table("counters", f"device = '{device}'", day, limit=5, offset=7)
    assert some.num_rows == 5 and set(some["device"].to_pylist()) == {device}


def test_a_series_is_a_row_a_member_and_interval(weeks_case):
    hour = 3600 * 10**9
    last = weeks_case.opened.analysis.history.last_ns
    told = weeks_case.series("volume", by="exporter", period=(last - 6 * hour, last), width_ns=hour)
    assert told.column_names == ["time_ns", "member", "value"]
    members = set(told["member"].to_pylist())
    assert members == {one.address for one in weeks_case.opened.analysis.history.exporters}
    assert told.num_rows == len(members) * len(set(told["time_ns"].to_pylist()))


def test_what_is_not_there_or_makes_no_sense_is_said(morning_case, weeks_case):
    for ask, error in (
        (lambda: morning_case.table("nope"), UnknownError),
        (lambda: morning_case.table("counters"), UnknownError),
        (lambda: morning_case.table("exchanges", columns=["nope"]), UnknownError),
        (lambda: morning_case.table("exchanges", "nope > 3"), FilterError),
        (lambda: morning_case.table("exchanges", period="the day before"), PeriodError),
        (lambda: morning_case.table("exchanges", period=(5, 3)), YaffleError),
        (lambda: morning_case.series("wait_p95"), YaffleError),
        (lambda: weeks_case.series("nope"), UnknownError),
        (lambda: weeks_case.series("wait_p95", by="nope"), UnknownError),
        (lambda: weeks_case.series("wait_p95", width_ns=1), YaffleError),
        (lambda: yaffle.analyse([]), YaffleError),
        (lambda: yaffle.open("/nowhere/at-all.pcap"), YaffleError),
    ):
        with pytest.raises(error):
            ask()


@pytest.mark.parametrize(
    "expression",
    [
        "1=1); SELECT * FROM read_csv('/etc/passwd') --",
        "wait_ms > (SELECT count(*) FROM read_csv('/etc/passwd'))",
        "wait_ms > (SELECT max(x) FROM glob('/*') t(x))",
        "getenv('HOME') <> ''",
    ],
)
def test_a_filter_reaches_nothing_else(morning_case, expression):
    with pytest.raises(FilterError):
        morning_case.table("exchanges", expression)


def test_threads_get_the_same(morning_case):
    found: list[int] = []
    asked = [threading.Thread(target=lambda: found.append(morning_case.table("exchanges", "wait_ms > 500").num_rows))
             for _ in range(8)]  # fmt: skip
    for one in asked:
        one.start()
    for one in asked:
        one.join()
    assert len(set(found)) == 1 and len(found) == 8


def test_importing_costs_nothing_until_something_is_asked_for():
    code = "import sys, yaffle; yaffle.__version__; assert 'numpy' not in sys.modules and 'PySide6' not in sys.modules"
    subprocess.run([sys.executable, "-c", code], check=True)
    with pytest.raises(AttributeError):
        yaffle.nothing  # noqa: B018


def test_a_history_that_is_written_on_is_read_on(weeks_case):
    assert isinstance(weeks_case.opened.analysis.history, History)
    assert weeks_case.period[1] >= weeks_case.opened.evidence.last_ns
