"""Questions about many files of a history whose answers are put together from answers about some of them."""

from collections.abc import Sequence
from pathlib import Path
from typing import Protocol

import pyarrow as pa

from yaffle.history.database import cursor
from yaffle.history.layout import HistoryError
from yaffle.history.mirror import at_hand


class ChangedError(HistoryError):
    """Files went while they were asked: they are looked for once more."""


class Asker(Protocol):
    """Others who answer such questions."""

    def answers(self, root: Path, files: Sequence[Path], view: str, query: str) -> pa.Table | None:
        """What a question finds in the rows (a view of that name) of some files at a time, one after the other; None
        where it is better asked here. Raises ChangedError, YaffleError.
        """


def put_together(
    asker: Asker | None, root: Path, files: Sequence[Path], view: str, partial: str, whole: str
) -> pa.Table:
    """What a question finds in files. partial: what is asked of the rows of some of them (a view of that name); whole:
    what of such answers (`parts`). Raises duckdb.Error, ChangedError, HistoryError.
    """
    answers = asker.answers(root, files, view, partial) if asker is not None else None
    with cursor() as db:
        if answers is None:
            rows = db.read_parquet(at_hand(files), union_by_name=True)
            found: pa.Table = rows.query(view, f"WITH parts AS ({partial}) {whole}").to_arrow_table()
        else:
            found = db.from_arrow(answers).query("parts", whole).to_arrow_table()
    return found
