import pytest

from yaffle.exchanges.labels import grouped, shown


@pytest.mark.parametrize(
    ("statement", "masked"),
    [
        ("select * from berth where id = 12 and name = 'O''Hara'", "select * from berth where id = ? and name = ?"),
        ("select $1::int, t2.c3 from t2 where x in (1, 2, 3)", "select $1::int, t2.c3 from t2 where x in (?, …)"),
        ("insert into a values (-1.5e3, 'x\\'y', null)", "insert into a values (?, ?, null)"),
        ("select 'cut off in mid-te", "select ?"),
        ("select $tag$secret$tag$", "select ?"),
    ],
)
def test_literals_of_statements_are_masked(statement, masked):
    assert shown("postgresql", statement) == masked


def test_labels_fall_together():
    assert grouped("http", "GET /item/17/photo?id=5&size=large") == "GET /item/#/photo?id=…&size=…"
    assert grouped("redis", "GET gene:8697:h") == "GET gene:#:h"
    assert shown("http", "GET /item/17") == "GET /item/17"
