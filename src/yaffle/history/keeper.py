"""The one thread that writes a history: whoever collects something hands it over, and waits for no disk."""

import queue
import threading
import time

import pyarrow as pa

from yaffle.history.writer import HistoryWriter
from yaffle.records.flow_table import FlowRecords

_BACKLOG = 256  # Things that wait for the writer.
_TIDY_S = 60.0
_TOGETHER_S, _LONGEST_S = 0.05, 0.4  # So long it is waited for what may come next, and for all of it.


class Keeper:
    """Takes what is collected from `start` to `stop`."""

    def __init__(self, writer: HistoryWriter) -> None:
        self.writer = writer
        self._queue: queue.Queue[FlowRecords | tuple[str, pa.Table] | None] = queue.Queue(_BACKLOG)
        # What was handed over, by whichever thread, what of it the writer has, and what is on the disk.
        self._handed = self._held = self._settled = 0
        self._counting = threading.Lock()
        self._thread = threading.Thread(target=self._write, name="write history", daemon=True)

    def start(self) -> None:
        """Begins."""
        self._thread.start()

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
        """Why nothing is written at the moment; empty while all is well."""
        return self.writer.trouble

    def stop(self) -> None:
        """Ends when all is written, and lets the folder go."""
        self._queue.put(None)
        self._thread.join()
        self.writer.close()

    def _hold(self, found: "FlowRecords | tuple[str, pa.Table]") -> None:
        if isinstance(found, FlowRecords):
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
            self._held += 1
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
