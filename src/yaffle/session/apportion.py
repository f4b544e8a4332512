"""Who waits on what: the waits in focus, grouped by application, server, client and connection."""

from dataclasses import dataclass, field

import numpy as np

from yaffle.arrays import Array
from yaffle.session.evidence import Evidence


@dataclass
class Group:
    """One row of the tree, with its waits summed."""

    trail: tuple[str, ...]
    label: str
    exchanges: int
    users: int
    median_ns: int
    p95_ns: int
    worst_ns: int
    charges: Array  # ns by charge column
    repeats: int
    rows: Array = field(repr=False)  # rows of the waits

    @property
    def wait_ns(self) -> int:
        """All waiting of the group."""
        return int(self.charges.sum())

    @property
    def level(self) -> int:
        """0 application, 1 server, 2 client, 3 connection."""
        return len(self.trail) - 1


def groups(evidence: Evidence, rows: Array, trail: tuple[str, ...]) -> list[Group]:
    """The next level below a trail, worst first. `rows` are the waits of that trail."""
    level = len(trail)
    waits = evidence.waits
    owner = waits.connection[rows]
    if level == 0:
        codes, texts = evidence.application.codes[owner], evidence.application.texts
    elif level == 1:
        codes = evidence.server.codes[owner] * 65536 + evidence.port[owner]
        texts = []
    elif level == 2:
        codes, texts = evidence.client.codes[owner], evidence.client.texts
    elif level == 3:
        codes, texts = owner, []
    else:
        return []
    if rows.size == 0:
        return []
    wait = waits.wait_ns[rows]
    order = np.lexsort((wait, codes))
    cuts = np.flatnonzero(np.diff(codes[order])) + 1
    account = evidence.analysis.account
    again = account.side(0, "retransmitted_packets") + account.side(1, "retransmitted_packets")
    found = []
    for part in np.split(order, cuts):
        code = int(codes[part[0]])
        if level == 1:
            key = f"{evidence.server.texts[code // 65536]} {code % 65536}"
            label = f"{evidence.places.short(evidence.server.texts[code // 65536])}, {evidence.server.texts[code // 65536]} port {code % 65536}"
        elif level == 3:
            key, label = str(code), f"port {int(evidence.client_port[code])}"
        elif level == 2:
            key = texts[code]
            name = evidence.places.host(key)
            label = f"{name}  {key}" if name != key else key
        else:
            key = label = texts[code]
        own = rows[part]
        members = np.unique(waits.connection[own])
        sorted_wait = wait[part]
        found.append(
            Group(
                (*trail, key),
                label,
                int(part.size),
                int(np.unique(evidence.client.codes[members]).size),
                int(sorted_wait[part.size // 2]),
                int(sorted_wait[min(part.size - 1, int(0.95 * part.size))]),
                int(sorted_wait[-1]),
                waits.charges[own].sum(axis=0),
                int(again[members].sum()),
                own,
            )
        )
    found.sort(key=lambda g: -g.wait_ns)
    return found


def trail_rows(evidence: Evidence, rows: Array, trail: tuple[str, ...]) -> Array:
    """Those of the waits that lie on a trail."""
    owner = evidence.waits.connection[rows]
    keep = np.ones(rows.size, bool)
    if len(trail) > 0:
        keep &= evidence.application.codes[owner] == evidence.application.code(trail[0])
    if len(trail) > 1:
        address, _, port = trail[1].rpartition(" ")
        keep &= (evidence.server.codes[owner] == evidence.server.code(address)) & (evidence.port[owner] == (int(port) if port.isdigit() else -1))
    if len(trail) > 2:
        keep &= evidence.client.codes[owner] == evidence.client.code(trail[2])
    if len(trail) > 3:
        keep &= owner == (int(trail[3]) if trail[3].isdigit() else -1)
    return rows[keep]


def trail_of(evidence: Evidence, connection: int) -> tuple[str, ...]:
    """The whole trail that leads to a connection."""
    server = evidence.server.texts[evidence.server.codes[connection]]
    return (
        evidence.application.texts[evidence.application.codes[connection]],
        f"{server} {int(evidence.port[connection])}",
        evidence.client.texts[evidence.client.codes[connection]],
        str(connection),
    )


def over_time(evidence: Evidence, rows: Array, first_ns: int, last_ns: int, bins: int) -> tuple[Array, Array]:
    """Waits by party over time: edges (bins + 1,) ns, and ns of waiting (bins, 4) put to when the exchange began."""
    edges = np.linspace(first_ns, max(last_ns, first_ns + bins), bins + 1).astype(np.int64)
    place = np.clip(np.searchsorted(edges, evidence.waits.first_ns[rows], "right") - 1, 0, bins - 1)
    sums = np.zeros((bins, 4))
    np.add.at(sums, place, evidence.waits.parties[rows])
    return edges, sums
