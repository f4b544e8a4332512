"""Servers that refused connections, or never answered: one finding for each."""

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Int64s
from yaffle.capture.addresses import client_address, end_text, server_address
from yaffle.capture.icmp_errors import in_words
from yaffle.findings.finding import Finding, period_words, severity_of
from yaffle.inventory.places import Places
from yaffle.ledger import causes
from yaffle.ledger.fields import OPENINGS
from yaffle.units import duration


def failed_openings(analysis: Analysis, places: Places, speaker: Int64s) -> list[Finding]:
    """Servers that refused, or that never answered, one finding for each."""
    account, flows = analysis.account, analysis.capture.conversations
    opening = account.fact("opening")
    found = []
    for what, told in (("refused", _refused), ("unanswered", _unanswered)):
        groups: dict[tuple[str, int], list[int]] = {}
        for c in np.flatnonzero((opening == OPENINGS.index(what)) & (speaker == np.arange(opening.size))).tolist():
            flow = int(account.flow[c])
            groups.setdefault((server_address(flows, flow), int(flows.b_port[flow])), []).append(c)
        for (server, port), members in groups.items():
            found.append(
                told(analysis, f"{places.application(server, port)} ({end_text(server, port)})", server, members)
            )
    return found


def _refused(analysis: Analysis, name: str, _server: str, members: list[int]) -> Finding:
    """A server that refused these connections."""
    sentence = f"{name} refuses connections: {_tries(analysis, members)}."
    step = f"See whether the service at {name} runs and listens."
    return _finding(analysis, causes.SERVER, "refused", name, sentence, step, 0.9, members)


def _unanswered(analysis: Analysis, name: str, server: str, members: list[int]) -> Finding:
    """A server that never answered these."""
    account, flows = analysis.account, analysis.capture.conversations
    said = {
        in_words(kind, bool(flows.ipv6[account.flow[c]]))
        for c in members
        for kind in analysis.quotes.get(int(account.flow[c]), {})
    }
    tries = f"{_tries(analysis, members)}, {duration(_lost_ns(analysis, members))} total delay"
    sentence, party = f"{name} never answers: {tries}.", causes.UNEXPLAINED
    if said:
        sentence = f"{name} cannot be reached: ICMP reports {' and '.join(sorted(said))}; {tries}."
        party = causes.NETWORK
    step = (
        f"A capture near {server} would tell whether the SYNs arrive: if so it is the server, else a filter or the"
        " path."
    )
    return _finding(analysis, party, "unanswered", name, sentence, step, 0.5, members)


def _clients(analysis: Analysis, members: list[int]) -> int:
    """How many clients tried."""
    account, flows = analysis.account, analysis.capture.conversations
    return len({client_address(flows, int(account.flow[c])) for c in members})


def _lost_ns(analysis: Analysis, members: list[int]) -> int:
    return int(analysis.account.fact("wait_ns")[members].sum())


def _span_ns(analysis: Analysis, members: list[int]) -> tuple[int, int]:
    account = analysis.account
    return int(account.fact("first_ns")[members].min()), int(account.fact("last_ns")[members].max())


def _tries(analysis: Analysis, members: list[int]) -> str:
    """How often how many tried, and when."""
    clients = _clients(analysis, members)
    return (
        f"{len(members)} connection attempt{'s' if len(members) > 1 else ''} of {clients}"
        f" client{'s' if clients > 1 else ''}, {period_words(*_span_ns(analysis, members))}"
    )


def _finding(
    analysis: Analysis,
    party: str,
    cause: str,
    name: str,
    sentence: str,
    step: str,
    confidence: float,
    members: list[int],
) -> Finding:
    lost_ns, users, (first_ns, last_ns) = (
        _lost_ns(analysis, members),
        _clients(analysis, members),
        _span_ns(analysis, members),
    )
    grounds = {
        "connections": members,
        "users": users,
        "wait_ms": lost_ns / 1e6,
        "first_ns": first_ns,
        "last_ns": last_ns,
        "exchanges": 0,
    }
    return Finding(
        party, cause, severity_of(lost_ns, users), name, sentence, step, confidence, first_ns, last_ns, lost_ns, users,
        "", [], members, grounds,
    )  # fmt: skip
