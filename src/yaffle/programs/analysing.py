"""An analysis as programs and the command line ask for it. Imports little: a short command stays short."""

from collections.abc import Sequence
from pathlib import Path

from yaffle.analysis import Analysis, Told
from yaffle.analysis import analyse as run
from yaffle.capture.ring_folder import with_rings
from yaffle.engine_start import make_ready
from yaffle.hops.reports import ReportForm
from yaffle.inventory.expected_markings import USUAL, Expected
from yaffle.memory_plan import planned
from yaffle.progress import Progress
from yaffle.workforce import Workforce


def analysed(
    paths: Sequence[Path],
    progress: Progress,
    memory_bytes: int = 0,
    expected: Sequence[Expected] = USUAL,
    reports: ReportForm = ReportForm(),
    workforce: Workforce | None = None,
) -> Analysis:
    """Captures (rings, too), IPFIX files, a history; see `case.analyse`. Raises YaffleError, Cancelled."""
    files = with_rings(list(paths))
    make_ready(files, progress)
    plan = planned(files, memory_bytes)
    done = run(files, progress, plan, workforce) if workforce is not None else run(files, progress, plan)
    done = done.as_told(Told(expected=tuple(expected)))
    return done if reports == ReportForm() else done.with_reports(reports)
