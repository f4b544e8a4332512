"""Rows of the tree of waits for what lies behind a server, in front of a client that is one, and beside an exchange."""

import numpy as np

from yaffle.arrays import Array, Float64s, Int64s
from yaffle.ledger import causes
from yaffle.ledger.bounds import BOUNDED
from yaffle.quantiles import median, p95
from yaffle.session.apportion import trail_of
from yaffle.session.evidence import Evidence
from yaffle.session.wait_group import Group
from yaffle.tiers.split import NETWORK

_SURE = 0.9  # more certain than this is not said
_MOST = 50  # exchanges beside one that stand in the tree


def behind_server(evidence: Evidence, rows: Int64s) -> list[Group]:
    """What a server waited for itself before it gave some answers: a row a service that it asked, most waiting first.

    The waits of a row are what these answers waited for it, so that together they are no more than the server's time.
    """
    behind, exchanges = evidence.analysis.behind, _exchanges(evidence, rows)
    if not behind.call.size or not exchanges.size:
        return []
    parts, links = behind.parts_among(exchanges), behind.links_among(exchanges)
    parts = parts[behind.parts.via[parts] != behind.parts.of[parts]]
    return _by_service(evidence, "behind it", (parts, behind.parts.via[parts]), links, behind.call, behind.front)


def before_client(evidence: Evidence, rows: Int64s) -> list[Group]:
    """For what services a client, being a server itself, asked: a row a service that waited for these answers."""
    behind, exchanges = evidence.analysis.behind, _exchanges(evidence, rows)
    if not behind.call.size or not exchanges.size:
        return []
    parts = np.flatnonzero(np.isin(behind.parts.via, exchanges) & (behind.parts.via != behind.parts.of))
    links = np.flatnonzero(np.isin(behind.call, exchanges) & behind.named)
    return _by_service(evidence, "in front of it", (parts, behind.parts.of[parts]), links, behind.front, behind.front)


def tiers_of(evidence: Evidence, rows: Int64s) -> list[Group]:
    """The exchange in front of one, and those behind it, in order of time."""
    behind, found = evidence.analysis.behind, []
    for exchange in _exchanges(evidence, rows).tolist():
        front = behind.in_front.get(exchange)
        if front is not None:
            link = behind.links_of(front)
            sure = behind.certainty[link][behind.call[link] == exchange]
            found.append(_single(evidence, front, "in front of it", float(sure.max(initial=0.0))))
        links = behind.links_of(exchange)[:_MOST]
        found += [
            _single(evidence, call, "behind it", sure)
            for call, sure in zip(behind.call[links].tolist(), behind.certainty[links].tolist(), strict=True)
        ]
    return [one for one in found if one is not None]


def has_tiers(evidence: Evidence, row: int) -> bool:
    """Whether anything lies in front of a wait's exchange, or behind it."""
    behind, exchange = evidence.analysis.behind, int(evidence.waits.exchange[row])
    return exchange >= 0 and (exchange in behind.in_front or bool(behind.links_of(exchange).size))


def _exchanges(evidence: Evidence, rows: Int64s) -> Int64s:
    found = evidence.waits.exchange[rows]
    return np.unique(found[found >= 0])


def _by_service(
    evidence: Evidence, where: str, waited: tuple[Array, Array], links: Int64s, shown: Int64s, clients_of: Int64s
) -> list[Group]:
    """A row a service. waited: parts of servers' time, and for each the exchange whose service it goes to; of the links
    the exchanges `shown` stand in the rows, and those `clients_of` tell which clients waited.
    """
    connection, seen = evidence.analysis.account.of_exchange("connection"), evidence.analysis.behind.seen[links]
    shown, clients_of = shown[links], clients_of[links]
    part, service = waited[0], evidence.service[connection[waited[1]]]
    service_shown = evidence.service[connection[shown]]
    found = []
    for number in np.unique(service_shown).tolist():
        mine = service_shown == number
        rows = evidence.wait_of_exchange[np.unique(shown[mine])]
        clients = evidence.client.codes[connection[np.unique(clients_of[mine])]]
        words = where if seen[mine].any() else f"{where}, beyond a server not seen"
        group = _group(evidence, words, part[service == number], rows[rows >= 0], int(np.unique(clients).size))
        if group is not None:
            found.append(group)
    return sorted(found, key=lambda group: -group.wait_ns)


def _group(evidence: Evidence, where: str, part: Int64s, rows: Int64s, clients: int) -> Group | None:
    if not rows.size:
        return None
    waits, account = evidence.waits, evidence.analysis.account
    owners = np.unique(waits.connection[rows])
    trail = trail_of(evidence, int(owners[0]))[:2]
    wait = waits.wait_ns[rows]
    charges, low, high = _shares(evidence, part, rows)
    return Group(
        trail,
        f"{where}: {trail[0]}",
        int(rows.size),
        clients,
        int(median(wait)),
        int(p95(wait)),
        int(wait.max()),
        charges,
        sum(int(account.side(side, "retransmitted_packets")[owners].sum()) for side in (0, 1)),
        low,
        high,
        rows,
        beside=True,
    )


def _shares(evidence: Evidence, part: Int64s, rows: Int64s) -> tuple[Int64s, Float64s, Float64s]:
    """(charges, least, most of each party) of parts of servers' time: the way there is the network's, the rest the
    servers' behind; among the causes of a party as these waits are charged.
    """
    parts, known = evidence.analysis.behind.parts, evidence.waits.charges[rows].sum(axis=0)
    way = parts.kind[part] == NETWORK
    charges, low, high = np.zeros(causes.COUNT), np.zeros(len(BOUNDED)), np.zeros(len(BOUNDED))
    for party, mine in ((causes.NETWORK, part[way]), (causes.SERVER, part[~way])):
        columns, k = causes.party_columns(party), BOUNDED.index(party)
        weight = known[columns].astype(float)
        if weight.sum() <= 0:
            weight = np.eye(weight.size)[0]
        charges[columns] = parts.ns[mine].sum() * weight / weight.sum()
        low[k], high[k] = parts.least_ns[mine].sum(), parts.most_ns[mine].sum()
    return charges.astype(np.int64), low, high


def _single(evidence: Evidence, exchange: int, where: str, sure: float) -> Group | None:
    row = int(evidence.wait_of_exchange[exchange])
    if row < 0:
        return None
    waits, connection = evidence.waits, int(evidence.waits.connection[row])
    trail = (*trail_of(evidence, connection), str(row))
    doubt = "" if sure >= _SURE else f" ({100 * sure:.0f} % sure)"
    protocol, asked, _ = evidence.said(row)
    wait, bounds = int(waits.wait_ns[row]), evidence.bounds[row]
    again = sum(int(evidence.analysis.account.side(side, "retransmitted_packets")[connection]) for side in (0, 1))
    return Group(
        trail,
        f"{where}{doubt}: {trail[0]}  {asked or f'{protocol} exchange'}",
        1,
        1,
        wait,
        wait,
        wait,
        waits.charges[row],
        again,
        bounds[0::2].astype(float),
        bounds[1::2].astype(float),
        np.array([row]),
        beside=True,
    )
