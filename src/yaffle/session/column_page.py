"""The page docs/columns.md, made from the columns themselves: `python -m yaffle.session.column_page >
docs/columns.md`.
"""

from yaffle.session.filtering import COLUMNS
from yaffle.session.flow_filter import FLOW_COLUMNS

_HEAD = """# Columns for filters
A filter is a boolean SQL expression. For example:

    wait_ms > 500 and server_port = 5432
    site = 'Isle of Wren' and loss_ms > 0.5 * wait_ms
    client_name like 'desk-%' and began > '2026-03-10 06:38'
    exporter = '203.0.113.244' and bytes > 1000000

It runs in DuckDB, which here can read no file, load no extension and write nothing; after 20 s it is stopped. An
expression narrows exchanges where all its columns are theirs, and flow records where all its columns are theirs;
what it has no meaning for stays as it is, and the view says so.

## Exchanges
One row is an exchange, or a connection attempt that failed.

| column | meaning |
|---|---|
"""
_FLOWS = """
## Flow records
One row is a record; of a history's sums one row is a sum.

| column | meaning |
|---|---|
"""


def page() -> str:
    """The whole page."""
    return _HEAD + _rows(COLUMNS) + _FLOWS + _rows(FLOW_COLUMNS)


def _rows(columns: tuple[tuple[str, str], ...]) -> str:
    return "".join(f"| `{name}` | {meaning} |\n" for name, meaning in columns)


if __name__ == "__main__":
    print(page(), end="")
