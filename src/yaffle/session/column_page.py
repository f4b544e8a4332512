"""The page docs/columns.md, made from the columns themselves: `python -m yaffle.session.column_page >
docs/columns.md`.
"""

from yaffle.session.filtering import COLUMNS

_HEAD = """# Columns for filters
A filter is a boolean SQL expression over these columns; one row is an exchange, or an opening that failed. For example:

    wait_ms > 500 and server_port = 5432
    site = 'Isle of Wren' and loss_ms > 0.5 * wait_ms
    client_name like 'desk-%' and began > '2026-03-10 06:38'

It runs in DuckDB, which here can read no file, load no extension and write nothing.

| column | meaning |
|---|---|
"""


def page() -> str:
    """The whole page."""
    return _HEAD + "".join(f"| `{name}` | {meaning} |\n" for name, meaning in COLUMNS)


if __name__ == "__main__":
    print(page(), end="")
