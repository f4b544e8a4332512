"""The thread that puts what a collector keeps into a store as well, every few seconds: nobody waits for a network."""

import logging
import threading
import time
from collections.abc import Callable, Mapping
from pathlib import Path

import platformdirs

from yaffle.errors import YaffleError
from yaffle.history.layout import TABLES
from yaffle.history.shipping import Shipper

_LOG = logging.getLogger(__name__)
EVERY_S = 10.0
_MOST_PAUSE_S = 300.0
_LAST_S = 20.0  # So long whoever ends a collector waits for what is left.
HERE_DAYS = 35  # So long single rows stay here, too: watches compare with four weeks.


def folder_here(url: str) -> Path:
    """Where a collector keeps what goes into a store."""
    name = "".join(one if one.isalnum() or one in "-." else "_" for one in url.split("://", 1)[-1])
    return Path(platformdirs.user_state_dir("yaffle"), "collected", name)


def days_here(keep: Mapping[str, int]) -> dict[str, int]:
    """For how long each level is kept on this machine where a store keeps it as `keep` says. Sums stay: they are
    small.
    """
    of_rows = {table.name for table in TABLES} | {"records"}
    return {name: min(days, HERE_DAYS) if name in of_rows else days for name, days in keep.items()}


class Copying:
    """From `start` to `end`. changed: gives the hours and days whose files are not those of the last time."""

    def __init__(self, shipper: Shipper, changed: Callable[[], list[Path]], every_s: float = EVERY_S) -> None:
        self._shipper, self._asked, self._every_s = shipper, changed, every_s
        self._changed: dict[Path, None] = {}
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._copy, name="copy history", daemon=True)
        self.trouble = ""  # why nothing is put into the store at the moment

    def keep(self, days: Mapping[str, int]) -> None:
        """From now on, for how many days the store keeps each level."""
        self._shipper.keep = dict(days)

    def start(self) -> None:
        """Begins."""
        self._thread.start()

    def end(self) -> None:
        """Asks for nothing more; what is being put into the store is left where it is."""
        self._ended.set()
        self._shipper.until_s = 0.0
        self._thread.join()

    def ship_last(self, changed: list[Path]) -> None:
        """Puts what is left into the store, as far as there is time; the rest is put there when it is started again."""
        self._changed |= dict.fromkeys(changed)
        self._shipper.until_s = time.monotonic() + _LAST_S
        self._ship()

    def _copy(self) -> None:
        pause_s = self._every_s
        while not self._ended.wait(pause_s):
            self._changed |= dict.fromkeys(self._asked())
            pause_s = self._every_s if self._ship() else min(2 * pause_s, _MOST_PAUSE_S)

    def _ship(self) -> bool:
        try:
            self._shipper.ship(list(self._changed))
        except (YaffleError, OSError) as error:
            trouble = f"nothing is put into the store at the moment, and stays here: {error}"
            if trouble != self.trouble:
                _LOG.warning("%s", trouble)
            self.trouble = trouble
            return False
        self._changed, self.trouble = {}, ""
        return True
