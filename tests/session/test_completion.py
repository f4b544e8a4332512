import pyarrow as pa
import pytest

from yaffle.history.locked_database import FilterError
from yaffle.session.completion import complete
from yaffle.session.expressions import above, also, literal, only, without

TABLE = pa.table(
    {"site": pa.array(["Northpoint", "Isle of Wren", "Northpoint"]).dictionary_encode(), "wait_ms": [1.0, 2.0, 3.0]}
)


@pytest.mark.parametrize(
    ("before", "typed", "found"),
    [
        ("wai", "wai", "wait_ms"),
        ("wait_ms > 5 and serv", "serv", "server_port"),
        ("regexp", "regexp", "regexp_matches("),
        ("site = 'nor", "nor", "Northpoint'"),
        ("site in ('Northpoint', 'isl", "isl", "Isle of Wren'"),
        ("wait_ms > 5 an", "an", "and"),
        ("port", "port", "server_port"),
    ],
)
def test_what_may_come_next_is_offered(before, typed, found):
    word, offers = complete(before, TABLE)
    assert word == typed
    assert found in offers


@pytest.mark.parametrize("before", ["", "wait_ms > ", "wait_ms = 'x", "unknown = 'y"])
def test_nothing_is_offered_where_nothing_fits(before):
    assert complete(before, TABLE)[1] == []


def test_cells_become_expressions():
    assert only("site", "O'Hara") == "site = 'O''Hara'"
    assert without("server_port", 443) == "server_port <> 443"
    assert above("wait_ms", 12.34567891) == "wait_ms > 12.3457"
    assert literal(True) == "true"
    assert also("", "a = 1") == "a = 1"
    assert also("a = 1 or b = 2", "c = 3") == "(a = 1 or b = 2) and c = 3"


def test_an_error_knows_its_place(analysed_morning):
    from yaffle.session.investigation import Opened

    table = Opened(analysed_morning).filter
    for expression, place in (
        ("wait_ms > nonsense", 10),
        ("wait_ms > 5 andd site = 'x'", 12),
        ("wait_ms >", 9),
        ("foo(wait_ms) > 1", 0),
        ("wait_ms > 'abc'", 11),
    ):
        with pytest.raises(FilterError) as caught:
            table.rows(expression)
        assert caught.value.place == place, expression


@pytest.mark.parametrize(
    "expression",
    [
        "(select count(*) from read_text('/etc/passwd')) > 0",
        "1=1); attach '/tmp/x.db' as x; select (1=1",
        "1=1); install httpfs; select (1=1",
        "1=1); copy (select 1) to '/tmp/stolen'; select (1=1",
        "getenv('HOME') <> ''",
        "1=1); set enable_external_access = true; select (1=1",
    ],
)
def test_a_filter_reaches_nothing_else(analysed_morning, expression):
    from yaffle.session.investigation import Opened

    with pytest.raises(FilterError):
        Opened(analysed_morning).filter.rows(expression)
