"""Where the log is."""

import logging
from pathlib import Path

import platformdirs


def log_file() -> Path:
    """The file of the log."""
    return Path(platformdirs.user_log_dir("yaffle")) / "yaffle.log"


def log_to_file() -> None:
    """Writes what is logged from now on to that file."""
    path = log_file()
    path.parent.mkdir(parents=True, exist_ok=True)
    logging.basicConfig(filename=path, level=logging.INFO, format="%(asctime)s %(levelname)s %(name)s %(message)s")
