"""Sites without a finding: said in words, because a complaint is answered by that, too."""

from dataclasses import dataclass

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Int64s
from yaffle.capture.addresses import client_labels
from yaffle.findings.finding import Finding
from yaffle.quantiles import median, p95
from yaffle.units import duration

_LEAST_EXCHANGES = 5  # Fewer say too little to clear anyone.


@dataclass(frozen=True)
class Cleared:
    """A site without a finding."""

    site: str
    exchanges: int
    users: int
    median_ns: int
    p95_ns: int

    @property
    def sentence(self) -> str:
        """In words."""
        users = f"{self.users} client{'s' if self.users != 1 else ''}"
        return (
            f"{self.site}: no problem found in {self.exchanges:,} exchanges of {users}; response time"
            f" {duration(self.median_ns)} (median), {duration(self.p95_ns)} (p95)."
        )


def cleared(analysis: Analysis, speaker: Int64s, findings: list[Finding]) -> list[Cleared]:
    """Sites with enough exchanges and no finding of their own, most exchanges first. What a host asks
    that others wait for is nobody's waiting by itself, nor is what else it asks: that clears no site. While captures
    grow none is cleared.
    """
    if analysis.provisional:
        return []  # Not all that is wrong is told yet.
    account, flows = analysis.account, analysis.capture.conversations
    places = analysis.places
    owner = account.of_exchange("connection")
    between = np.zeros(account.flow.size, bool)
    between[owner[analysis.behind.call[analysis.behind.named]]] = True
    rows = np.flatnonzero(speaker[owner] == owner) if owner.size else np.empty(0, np.int64)
    wait = account.exchange_charges.sum(axis=1)
    blamed = {f.site for f in findings}
    asking = np.zeros(account.flow.size, bool)
    asking[owner[rows]] = True
    seen = np.flatnonzero(asking)
    client = client_labels(flows, account.flow[seen])
    users = ~np.isin(client.codes, client.codes[between[seen]])
    site = client.named(places.site)
    site_of = np.full(account.flow.size, -1, np.int32)
    site_of[seen[users]] = site.codes[users]
    asked_from = site_of[owner[rows]]
    found = []
    for code, name in enumerate(site.texts):
        if name in blamed:
            continue
        members = (site.codes == code) & users
        own = wait[rows[asked_from == code]]
        if own.size >= _LEAST_EXCHANGES:
            found.append(
                Cleared(name, own.size, np.unique(client.codes[members]).size, int(median(own)), int(p95(own)))
            )
    return sorted(found, key=lambda c: -c.exchanges)
