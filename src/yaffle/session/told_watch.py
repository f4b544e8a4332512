"""The watch that would tell of something that is looked at: a test, a measure of a group, a finding. Filled in, with a
limit that leaves room above what is usual; the dialog tries it on the past.
"""

import math

import numpy as np

from yaffle.findings.finding import Finding
from yaffle.findings.full_links import CAUSE as FULL_LINK
from yaffle.findings.strained_hosts import CPU_CAUSES
from yaffle.history.wait_sums import text
from yaffle.ledger import causes
from yaffle.records.catalogue import COUNTERS, PROBES, RECORDS, WAITS
from yaffle.session.baselines import FLOW_VOLUME, Subject
from yaffle.session.catalogue_values import BY_TITLE
from yaffle.session.evidence import Evidence
from yaffle.session.probe_courses import ProbeCourse
from yaffle.watching.watch import ABOVE, BELOW, Watch

_MINUTE_NS = 60 * 10**9
_ROOM = 1.5  # times the value that 95 of 100 stay below
_OVER_NS = tuple(minutes * _MINUTE_NS for minutes in (5, 15, 60, 1440))
_SPARE = 1.2  # times the pause between two results
_FAILING, _OFTEN = 0.05, 50.0  # share of a test's results, and the limit, %
_POOR_MOS = 3.6  # below it many users are dissatisfied (ITU-T G.107, Annex B)
_HALF, _FULL, _BUSY = 0.5, 90.0, 95.0
_SLOW_MS = 250.0  # of an exchange: what a finding calls slow (docs/thresholds.md)
_WAITED = {causes.CLIENT: "client_wait", causes.NETWORK: "network_wait", causes.SERVER: "server_wait"}
# Columns by which one member of a group is asked for, by table.
_COLUMN = {
    WAITS: {"application": "application", "site": "site", "client": "client"},
    RECORDS: {"site": "site", "host": "src", "peer": "dst", "exporter": "exporter"},
    COUNTERS: {"interface": "interface", "device": "device"},
}


def watch_of_test(one: ProbeCourse) -> Watch:
    """A test that becomes slower, sounds worse or fails more often than it does."""
    way = f" AND direction = {text(one.direction)}" if one.direction else ""
    where, over_ns = f"name = {text(one.name)}{way}", _over_ns(one)
    called = f"{one.name} {one.direction}".strip()
    if one.failed_share > _FAILING or not (math.isfinite(one.median_ms) or one.shows_quality):
        return Watch(f"{called} fails", "test_failures", "test", where, over_ns, ABOVE, _OFTEN)
    if one.shows_quality:
        return Watch(f"{called} sounds poor", "test_mos", "test", where, over_ns, BELOW, _POOR_MOS)
    if math.isfinite(one.median_bps):
        limit = _rounded(_HALF * one.median_bps)
        return Watch(f"{called} is slow", "test_throughput", "test", where, over_ns, BELOW, limit)
    limit = _rounded(_ROOM * one.p95_ms)
    return Watch(f"{called} is slow", "test_round_trip", "test", where, over_ns, ABOVE, limit)


def _over_ns(one: ProbeCourse) -> int:
    """The shortest interval to judge by that holds a result whenever the test runs as it did."""
    between_ns = float(np.median(np.diff(one.times_ns))) if one.times_ns.size > 1 else 0.0
    return next((own for own in _OVER_NS if own >= _SPARE * between_ns), _OVER_NS[-1])


def watch_of_measure(subject: Subject, usual: float) -> Watch | None:
    """A measure that is above `usual`, or below it where less is worse; None where no history keeps it."""
    entry = BY_TITLE.get(subject.measure)
    name = "volume" if subject.measure == FLOW_VOLUME else entry.name if entry is not None else ""
    if not name:
        return None
    table = entry.table if entry is not None else RECORDS
    by = subject.by if entry is None or subject.by in entry.groups else ""
    column = "name" if table == PROBES else _COLUMN.get(table, {}).get(by, "")
    where = f"{column} = {text(subject.label)}" if column and subject.label else ""
    of = by or ("test" if table == PROBES else "")
    below = name in ("test_throughput", "test_mos")
    limit = _rounded(usual * (_HALF if below else _ROOM)) if math.isfinite(usual) else 0.0
    words = f"{subject.measure} {subject.label}".strip()
    return Watch(words, name, of, where, 15 * _MINUTE_NS, BELOW if below else ABOVE, limit)


def watch_of_finding(evidence: Evidence, finding: Finding) -> Watch | None:
    """What the finding says, when it comes again; None where no history is open or nothing measures it."""
    if evidence.analysis.history is None:
        return None
    if finding.cause == FULL_LINK:
        where = f"interface = {text(finding.subject)}"
        return Watch(f"{finding.subject} is full", "utilization", "interface", where, 15 * _MINUTE_NS, ABOVE, _FULL)
    if finding.cause in CPU_CAUSES:
        words, where = f"{finding.subject} is busy", f"device = {text(finding.subject)}"
        return Watch(words, "processor load", "object", where, 5 * _MINUTE_NS, ABOVE, _BUSY)
    if finding.party not in _WAITED:
        return None
    words, measure = f"{finding.subject} waits for its {finding.party}", _WAITED[finding.party]
    if finding.site:
        return Watch(words, measure, "site", f"site = {text(finding.site)}", 15 * _MINUTE_NS, ABOVE, _SLOW_MS)
    return Watch(words, measure, "application", "", 15 * _MINUTE_NS, ABOVE, _SLOW_MS)


def _rounded(value: float) -> float:
    return float(f"{value:.2g}")
