"""Look-ups and leases that fail, by the table `questions`: each server, or network, is told of when it begins to fail,
and again only after it was well.
"""

from collections.abc import Sequence
from typing import Any

from yaffle.history.layout import QUESTIONS, files_between
from yaffle.history.store import History
from yaffle.watching.event_rows import HAPPENED, Event
from yaffle.watching.watch import Watch

_WINDOW_NS = 300 * 10**9
_LEAST_ASKED, _LEAST_CLIENTS = 10, 3  # below which nothing is said
_NAMES, _LEASES = ("dns",), ("dhcp", "dhcpv6")  # Who asks all (mDNS) and is not answered only learns that nobody is it.
_FIRST_ASKED = ("DISCOVER", "SOLICIT")  # by which a host asks for an address; a renewal can do without
_NAMED_OUTCOMES = 3

Known = dict[str, Any] | None


def failing_lookups(history: History, watch: Watch, known: Known, now_ns: int) -> tuple[dict[str, Any], list[Event]]:
    """Servers more than half of whose look-ups of the last five minutes failed."""
    query = (
        "SELECT server AS subject, count(*) AS asked, count(*) FILTER (failed) AS bad,"
        " count(DISTINCT client) AS clients FROM few GROUP BY server"
    )
    rows = _asked(history, _NAMES, "true", query, now_ns)
    told = {
        row["subject"]: f"{row['bad']:,} of {row['asked']:,} look-ups at {row['subject']} failed within 5 min, of"
        f" {row['clients']:,} clients: {row['outcomes']}"
        for row in rows
        if row["asked"] >= _LEAST_ASKED and 2 * row["bad"] > row["asked"]
    }
    well = {row["subject"] for row in rows if row["asked"] >= _LEAST_ASKED and row["subject"] not in told}
    return _turned(watch, known, told, well, now_ns)


def failing_leases(history: History, watch: Watch, known: Known, now_ns: int) -> tuple[dict[str, Any], list[Event]]:
    """Networks on which most hosts that ask for an address get none: addresses are exhausted, or nobody gives any."""
    kinds = ", ".join(f"'{kind}'" for kind in _FIRST_ASKED)
    query = (
        "SELECT capture AS subject, count(DISTINCT client) AS asked,"
        " count(DISTINCT client) FILTER (failed) AS bad FROM few GROUP BY capture"
    )
    rows = _asked(history, _LEASES, f"upper(kind) IN ({kinds})", query, now_ns)
    told = {
        row["subject"]: f"{row['bad']:,} of {row['asked']:,} hosts at {row['subject']} got no address within 5 min"
        f" ({row['outcomes']}): the range is exhausted, or nobody answers"
        for row in rows
        if row["bad"] >= _LEAST_CLIENTS and 2 * row["bad"] > row["asked"]
    }
    well = {row["subject"] for row in rows if row["subject"] not in told}
    return _turned(watch, known, told, well, now_ns)


def _asked(history: History, protocols: Sequence[str], condition: str, query: str, now_ns: int) -> list[dict[str, Any]]:
    """Questions of the last minutes put together, each group with its failures' outcomes in words."""
    since_ns = now_ns - _WINDOW_NS
    names = ", ".join(f"'{name}'" for name in protocols)
    few = (
        f"WITH few AS (SELECT * FROM told WHERE time_ns > {since_ns} AND time_ns <= {int(now_ns)}"
        f" AND protocol IN ({names}) AND {condition})"
    )
    subject = query.removeprefix("SELECT ").partition(" ")[0]
    found = history.told(
        lambda: files_between(history.folder, QUESTIONS, since_ns),
        f"{few}, own AS ({query}), bad AS (SELECT {subject} AS subject, outcome, count(*) AS many FROM few WHERE failed"
        " GROUP BY ALL) SELECT own.*, (SELECT list(outcome || ' ' || many ORDER BY many DESC, outcome) FROM bad WHERE"
        " bad.subject = own.subject) AS outcomes FROM own ORDER BY own.subject",
    )
    rows = found.to_pylist() if found is not None else []
    return [row | {"outcomes": ", ".join((row["outcomes"] or [])[:_NAMED_OUTCOMES])} for row in rows]


def _turned(
    watch: Watch, known: Known, told: dict[str, str], well: set[str], now_ns: int
) -> tuple[dict[str, Any], list[Event]]:
    """What is held from now on, and events of those that fail newly. Who was not heard of stays as it was."""
    failing = [subject for subject in (known or {}).get("failing", []) if subject not in well]
    events = [
        Event(now_ns, watch.name, subject, HAPPENED, watch.severity, words=words)
        for subject, words in told.items()
        if subject not in failing
    ]
    return {"failing": sorted({*failing, *told})}, events
