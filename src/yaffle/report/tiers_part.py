"""The analysis document's part about servers behind servers."""

from typing import Any

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Int64s
from yaffle.capture.addresses import client_address, end_text, server_address
from yaffle.ledger import causes
from yaffle.tiers.dependencies import Dependency, dependencies
from yaffle.tiers.split import OWN
from yaffle.units import count, duration, share

_NS_PER_MS = 1e6
_MOST_ROWS = 20


class Tiers:
    """What lies behind exchanges, by the places of exchanges in the document."""

    def __init__(self, analysis: Analysis, place: dict[int, int]) -> None:
        self._analysis, self._place = analysis, place
        self._owner = analysis.account.of_exchange("connection")

    def of(self, exchange: int) -> dict[str, Any]:
        """`behind` and `server_split` of an exchange; nothing where nothing lies behind it."""
        behind = self._analysis.behind
        links, parts = behind.links_of(exchange), behind.parts_of(exchange)
        if not parts.size:
            return {}
        where: dict[str, list[float]] = {}
        for k in parts.tolist():
            ends = where.setdefault(self._at(int(behind.parts.at[k]), int(behind.parts.kind[k])), [0.0, 0.0, 0.0])
            for number, column in enumerate((behind.parts.ns, behind.parts.least_ns, behind.parts.most_ns)):
                ends[number] += float(column[k]) / _NS_PER_MS
        return {
            "behind": [
                {"exchange": self._place[int(behind.call[k])], "certainty": round(float(behind.certainty[k]), 4)}
                for k in links.tolist()
                if behind.seen[k]
            ],
            "server_split": [
                {"at": at, "ms": ms, "ms_low": low, "ms_high": high} for at, (ms, low, high) in where.items()
            ],
        }

    def _at(self, exchange: int, kind: int) -> str:
        flows, row = self._analysis.capture.conversations, int(self._analysis.account.flow[self._owner[exchange]])
        server = end_text(server_address(flows, row), int(flows.b_port[row]))
        if kind == OWN:
            return server
        return f"network {end_text(client_address(flows, row), int(flows.a_port[row]))}-{server}"


def services_of(analysis: Analysis) -> tuple[Int64s, list[str]]:
    """(number of each exchange's service, -1 where another view speaks for it; the services)."""
    account, flows = analysis.account, analysis.capture.conversations
    texts: dict[str, int] = {}
    number = np.full(account.flow.size, -1, np.int64)
    for c in np.flatnonzero(analysis.speaker == np.arange(account.flow.size)).tolist():
        row = int(account.flow[c])
        number[c] = texts.setdefault(end_text(server_address(flows, row), int(flows.b_port[row])), len(texts))
    return number[account.of_exchange("connection")], list(texts)


def _dependencies(analysis: Analysis) -> tuple[list[Dependency], list[str]]:
    """(which service calls which, the services by number)."""
    service, texts = services_of(analysis)
    server_ns = analysis.account.exchange_charges[:, causes.party_columns(causes.SERVER)].sum(axis=1)
    return dependencies(analysis.behind, service, server_ns), texts


def dependencies_part(analysis: Analysis) -> list[dict[str, Any]]:
    """Which service calls which."""
    found, texts = _dependencies(analysis)
    return [
        {
            "service": texts[one.front],
            "calls": texts[one.behind],
            "requests": one.requests,
            "calls_per_request": one.calls / max(1, one.requests),
            "share_of_requests": one.with_calls / max(1, one.requests),
            "wait_ms": one.wait_ns / _NS_PER_MS,
            "network_ms": one.network_ns / _NS_PER_MS,
            "share_of_time": one.wait_ns / one.server_ns if one.server_ns else 0.0,
            "certainty": round(one.certainty, 4),
        }
        for one in found
    ]


def waited_table(analysis: Analysis) -> list[tuple[str, ...]]:
    """The same for people, those with the longest waits: who waited, for whom, requests, calls a request, how long,
    share of its time, of that on the network, how sure.
    """
    found, texts = _dependencies(analysis)

    def named(number: int) -> str:
        address, _, port = texts[number].rpartition(":")
        return f"{analysis.places.application(address.strip('[]'), int(port))} ({texts[number]})"

    return [
        (
            named(one.front), named(one.behind), count(one.requests), f"{one.calls / max(1, one.requests):.2g}",
            duration(int(one.wait_ns)), share(one.wait_ns / one.server_ns if one.server_ns else 0.0),
            duration(int(one.network_ns)), f"{100 * one.certainty:.0f} %",
        )
        for one in found[:_MOST_ROWS]
    ]  # fmt: skip
