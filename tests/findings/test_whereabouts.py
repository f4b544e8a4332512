"""Who was where, and what changed in a period."""

import pyarrow as pa

from yaffle.findings.whereabouts import whereabouts
from yaffle.history.layout import ADDRESSES, NEIGHBOURS, TABLE, TEXTS
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter

HOUR = 1_790_000_000 // 3600 * 3600 * 10**9
S = 10**9
OLD, NEW = "02:00:00:00:00:01", "02:00:00:00:00:02"


def held(folder, table, *told):
    writer = HistoryWriter(folder, settle=False)
    names = (*TABLE[table].same, "to_ns")
    columns = zip(*told, strict=True)
    writer.append_rows(table, pa.table({name: pa.array(v) for name, v in zip(names, columns, strict=True)}))
    writer.close()


def at(minute):
    return HOUR + minute * 60 * S


def test_an_address_that_was_taken_over(tmp_path):
    held(
        tmp_path, ADDRESSES,
        ("router", "desks", "198.51.100.140", OLD, at(0), at(20)),
        ("router", "desks", "198.51.100.140", NEW, at(21), at(59)),
        ("router", "desks", "198.51.100.141", OLD, at(0), at(59)),
    )  # fmt: skip
    found = whereabouts(History(tmp_path), at(0), at(60))
    assert [(row.who, row.change) for row in found.rows] == [(NEW, f"before: {OLD}"), (OLD, ""), (OLD, "")]
    assert found.changes == 1
    assert not whereabouts(History(tmp_path), at(30), at(60)).changes  # It was so before the period.
    assert {row.who for row in whereabouts(History(tmp_path), at(0), at(10)).rows} == {OLD}


def test_an_address_that_two_claim(tmp_path):
    held(
        tmp_path,
        ADDRESSES,
        ("r", "d", "198.51.100.140", OLD, at(0), at(50)),
        ("r", "d", "198.51.100.140", NEW, at(20), at(59)),
    )
    first, _ = whereabouts(History(tmp_path), at(0), at(60)).rows
    assert first.change == f"also {OLD}, at the same time"


def test_what_moved_from_port_to_port(tmp_path):
    held(tmp_path, NEIGHBOURS, ("sw", "port 4", OLD, "", at(0), at(20)), ("sw", "port 11", OLD, "", at(22), at(59)))
    moved, former = whereabouts(History(tmp_path), at(0), at(60)).rows
    assert (moved.interface, moved.change, former.change) == ("port 11", "before: port 4", "")


def test_texts_then_and_now(tmp_path):
    writer = HistoryWriter(tmp_path, settle=False)
    for minute, text in ((0, "port 4 crane\nport 5 spare\n"), (30, "port 4 spare\nport 5 spare\n")):
        writer.append_rows(
            TEXTS, pa.table({"time_ns": [at(minute)], "device": ["sw"], "name": ["ports"], "text": [text]})
        )
    writer.close()
    (change,) = whereabouts(History(tmp_path), at(10), at(60)).texts
    assert change.lines == ["- port 4 crane", "+ port 4 spare", "  port 5 spare"]
    assert (change.device, change.name, change.changed_ns) == ("sw", "ports", at(30))
    (still,) = whereabouts(History(tmp_path), at(31), at(60)).texts
    assert not still.is_changed and still.lines == ["port 4 spare", "port 5 spare"]


def test_nobody_told(tmp_path):
    HistoryWriter(tmp_path, settle=False).close()
    assert whereabouts(History(tmp_path), at(0), at(60)) == whereabouts(None, 0, 1)
