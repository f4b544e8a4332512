"""The engine that answers questions about tables of a history: one for the process, a cursor a question."""

from functools import lru_cache

import duckdb


@lru_cache(1)
def _engine() -> duckdb.DuckDBPyConnection:
    return duckdb.connect(config={"threads": 2})  # Making one takes longer than most questions.


def cursor() -> duckdb.DuckDBPyConnection:
    """For one question, on any thread; to be closed."""
    return _engine().cursor()
