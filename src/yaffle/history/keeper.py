"""The one thread that writes a history: whoever collects something hands it over, and waits for no disk."""

import queue
import threading
import time

import pyarrow as pa

from yaffle.history.writer import HistoryWriter
from yaffle.records.flow_table import FlowRecords

_BACKLOG = 64  # Things that wait for the writer.
_TIDY_S = 60.0


class Keeper:
    """Takes what is collected from `start` to `stop`."""

    def __init__(self, writer: HistoryWriter) -> None:
        self.writer = writer
        self._queue: queue.Queue[FlowRecords | tuple[str, pa.Table] | None] = queue.Queue(_BACKLOG)
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
        return True

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

    def _write(self) -> None:
        tidied = time.monotonic()
        while (found := self._queue.get()) is not None:
            if isinstance(found, FlowRecords):
                self.writer.append(found)
            else:
                self.writer.append_rows(*found)
            if time.monotonic() - tidied >= _TIDY_S and self._queue.empty():
                self.writer.tidy()
                tidied = time.monotonic()
        self.writer.tidy()
