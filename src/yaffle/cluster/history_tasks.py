"""What workers do for questions about a history: each reads some of its files, wherever they lie, and puts its answer
into the store of the run.
"""

import time
from collections.abc import Sequence
from pathlib import Path
from threading import Lock

import duckdb
import pyarrow as pa
import pyarrow.feather

from yaffle.cluster.tasks import Done, fetched_folder, of_run, writing
from yaffle.errors import YaffleError
from yaffle.file_store import Store, is_url
from yaffle.history.database import cursor
from yaffle.history.layout import EXPORTERS
from yaffle.history.mirror import at_hand, mirror_at, mirrored
from yaffle.session.table_export import history_parts

GONE = "gone"  # what is wrong where files went meanwhile
_LOCK = Lock()
_MIRRORED: set[Path] = set()


def answer_name(run: str, number: int) -> str:
    """Where the answer of a task is put."""
    return f"{run}/answer-{number}.arrow"


def tellers_name(run: str) -> str:
    """By whose numbers all workers number who told."""
    return f"{run}/{EXPORTERS}"


@of_run
def answer(store: str, run: str, number: int, where: str, files: Sequence[str], view: str, query: str) -> Done:
    """What a question finds in some files of a history (their names within it). Gives the number of rows found."""
    began, to = time.process_time(), Store(store)
    try:
        root = history_here(to, run, where)
        paths = [root / name for name in files]
        if not all(path.exists() for path in paths) and (mirror := mirror_at(root)) is not None:
            mirror.refresh()
        with cursor() as db:
            db.execute(f"SET threads TO {_threads()}")
            rows = db.read_parquet(at_hand(paths), union_by_name=True)
            table = rows.query(view, query).to_arrow_table()
    except duckdb.Error as error:
        return Done(0, GONE if not all(path.exists() for path in paths) else str(error))
    except YaffleError as error:
        return Done(0, str(error))
    return _put(to, run, number, table, began)


@of_run
def export(
    store: str, run: str, number: int, where: str, name: str, period: tuple[int, int], of: Sequence[int]
) -> Done:
    """The rows of hours or days (by their beginnings) of a table, as they are exported. Gives their number."""
    began, to = time.process_time(), Store(store)
    try:
        tables = list(history_parts(history_here(to, run, where), name, *period, of))
    except (OSError, pa.ArrowException, YaffleError) as error:
        return Done(0, str(error))
    return _put(to, run, number, pa.concat_tables(tables, promote_options="permissive"), began) if tables else Done(0)


def _threads() -> int:
    """As many as this worker may use for all its tasks: others may share its machine."""
    from distributed import get_worker

    return int(get_worker().state.nthreads)


def _put(to: Store, run: str, number: int, table: pa.Table, began: float) -> Done:
    with writing(run) as may:
        if may:
            to.write(answer_name(run, number), lambda path: pyarrow.feather.write_feather(table, path, "lz4"))
    return Done(table.num_rows, "", time.process_time() - began, to.written_bytes)


def history_here(store: Store, run: str, where: str) -> Path:
    """A history as a folder of this worker: itself, or of a store what is asked for. Raises YaffleError."""
    if not is_url(where):
        return Path(where)
    folder = fetched_folder(run) / "history"
    with _LOCK:
        if folder not in _MIRRORED:  # By this process: others of this machine share the folder.
            if not (folder / EXPORTERS).exists():
                store.fetch(tellers_name(run), folder / EXPORTERS)  # Nobody's number differs between workers.
            mirrored(where, folder)
            _MIRRORED.add(folder)
    return folder
