"""The workers of a distributed engine as the workforce of an analysis."""

from collections.abc import Callable, Generator, Iterator, Sequence
from contextlib import closing, suppress
from dataclasses import dataclass, replace
from pathlib import Path
from types import TracebackType
from typing import Any, NamedTuple, Self

from yaffle.arrays import runs_of
from yaffle.capture.captured import Capture
from yaffle.capture.draft import Draft
from yaffle.capture.joined import joined
from yaffle.capture.one_file import FileFacts
from yaffle.capture.payload import Payload
from yaffle.capture.ranges import Piece, cuts_of, fitting, join_ranges
from yaffle.capture.reader import settled
from yaffle.cluster import tasks
from yaffle.cluster.here import Here
from yaffle.cluster.stored_parts import read_account, read_capture, read_facts, read_piece, write_part
from yaffle.errors import Cancelled, YaffleError
from yaffle.exchanges.messages import Messages
from yaffle.file_store import Store
from yaffle.kernel_cache import key
from yaffle.ledger.accounts import OwnAccount
from yaffle.ledger.arrangement import Arrangement
from yaffle.ledger.known import KnownAccount
from yaffle.parts import cut_part, join_parts
from yaffle.progress import Progress
from yaffle.room import Room, spill_folder

_WAIT_S = 30.0  # for a scheduler, and for its first worker
_LOOK_S = 0.2  # between two looks at whether to go on
_LEAST_PART, _MOST_PART = 250_000, 4_000_000  # packets
_LEAST_RANGE = 256 << 20  # bytes of a file that is read in ranges
_ROUNDS = 3  # parts a thread, so that the last one is not waited for long
_AGAIN = 3  # times that a task is begun once more
_LACKING = "pip install 'yaffle[cluster]'"


class Crew(Here):
    """Workers that a scheduler knows. Use it in a `with` block: at its end, what was exchanged is taken away."""

    def __init__(self, scheduler: str, store: str) -> None:
        super().__init__()
        self._scheduler, self._store = scheduler, Store(store)
        self._client: Any = None
        self._begun = 0  # tasks, each with a name of its own
        self.done: list[tasks.Done] = []  # what tasks told so far

    def __enter__(self) -> Self:
        try:
            from distributed import Client
        except ImportError as error:
            raise YaffleError(f"--cluster needs a package that is not installed: {_LACKING}") from error
        try:
            self._client = Client(self._scheduler, timeout=_WAIT_S, set_as_default=False)
            self._client.wait_for_workers(1, timeout=_WAIT_S)
        except (OSError, TimeoutError, ValueError) as error:
            self._close()
            raise YaffleError(f"{self._scheduler}: no scheduler with workers answers there ({error})") from error
        try:
            self._store.write(f"{self._run}/here", lambda path: path.write_text("here"))
            self._look_around()
        except BaseException:
            self._leave()
            raise
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._leave()
        super().__exit__(kind, error, trace)

    @property
    def written_bytes(self) -> int:
        """What workers and this machine wrote to the store so far."""
        return self._store.written_bytes + sum(done.written_bytes for done in self.done)

    @property
    def threads(self) -> int:
        """How many tasks run at once."""
        return max(1, sum(int(threads) for threads in self._client.nthreads().values()))

    def _leave(self) -> None:
        try:
            with suppress(Exception):  # Workers that are lost keep what they fetched.
                self._client.run(tasks.forget, self._run)
            self._store.remove(self._run)
        finally:
            self._close()

    def _close(self) -> None:
        if self._client is not None:
            self._client.close()

    def _look_around(self) -> None:
        """Whether all workers run this version and see the store. Raises YaffleError."""
        try:
            found = self._client.run(tasks.look_around, self._store.url, self._run)
        except (OSError, ImportError, AttributeError) as error:
            raise YaffleError(
                f"{self._scheduler}: a worker does not answer as one of this version of Yaffle would ({error})"
            ) from error
        for worker, (version, sees) in found.items():
            if version != key():
                raise YaffleError(f"{worker}: this worker runs another version of Yaffle; install the same everywhere")
            if not sees:
                raise YaffleError(
                    f"{worker}: this worker does not see {self._store.url}; give a folder or an object store that all"
                    " see (--store)"
                )

    def read(self, paths: Sequence[Path], progress: Progress, room: Room) -> Capture:
        """The captures as one, each read by a worker, a large one by several. room: where packets are put."""
        files, reached = self._cut(paths), [0.0]

        def go_on(share: float, words: str) -> bool:
            reached[0] = max(reached[0], 0.9 * share)
            return progress(reached[0], words)

        def step() -> None:
            if not go_on(0.0, "joining what was read"):
                raise Cancelled

        with closing(self._reads(files, lambda share: go_on(share, "reading captures on the cluster"))) as reads:
            if len(files) == 1:
                draft = next(reads).alone(room, step)
            else:  # Each file is joined when it is there, while workers read what follows.
                draft = joined((one.apart(step) for one in reads), [file.octets for file in files], room)
        local = {given: path for path, given in self._given.items()}
        draft.sources = [replace(source, path=local.get(source.path, source.path)) for source in draft.sources]
        return settled(draft, progress)

    def _reads(self, files: Sequence["_File"], progress: Callable[[float], bool]) -> Generator["_Read"]:
        """Each file as soon as it and those before it are read. Raises YaffleError where one cannot be read."""
        jobs = [
            ("read_file_range", tasks.read_file_range, (number, piece, self.address(str(file.path.resolve())), *edges))
            if len(file.ranges) > 1
            else ("read_file", tasks.read_file, (number, self.address(str(file.path.resolve()))))
            for number, file in enumerate(files)
            for piece, edges in enumerate(file.ranges)
        ]
        with closing(self._in_turn(jobs, progress)) as told:
            for number, file in enumerate(files):
                counts = [_packets(next(told)) for _ in file.ranges]
                yield self._read(number, file, counts) or self._again(number, file, progress)

    def _again(self, number: int, file: "_File", progress: Callable[[float], bool]) -> "_Read":
        """A file as a whole whose ranges do not fit each other."""
        told = self._done([("read_file", tasks.read_file, (number, self.address(str(file.path.resolve()))))], progress)
        return self._whole(number, file, _packets(told[0]))

    def _cut(self, paths: Sequence[Path]) -> list["_File"]:
        """Each file with the ranges that it is read in."""
        sizes = [path.stat().st_size if path.is_file() else 0 for path in paths]
        each = max(_LEAST_RANGE, sum(sizes) // (self.threads * _ROUNDS))
        found = []
        for path, size in zip(paths, sizes, strict=True):
            cuts = cuts_of(path, size // each) if size >= 2 * each else []
            found.append(_File(path, size, list(zip([0, *cuts], [*cuts, None], strict=True))))
        return found

    def _whole(self, number: int, file: "_File", packets: int) -> "_Read":
        return _Read(self._store, f"{self._run}/read-{number}", tasks.fetched_folder(self._run), file.path, packets)

    def _read(self, number: int, file: "_File", counts: Sequence[int]) -> "_Read | None":
        """What was read of a file, so many packets in each of its ranges; None where these do not fit each other."""
        one = self._whole(number, file, counts[0])
        if len(counts) == 1:
            return one
        told = [read_facts(self._store, f"{one.name}-{piece}", one.beside) for piece in range(len(counts))]
        facts = [facts for facts, _ in told]
        fit = fitting(facts, [steady for _, steady in told], [begin for begin, _ in file.ranges[1:]])
        return (
            _ReadInRanges(one.store, one.name, one.beside, file.path, sum(counts[:fit]), facts[:fit]) if fit else None
        )

    def account(
        self,
        capture: Capture,
        arranged: Arrangement,
        payload: Payload,
        progress: Progress,
        room: Room,
        known: KnownAccount | None = None,
    ) -> tuple[Messages, OwnAccount]:
        """What connections say and their accounts, part by part on the workers."""
        if known is not None or not arranged.flow.size:
            return super().account(capture, arranged, payload, progress, room, known)
        most = min(_MOST_PART, max(_LEAST_PART, int(arranged.starts[-1]) // (self.threads * _ROUNDS)))
        runs = runs_of(arranged.starts, most)
        sources = [self.address(source.path) for source in capture.sources]

        def jobs() -> Iterator[tuple[str, Callable[..., Any], tuple[Any, ...]]]:
            for number, (first, last) in enumerate(runs):
                write_part(self._store, f"{self._run}/part-{number}", cut_part(capture, arranged, first, last))
                yield "account_for", tasks.account_for, (number, sources)

        beside = tasks.fetched_folder(self._run)
        words = "accounting for every wait on the cluster"
        with closing(self._in_turn(jobs(), lambda share: progress(0.9 * share, words))) as done:
            # Each is joined when it is there, while workers account for what follows.
            parts = (read_account(self._store, f"{self._run}/found-{number}", beside) for number, _ in enumerate(done))
            return join_parts(capture, arranged, parts, room)

    def _done(self, jobs: Any, progress: Callable[[float], bool]) -> list[tasks.Done]:
        """What the tasks gave, when all are done. Raises as below."""
        return list(self._in_turn(jobs, progress))

    def _in_turn(self, jobs: Any, progress: Callable[[float], bool]) -> Generator[tasks.Done]:
        """What the tasks gave, in their order, each as soon as it and those before are done. Raises Cancelled, or
        YaffleError where one cannot be done.
        """
        from distributed import KilledWorker, wait
        from distributed.client import FutureCancelledError

        futures: list[Any] = []
        try:
            for name, act, values in jobs:
                label = f"{name}-{self._run}-{self._begun}"
                self._begun += 1
                futures.append(
                    self._client.submit(act, self._store.url, self._run, *values, key=label, pure=False, retries=_AGAIN)
                )
                if not progress(0.0):
                    raise Cancelled
            left = set(futures)
            for future in futures:
                while not future.done():
                    with suppress(TimeoutError), self._client.as_current():
                        wait(left, timeout=_LOOK_S, return_when="FIRST_COMPLETED")
                    left = {one for one in left if not one.done()}
                    if not progress(1.0 - len(left) / len(futures)):
                        raise Cancelled
                    if broken := next((one for one in futures if one.status == "error"), None):
                        broken.result()
                found: tasks.Done = future.result()
                self.done.append(found)
                yield found
        except KilledWorker as error:
            raise YaffleError(
                f"{error.task}: {error.allowed_failures + 1} workers died over it, for want of memory as a rule;"
                " give workers more memory, or fewer threads"
            ) from error
        except FutureCancelledError as error:
            raise YaffleError(f"{self._scheduler}: the scheduler was lost ({error})") from error
        except (OSError, TimeoutError) as error:
            raise YaffleError(f"{self._scheduler}: a task failed ({error})") from error
        finally:
            with suppress(Exception):  # A scheduler that is lost has nothing to cancel.
                self._client.cancel(futures)


def _packets(done: tasks.Done) -> int:
    """How many packets a task read. Raises YaffleError where the file cannot be read."""
    if done.wrong:
        raise YaffleError(done.wrong)
    return done.found


class _File(NamedTuple):
    """A capture, and the ranges of its bytes that it is read in."""

    path: Path
    octets: int
    ranges: list[tuple[int, int | None]]


@dataclass(frozen=True)
class _Read:
    """A file that workers read."""

    store: Store
    name: str
    beside: Path
    path: Path
    packets: int

    def apart(self, step: Callable[[], None]) -> Draft:
        """Its packets, to be joined with others'. step: called with each piece, may raise Cancelled."""
        step()
        return read_capture(self.store, self.name, self.beside)

    def alone(self, room: Room, step: Callable[[], None]) -> Draft:
        """Its packets, put there."""
        return joined([self.apart(step)], [self.packets], room)


@dataclass(frozen=True)
class _ReadInRanges(_Read):
    """A file that workers read in ranges."""

    facts: list[FileFacts]

    def apart(self, step: Callable[[], None]) -> Draft:
        return self.alone(Room(), step)

    def alone(self, room: Room, step: Callable[[], None]) -> Draft:
        def pieces() -> Iterator[Piece]:
            for piece in range(len(self.facts)):
                step()
                yield read_piece(self.store, f"{self.name}-{piece}", self.beside)

        return join_ranges(self.path, self.facts, pieces(), self.packets, room)


def workforce_of(scheduler: str, store: str) -> Here:
    """Who does an analysis: the workers of a scheduler where one is named, else this machine."""
    return Crew(scheduler, store or str(spill_folder())) if scheduler else Here()
