"""The demo's four weeks as a case: sites and applications named, and the complaints of that time."""

from datetime import UTC, datetime
from pathlib import Path

from yaffle.analysis import analyse
from yaffle.case.folder import save_case
from yaffle.demo import weeks
from yaffle.history.layout import is_history
from yaffle.history.weeks import write_weeks
from yaffle.inventory.places import Rule, Site
from yaffle.progress import Progress, go_on
from yaffle.session.demo_watches import write_demo_watches
from yaffle.session.kept import Complaint, Kept


def _at(day: int, hour: int, minute: int) -> int:
    return int(datetime(2026, 3, day, hour, minute, tzinfo=UTC).timestamp()) * 10**9


def make_four_weeks(folder: Path, progress: Progress = go_on) -> Path:
    """Writes history and case, and gives the case. Raises HistoryError or CaseError."""
    history = folder / "four-weeks-history"
    if not is_history(history):
        write_weeks(history, progress)
        write_demo_watches(history, progress)
    sites = [Site(name, network) for name, (network, _, _) in weeks.SITES.items()]
    rules = [Rule(name, server, port) for name, (server, port, _, _) in weeks.SERVICES.items()]
    rules.append(Rule(weeks.ARCHIVE_NAME, weeks.ARCHIVE[1], weeks.ARCHIVE[2]))
    complaints = (
        Complaint(
            "Saltmarsh", "ticket desk", "desks crawl when we open, fine after nine", _at(4, 5, 45), _at(4, 8, 30)
        ),
        Complaint("Saltmarsh", "manifest", "same again this morning", _at(6, 5, 40), _at(6, 9, 0)),
    )
    kept = Kept(complaints=complaints, rules=tuple(rules), sites=(*sites, Site("data centre", weeks.DATA_CENTRE)))
    case = folder / "four-weeks.yaffle"
    save_case(case, analyse([history]), kept.as_json())
    return case
