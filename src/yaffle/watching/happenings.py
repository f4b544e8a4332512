"""What happens and has no measure: another path to a target or of a flow, another hardware address behind an IP
address, hosts that are new on a subnet or gone from it, another DSCP of tests' packets, stations on the air that move
to another access point, look-ups and leases that fail. Each is told once.
"""

import json
from collections.abc import Sequence
from typing import Any

from yaffle.capture.registry import marking
from yaffle.history.layout import ADDRESSES, HOPS, HOUR_NS, PROBES, QUESTIONS, files_between
from yaffle.history.store import History
from yaffle.hops.hop_rows import MOVED
from yaffle.units import duration
from yaffle.watching.book import Book
from yaffle.watching.event_rows import HAPPENED, Event
from yaffle.watching.failing_questions import failing_leases, failing_lookups
from yaffle.watching.watch import Watch

PATH, HARDWARE, HOSTS, DSCP = "path", "hardware", "hosts", "dscp"
ROAMS, LOOKUPS, LEASES = "roams", "lookups", "leases"
KINDS = (PATH, HARDWARE, HOSTS, DSCP, ROAMS, LOOKUPS, LEASES)
_EVERY_NS, _BACK_NS = 10 * 10**9, 2 * HOUR_NS
_MOST_TOLD = 5
_MOST_MOVED = 100  # flows that are told of at one look


class Happenings:
    """Watches over what happens."""

    def __init__(self, history: History, book: Book, watches: Sequence[Watch]) -> None:
        self._history, self._book, self._watches = history, book, watches
        self._due_ns = 0

    def look(self, now_ns: int) -> tuple[list[Event], dict[str, Any]]:
        """(what happened since the last look, what is to be held for the next one). Raises HistoryError."""
        if not self._watches or now_ns < self._due_ns:
            return [], {}
        self._due_ns = now_ns + _EVERY_NS
        found: list[Event] = []
        held = {}
        for watch in self._watches:
            key = f"happened {watch.name}"
            known: dict[str, Any] | None = self._book.held(key)
            now, events = _LOOKS[watch.event](self._history, watch, known, now_ns)
            if now != known:
                held[key] = now
            found += events
        return found, held


def _told(watch: Watch, subject: str, words: str, at_ns: int) -> Event:
    return Event(at_ns, watch.name, subject, HAPPENED, watch.severity, words=words)


def _probe_rows(history: History, since_ns: int, kind: str, column: str, *more: str) -> list[dict[str, Any]]:
    others = "".join(f", {name}" for name in more)
    found = history.told(
        lambda: files_between(history.folder, PROBES, since_ns),
        f"SELECT name, target, at_ns, {column} AS part{others} FROM told"
        f" WHERE kind = '{kind}' AND at_ns > {int(since_ns)} AND {column} IS NOT NULL ORDER BY at_ns",
    )
    return list(found.to_pylist()) if found is not None else []


def _paths(
    history: History, watch: Watch, known: dict[str, Any] | None, now_ns: int
) -> tuple[dict[str, Any], list[Event]]:
    """Ways that changed. A hop that was silent once, or is now, is no change."""
    ways: dict[str, list[str | None]] = dict((known or {}).get("ways", {}))
    since = int((known or {}).get("at_ns", now_ns - _BACK_NS))
    events = []
    for row in _probe_rows(history, since, "route", "hops"):
        way = [hop["address"] for hop in json.loads(row["part"])]
        since = max(since, row["at_ns"])
        former = ways.get(row["name"])
        if not way:
            continue
        if former is not None and _differ(former, way):
            place = next((k for k in range(min(len(former), len(way))) if _other(former[k], way[k])), None)
            place = min(len(former), len(way)) if place is None else place
            words = (
                f"another path to {row['target']} from hop {place + 1} on: {_listed(way[place:])} instead of"
                f" {_listed(former[place:])}"
            )
            events.append(_told(watch, row["name"], words, row["at_ns"]))
            former = None
        ways[row["name"]] = way if former is None or len(former) != len(way) else [
            new or old for new, old in zip(way, former, strict=True)
        ]  # fmt: skip
    flows_ns, moved = _flow_paths(history, watch, int((known or {}).get("flows_ns", now_ns)))
    return {"ways": ways, "at_ns": since, "flows_ns": flows_ns}, [*events, *moved] if known is not None else []


def _flow_paths(history: History, watch: Watch, since_ns: int) -> tuple[int, list[Event]]:
    """(until when nodes told, flows that by their telling took another path since a moment)."""
    found = history.told(
        lambda: files_between(history.folder, HOPS, since_ns),
        f"SELECT time_ns, flow, way_before, way_after FROM told WHERE what = '{MOVED}' AND time_ns > {since_ns}"
        f" ORDER BY time_ns LIMIT {_MOST_MOVED}",
    )
    events = []
    for row in found.to_pylist() if found is not None else ():
        since_ns = max(since_ns, row["time_ns"])
        flow = json.loads(row["flow"])
        subject = f"{flow['src']}:{flow['src_port']} to {flow['dst']}:{flow['dst_port']}"
        before, after = (_nodes(json.loads(row[name])) for name in ("way_before", "way_after"))
        events.append(_told(watch, subject, f"{subject} goes by {after} instead of {before}", row["time_ns"]))
    return since_ns, events


def _nodes(way: Sequence[int | None]) -> str:
    return ", ".join(f"node {node}" if node is not None else "a silent hop" for node in way) or "nothing"


def _other(one: str | None, two: str | None) -> bool:
    return one is not None and two is not None and one != two


def _differ(one: list[str | None], two: list[str | None]) -> bool:
    if any(_other(a, b) for a, b in zip(one, two, strict=False)):
        return True
    return len(one) != len(two) and one[-1] is not None and two[-1] is not None and one[-1] == two[-1]


def _listed(way: list[str | None]) -> str:
    return ", ".join(address or "a silent hop" for address in way) or "nothing"


def _hardware(
    history: History, watch: Watch, known: dict[str, Any] | None, now_ns: int
) -> tuple[dict[str, Any], list[Event]]:
    """IP addresses behind which another hardware address stands than before."""
    held: dict[str, str] = dict((known or {}).get("held", {}))
    events = []
    table = history.intervals(ADDRESSES, now_ns - _BACK_NS, now_ns)
    for row in table.to_pylist():
        subject, hardware = f"{row['address']} at {row['device']}", row["hardware"]
        former = held.get(subject)
        if former is not None and former != hardware and row["to_ns"] > int((known or {}).get("at_ns", 0)):
            events.append(_told(watch, subject, f"{row['address']} moved from {former} to {hardware}", row["from_ns"]))
        held[subject] = hardware
    latest = max((row["to_ns"] for row in table.to_pylist()), default=0)
    return {"held": held, "at_ns": max(latest, int((known or {}).get("at_ns", 0)))}, events if known is not None else []


def _hosts(
    history: History, watch: Watch, known: dict[str, Any] | None, now_ns: int
) -> tuple[dict[str, Any], list[Event]]:
    """Hosts that a sweep found new, or did not find any more."""
    since = int((known or {}).get("at_ns", now_ns - _BACK_NS))
    events = []
    for column, words in (("new", "new on {}: {}"), ("vanished", "gone from {}: {}")):
        for row in _probe_rows(history, int((known or {}).get("at_ns", now_ns)), "sweep", f'"{column}"'):
            since = max(since, row["at_ns"])
            found = [one["address"] for one in json.loads(row["part"])]
            if found:
                more = f" and {len(found) - _MOST_TOLD} more" if len(found) > _MOST_TOLD else ""
                told = ", ".join(found[:_MOST_TOLD]) + more
                events.append(_told(watch, row["name"], words.format(row["target"], told), row["at_ns"]))
    return {"at_ns": since if known is not None else now_ns}, events


def _dscp(
    history: History, watch: Watch, known: dict[str, Any] | None, now_ns: int
) -> tuple[dict[str, Any], list[Event]]:
    """Packets of tests of voice and video that arrive with another DSCP than before."""
    marks: dict[str, str] = dict((known or {}).get("marks", {}))
    since = int((known or {}).get("at_ns", now_ns - _BACK_NS))
    events = []
    for kind in ("voice", "video"):
        for row in _probe_rows(history, int((known or {}).get("at_ns", since)), kind, "arrived_dscp", "direction"):
            since = max(since, row["at_ns"])
            arrived: dict[str, int] = json.loads(row["part"])
            if not arrived:
                continue
            most, subject = (
                max(arrived, key=lambda one: arrived[one]),
                f"{row['name']} {row['direction'] or ''}".strip(),
            )
            former = marks.get(subject)
            if former is not None and former != most:
                words = f"{kind} to {row['target']} arrives {_as_mark(most)} instead of {_as_mark(former)}"
                events.append(_told(watch, subject, words, row["at_ns"]))
            marks[subject] = most
    return {"marks": marks, "at_ns": since}, events if known is not None else []


def _roams(
    history: History, watch: Watch, known: dict[str, Any] | None, now_ns: int
) -> tuple[dict[str, Any], list[Event]]:
    """Stations that moved from one access point to another."""
    since = int((known or {}).get("at_ns", now_ns - _BACK_NS))
    found = history.told(
        lambda: files_between(history.folder, QUESTIONS, since),
        "SELECT time_ns, client, name, server, kind, latency_ns FROM told WHERE protocol = '802.11'"
        f" AND outcome = 'moved' AND time_ns > {since} ORDER BY time_ns LIMIT {_MOST_MOVED}",
    )
    events = []
    for row in found.to_pylist() if found is not None else ():
        since = max(since, row["time_ns"])
        without = f", without data for {duration(row['latency_ns'])}" if row["latency_ns"] >= 0 else ""
        words = f"{row['client']} moved from {row['name']} to {row['server']} by {row['kind']}{without}"
        events.append(_told(watch, row["client"], words, row["time_ns"]))
    return {"at_ns": since}, events if known is not None else []


def _as_mark(dscp: str) -> str:
    return f"as {marking(int(dscp))}" if dscp.isdigit() else f"as {dscp}"


_LOOKS = {PATH: _paths, HARDWARE: _hardware, HOSTS: _hosts, DSCP: _dscp, ROAMS: _roams, LOOKUPS: failing_lookups,
          LEASES: failing_leases}  # fmt: skip
