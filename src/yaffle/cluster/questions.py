"""The workers of a distributed engine as those who answer questions about a history: each about some of its files, what
they found is put together here.
"""

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any, Self

import pyarrow as pa
import pyarrow.feather

from yaffle.cluster import history_tasks, tasks
from yaffle.cluster.crew import Crew
from yaffle.errors import YaffleError
from yaffle.history.asker import ChangedError
from yaffle.history.layout import EXPORTERS, folders
from yaffle.history.mirror import mirror_at, row_count
from yaffle.progress import Progress, go_on

_Job = tuple[str, Callable[..., Any], tuple[Any, ...]]
_LEAST_ROWS = 500_000  # of fewer this machine finds it sooner
_TASK_ROWS = 250_000  # that one task reads at least
_ROUNDS = 3  # tasks a thread, so that the last one is not waited for long


class Questions(Crew):
    """Workers that a scheduler knows. Use it in a `with` block."""

    def __init__(self, scheduler: str, store: str, history: Path, progress: Progress = go_on) -> None:
        super().__init__(scheduler, store)
        mirror = mirror_at(history)
        self._history, self._where = history, str(history.resolve()) if mirror is None else mirror.url
        self._progress = progress
        self._asked = 0

    def __enter__(self) -> Self:
        super().__enter__()
        told = self._history / EXPORTERS
        content = told.read_bytes() if told.exists() else b""
        self._store.write(history_tasks.tellers_name(self._run), lambda path: path.write_bytes(content))
        return self

    def answers(self, root: Path, files: Sequence[Path], view: str, query: str) -> pa.Table | None:
        """What a question finds in the rows of some files at a time; None where there is too little to be asked. Raises
        ChangedError, YaffleError; Cancelled.
        """
        counts = [row_count(path) for path in files]
        if root.resolve() != self._history.resolve() or sum(counts) < _LEAST_ROWS:
            return None
        each = max(_TASK_ROWS, sum(counts) // (self.threads * _ROUNDS))
        names = [[str(path.relative_to(root)) for path in some] for some in _batches(files, counts, each)]
        jobs = [("answer", history_tasks.answer, (self._where, some, view, query)) for some in names]
        return pa.concat_tables(self._answered(jobs, "asking the history on the cluster"), promote_options="permissive")

    def parts(self, name: str, first_ns: int, last_ns: int) -> Iterator[pa.Table]:
        """The rows of a table as they are exported, in order of their hours or days. Raises YaffleError; Cancelled."""
        starts = sorted({start for start, _ in folders(self._history / name)})
        each = max(1, -(-len(starts) // (self.threads * _ROUNDS)))
        some = [starts[begin : begin + each] for begin in range(0, len(starts), each)]
        jobs = [("export", history_tasks.export, (self._where, name, (first_ns, last_ns), own)) for own in some]
        yield from self._answered(jobs, f"reading {name} on the cluster")

    def _answered(self, jobs: Sequence[_Job], words: str) -> Iterator[pa.Table]:
        begin = self._asked
        self._asked += len(jobs)
        numbered = [(name, act, (begin + k, *values)) for k, (name, act, values) in enumerate(jobs)]
        told = self._done(numbered, lambda share: self._progress(share, words))
        if broken := next((done.wrong for done in told if done.wrong), ""):
            if broken == history_tasks.GONE:
                raise ChangedError(f"{self._where}: its files change faster than they are read")
            raise YaffleError(broken)
        beside = tasks.fetched_folder(self._run)
        for number in [begin + k for k, done in enumerate(told) if done.written_bytes]:
            yield pyarrow.feather.read_table(self._store.read(history_tasks.answer_name(self._run, number), beside))


def _batches(files: Sequence[Path], counts: Sequence[int], each: int) -> Iterator[list[Path]]:
    """Files one after the other, so many that they have about as many rows."""
    held: list[Path] = []
    rows = 0
    for path, count in zip(files, counts, strict=True):
        held.append(path)
        rows += count
        if rows >= each:
            yield held
            held, rows = [], 0
    if held:
        yield held
