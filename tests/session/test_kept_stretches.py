"""Minutes on the air and of cyclic streams as a history keeps them: what watches, baselines and Compare ask of them."""

import numpy as np
import pytest

from yaffle.analysis import analyse
from yaffle.demo.linkspan import make_linkspan
from yaffle.demo.pier_air import START_NS, make_pier_air
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.radio.air_rows import MINUTE_NS, POINT, STATION
from yaffle.records.catalogue import CATALOGUE, CYCLIC, RADIO
from yaffle.session import kept_stretches
from yaffle.session.catalogue_values import dimensions, titles
from yaffle.waiting.stretches import stretch_table, stretches_of
from yaffle.watching.member_values import GROUPS, Question, values
from yaffle.watching.windows import Windows


@pytest.fixture(scope="module")
def kept(tmp_path_factory):
    """(a history, the rows it was given)."""
    folder = tmp_path_factory.mktemp("kept")
    pier, ramp = (make(folder / f"{make.__name__}.pcapng") for make in (make_pier_air, make_linkspan))
    found = {RADIO: stretches_of(analyse([pier]), 0)[RADIO], CYCLIC: stretches_of(analyse([ramp]), 0)[CYCLIC]}
    writer = HistoryWriter(folder / "history", settle=False)
    for table, rows in found.items():
        writer.append_rows(table, stretch_table(table, rows, "eth0", 1))
    writer.close()
    return History(folder / "history"), found


def one(kept, name, by, where=""):
    first_ns = START_NS // MINUTE_NS * MINUTE_NS
    return values(Windows(kept[0]), Question(CATALOGUE[name], by, where), first_ns, 10 * MINUTE_NS).of


def test_measures_on_the_air_by_station_access_point_and_network(kept):
    rows = kept[1][RADIO]
    station = next(row["address"] for row in rows if row["what"] == STATION)
    own = [row for row in rows if row["what"] == STATION and row["address"] == station]
    again = sum(row["retries_from"] + row["retries_to"] for row in own)
    assert one(kept, "wlan_retries", "station")[station][0] == pytest.approx(
        100 * again / sum(row["data_from"] + row["data_to"] for row in own)
    )
    points = [row for row in rows if row["what"] == POINT]
    assert set(one(kept, "wlan_busy", "access_point")) == {f"{row['address']} pier" for row in points}
    assert one(kept, "wlan_roams", "network")["pier"][0] == one(kept, "wlan_roams", "")["all"][0]
    assert one(kept, "wlan_failures", "")["all"][0] == sum(row["failures"] for row in points) > 0
    assert one(kept, "wlan_stations", "")["all"][0] == max(row["stations"] for row in points)
    assert one(kept, "wlan_snr", "station")[station][0] > 10 and one(kept, "wlan_airtime", "")["all"][0] > 0
    assert list(one(kept, "wlan_rate", "station", f"address = '{station}'")) == [station]


def test_measures_of_cyclic_streams(kept):
    rows = kept[1][CYCLIC]
    missed = one(kept, "cycles_missed", "stream")
    assert len(missed) == 4 and max(own[0] for own in missed.values()) == pytest.approx(
        max(100 * row["missed"] / (row["packets"] + row["missed"] - row["doubled"]) for row in rows), rel=0.1
    )
    assert one(kept, "cycle_gap", "")["all"][0] == pytest.approx(max(row["longest_gap_ms"] for row in rows))
    assert one(kept, "cycle_jitter", "end") != {}


def test_each_measure_can_be_asked_by_each_of_its_groups_and_over_time(kept):
    history, found = kept
    for entry in (own for own in CATALOGUE.values() if own.table in found):
        first, last = (edge(row["to_ns"] for row in found[entry.table]) for edge in (min, max))
        edges = np.arange(first - MINUTE_NS, last + 1, MINUTE_NS)
        assert entry.groups == GROUPS[entry.table][1:]
        for by in entry.groups:
            names = kept_stretches.groups(history, entry, by, first - 1, last)
            assert names and None not in names
            assert any(
                np.isfinite(kept_stretches.over_time(history, entry, by, name, edges)).any() for name in names
            ), (entry.name, by)
        assert kept_stretches.names(history, entry)


def test_they_are_offered_where_a_history_holds_them(kept):
    history, _ = kept

    class Evidence:
        pass

    analysis = Evidence()
    analysis.history, analysis.flows = history, Evidence()
    analysis.flows.counters = analysis.flows
    analysis.flows.rows = np.zeros(0)
    assert {"WLAN retries", "cycle gap"} <= set(titles(analysis))
    assert dimensions("WLAN retries") == ("access_point", "station", "network")
