"""The one thread that writes a history: whoever collects something hands it over, and waits for no disk."""

import queue
import threading
import time
from collections.abc import Mapping
from pathlib import Path

import pyarrow as pa

from yaffle.file_store import is_url
from yaffle.history.copying import Copying, days_here, folder_here
from yaffle.history.layout import USUAL_DAYS
from yaffle.history.shipping import Shipper
from yaffle.history.writer import HistoryWriter
from yaffle.records.flow_table import FlowRecords

_BACKLOG = 256  # Things that wait for the writer.
_TIDY_S = 60.0
_LOOK_S = 0.2
_TOGETHER_S, _LONGEST_S = 0.05, 0.4  # So long it is waited for what may come next, and for all of it.


def keeper_at(history: str, days: Mapping[str, int], store: str = "") -> "Keeper":
    """Whoever keeps a history in a folder, or at an address of a store, or in a folder and a store. days: for how many
    days each level is kept, where that is not as usual. Raises HistoryError, YaffleError.
    """
    if is_url(history):
        history, store = str(folder_here(history)), history
    if not store:
        return Keeper(HistoryWriter(Path(history), dict(days)))
    every = {**USUAL_DAYS, **days}
    return Keeper(HistoryWriter(Path(history), days_here(every)), Shipper(Path(history), store, every))


class _Asked:
    """Who wants to know which files changed."""

    def __init__(self) -> None:
        self.answer: list[Path] = []
        self.there = threading.Event()


class Keeper:
    """Takes what is collected from `start` to `stop`."""

    def __init__(self, writer: HistoryWriter, shipper: Shipper | None = None) -> None:
        self.writer = writer
        self._copying = Copying(shipper, self.changed) if shipper is not None else None
        self._queue: queue.Queue[FlowRecords | tuple[str, pa.Table] | _Asked | None] = queue.Queue(_BACKLOG)
        # What was handed over, by whichever thread, what of it the writer has, and what is on the disk.
        self._handed = self._held = self._settled = 0
        self._counting = threading.Lock()
        self._thread = threading.Thread(target=self._write, name="write history", daemon=True)

    def start(self) -> None:
        """Begins."""
        self._thread.start()
        if self._copying is not None:
            self._copying.start()

    def keep(self, days: Mapping[str, int]) -> None:
        """From now on, for how many days each level is kept."""
        self.writer.keep(dict(days) if self._copying is None else days_here(days))
        if self._copying is not None:
            self._copying.keep(days)

    def put(self, found: "FlowRecords | tuple[str, pa.Table]") -> bool:
        """Hands over flow records and counters, or rows of a table by its name; False where too much waits already."""
        try:
            self._queue.put_nowait(found)
        except queue.Full:
            return False
        with self._counting:
            self._handed += 1
        return True

    @property
    def settled(self) -> bool:
        """Whether all that was handed over is on the disk, or was given up."""
        return self._settled >= self._handed

    @property
    def waiting(self) -> int:
        """How much was handed over that the writer has not come to."""
        return self._queue.qsize()

    @property
    def trouble(self) -> str:
        """Why nothing is written, or put into the store, at the moment; empty while all is well."""
        return self.writer.trouble or self.store_trouble

    def changed(self) -> list[Path]:
        """The hours and days whose files are not those of the last time, each with as few of them as can be. To be
        asked by one thread, while it runs.
        """
        asked = _Asked()
        while self._thread.is_alive():
            try:
                self._queue.put(asked, timeout=_LOOK_S)
                break
            except queue.Full:
                continue
        while self._thread.is_alive() and not asked.there.wait(_LOOK_S):
            pass
        return asked.answer

    @property
    def store_trouble(self) -> str:
        """Why nothing is put into the store at the moment; empty while all is well, or there is none."""
        return self._copying.trouble if self._copying is not None else ""

    def stop(self) -> None:
        """Ends when all is written, and lets the folder go."""
        if self._copying is not None:
            self._copying.end()
        self._queue.put(None)
        self._thread.join()
        if self._copying is not None:
            self._copying.ship_last(self.writer.changed())
        self.writer.close()

    def _hold(self, found: "FlowRecords | tuple[str, pa.Table] | _Asked") -> None:
        if isinstance(found, _Asked):
            self.writer.flush()
            self.writer.gather()
            found.answer = self.writer.changed()
            found.there.set()
        elif isinstance(found, FlowRecords):
            self.writer.hold(found)
        else:
            self.writer.hold_rows(*found)

    def _gather(self) -> bool:
        """Takes in what waits, and what follows within a moment: many small things make one file. Whether more comes
        after that.
        """
        found = self._queue.get()
        until = time.monotonic() + _LONGEST_S
        while found is not None:
            self._hold(found)
            self._held += not isinstance(found, _Asked)
            if time.monotonic() >= until:
                return True
            try:
                found = self._queue.get(timeout=_TOGETHER_S)
            except queue.Empty:
                return True
        return False

    def _write(self) -> None:
        tidied = time.monotonic()
        more = True
        while more:
            more = self._gather()
            self.writer.flush()
            if not self.writer.trouble:
                self._settled = self._held
            if time.monotonic() - tidied >= _TIDY_S and self._queue.empty():
                self.writer.tidy()
                tidied = time.monotonic()
        self.writer.tidy()
