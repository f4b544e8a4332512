"""A whole analysis: captures read, every wait accounted for."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from yaffle.arrays import Array
from yaffle.capture.reader import Capture, Progress, go_on, read_captures
from yaffle.ledger.engine import Account, account_all
from yaffle.ledger.views import speaking_views


@dataclass
class Analysis:
    """What was read and what was found."""

    capture: Capture
    account: Account
    speaker: Array  # for each connection, the view of it that speaks for all


def analyse(paths: Sequence[Path | str], progress: Progress = go_on) -> Analysis:
    """Reads the files and accounts for every wait. Raises YaffleError or Cancelled."""
    capture = read_captures(paths, lambda share, words: progress(0.6 * share, words))
    account = account_all(capture, lambda share, words: progress(0.6 + 0.4 * share, words))
    return Analysis(capture, account, speaking_views(account, capture.conversations))
