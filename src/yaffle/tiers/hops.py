"""Exchanges as hops: one host asks, another one answers; times at both where two points saw it."""

from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, fields

import numpy as np

from yaffle.arrays import Bools, Int64s, Int64s2, Uint64s2
from yaffle.capture.addresses import labels_of
from yaffle.capture.conversations import Rows
from yaffle.capture.packets import Columns
from yaffle.capture.payload import Payload
from yaffle.exchanges.messages import Messages
from yaffle.ledger import causes
from yaffle.ledger.accounts import Account
from yaffle.ledger.fields import CHARGES
from yaffle.tiers.attached import one_by_hardware
from yaffle.tiers.identifiers import identifiers
from yaffle.tiers.kinds import Asked, kinds_of
from yaffle.tiers.loopback import any_loopback, own_address
from yaffle.tiers.one_host import may_have_others, other_addresses
from yaffle.tiers.unseen import UnseenLeg, UnseenServer, candidates, unseen_legs
from yaffle.tiers.watch import Watch

_OPENED_SOON_NS = 5_000_000  # A request that follows its connection's opening this soon was what it was opened for.
_SIGNED_ON_SOON_NS = 20_000_000  # The same where its sign-on stands between: who signs on computes in between, too.
_SERVERS = causes.party_columns(causes.SERVER)
_SIZE_STEPS = 4  # kinds of unlabelled requests by size: steps per doubling


@dataclass(frozen=True)
class Hops:
    """One row a hop, in order of `sent_ns`; int64 unless it is said. Times in ns: those of the asking side as seen
    nearest to it, those of the answering side as seen nearest to that.
    """

    exchange: Int64s  # row of the account's exchanges
    connection: Int64s
    client: Int64s  # number of the asking host
    server: Int64s  # number of the answering host, of the same numbers
    service: Int64s  # number of the answering host and port
    sent_ns: Int64s  # the asking side's first byte; where the connection was opened for it, as long before that as
    # opening it and signing on took: what the asking side did in between is its own
    told_ns: Int64s  # first byte of the answer; where none came, the end; where it was given up before, that moment
    arrived_ns: Int64s  # last byte of the answer, else the same
    handed_ns: Int64s  # first byte of the request at the answering side
    received_ns: Int64s  # last byte of it
    answered_ns: Int64s  # first byte of the answer; -1 where none came
    done_ns: Int64s  # last byte of the answer
    server_ns: Int64s  # of the wait, the server's part
    signed_on_ns: Int64s  # the server's part of the sign-on before it, where the connection was opened for it
    kind: Int64s  # of request
    values: Uint64s2  # (n, PLACES)
    tokens: Uint64s2  # (n, TOKENS): identifiers in clear
    unseen: Bools  # made by a server whose own requests no point saw, for the asking host that stands here
    servers_unseen: tuple[UnseenServer, ...] = ()


def _speaking_of(account: Account, speaker: Int64s) -> tuple[Int64s, Int64s]:
    """(rows of exchanges whose connection speaks for itself, their connections)."""
    owner = account.of_exchange("connection")
    rows = np.flatnonzero(speaker[owner] == owner)
    return rows, owner[rows]


def _asked_on(account: Account, speaker: Int64s) -> Int64s:
    """How often each connection that speaks for itself was asked on; 0 of the others."""
    often = np.bincount(account.of_exchange("connection"), minlength=speaker.size)
    return np.where(speaker == np.arange(speaker.size), often, 0)


def _nearest_server(account: Account, speaker: Int64s) -> Int64s:
    """For each connection the view of it that is nearest to its server."""
    distance = account.fact("to_server_min_ns").copy()
    distance[distance < 0] = np.iinfo(np.int64).max
    order = np.lexsort((distance, speaker))
    first = np.ones(order.size, bool)
    first[1:] = speaker[order][1:] != speaker[order][:-1]
    nearest = np.arange(speaker.size)
    nearest[speaker[order[first]]] = order[first]
    return nearest


def _same_exchange(account: Account, rows: Int64s, owner: Int64s, other: Int64s) -> Int64s:
    """The row of each exchange in another view of its connection; its own where the views do not hold as many."""
    if not rows.size:
        return rows
    every = account.of_exchange("connection")
    count = np.bincount(every, minlength=account.flow.size)
    begin = np.searchsorted(every, np.arange(account.flow.size)) if every.size else count
    same = count[other] == count[owner]
    return np.where(same, begin[other] + rows - begin[owner], rows)


@dataclass(frozen=True)
class HopTimes:
    """The times of some exchanges as hops, columns as those of Hops."""

    sent_ns: Int64s
    told_ns: Int64s
    arrived_ns: Int64s
    handed_ns: Int64s
    received_ns: Int64s
    answered_ns: Int64s
    done_ns: Int64s
    server_ns: Int64s
    signed_on_ns: Int64s


def times_of(account: Account, packets: Columns, speaker: Int64s, rows: Int64s) -> HopTimes:
    """When some exchanges were where, each of which speaks for itself."""
    column = {name: account.of_exchange(name) for name in ("first_ns", "asked_ns", "answered_ns", "last_ns", "end_ns")}
    every = account.of_exchange("connection")
    owner = every[rows]
    there = _same_exchange(account, rows, owner, _nearest_server(account, speaker)[owner])
    first, told, last = column["first_ns"][rows], column["answered_ns"][rows], column["last_ns"][rows]
    opened = account.fact("first_ns")[owner]
    fresh = (rows == 0) | (every[rows - 1] != owner)
    set_up = account.of_exchange("set_up_ns")[rows]
    since_set_up = first - opened - set_up
    asked_for = fresh & (set_up > 0) & (since_set_up <= _OPENED_SOON_NS)
    before_ns, signed_on_ns = np.where(asked_for, set_up, 0), np.zeros(rows.size, np.int64)
    later = np.flatnonzero(fresh & (set_up > 0) & ~asked_for)
    spent, of_server = _signed_on(account, owner[later])
    soon = (spent > 0) & (since_set_up[later] <= spent + _SIGNED_ON_SOON_NS)
    later, spent, of_server = later[soon], spent[soon], of_server[soon]
    before_ns[later], signed_on_ns[later] = set_up[later] + spent, of_server
    end = np.where(told >= 0, last, column["end_ns"][rows])
    told = np.where(told >= 0, told, end)
    answered = column["answered_ns"][there]
    return HopTimes(
        sent_ns=np.where(before_ns > 0, np.clip(first - before_ns, opened, None), first),
        told_ns=told,
        arrived_ns=end,
        handed_ns=column["first_ns"][there],
        received_ns=column["asked_ns"][there],
        answered_ns=answered,
        done_ns=np.where(answered >= 0, column["last_ns"][there], column["end_ns"][there]),
        server_ns=_summed(account.exchange_charges, rows, _charged(account, _SERVERS)),
        signed_on_ns=signed_on_ns,
    )


def _signed_on(account: Account, connections: Int64s) -> tuple[Int64s, Int64s]:
    """(how long signing on took on some connections whose opening was seen, how much of that was the server's): what
    was waited for on a connection and belongs to none of its exchanges.
    """
    if not connections.size:
        return np.empty(0, np.int64), np.empty(0, np.int64)
    owner = account.of_exchange("connection")
    chosen = np.zeros(account.flow.size, bool)
    chosen[connections] = True
    rows = np.flatnonzero(chosen[owner])
    spent, of_server = (
        _summed(account.connection_charges, connections, columns)
        - np.bincount(owner[rows], _summed(account.exchange_charges, rows, columns), chosen.size)[connections]
        for columns in (_charged(account, range(CHARGES)), _charged(account, _SERVERS))
    )
    return spent.astype(np.int64), of_server.astype(np.int64)


def _charged(account: Account, columns: Sequence[int]) -> list[int]:
    """Those of some columns of charges that hold anything."""
    return [column for column in account.charged.tolist() if column in columns]


def _summed(table: Int64s2, rows: Int64s, columns: Sequence[int]) -> Int64s:
    """Some columns of some rows of a table, added up; a column at a time, since each is contiguous."""
    found = np.zeros(rows.size, np.int64)
    for column in columns:
        found += table[rows, column]
    return found


def hops(
    account: Account, flows: Rows, speaker: Int64s, messages: Messages, payload: Payload, watch: Watch | None = None
) -> Hops:
    """Every exchange with a host that answers and asks as a hop, once, whatever number of points saw it.

    Raises Cancelled where `watch` says so.
    """
    watch = watch or Watch()
    near = account.flow[_nearest_server(account, speaker)]
    hosts = labels_of(
        np.concatenate([flows.a_hi[account.flow], flows.b_hi[near]]),
        np.concatenate([flows.a_lo[account.flow], flows.b_lo[near]]),
        np.concatenate([flows.ipv6[account.flow], flows.ipv6[near]]),
    )
    clients, servers = hosts.codes[: near.size], hosts.codes[near.size :]
    rows = owner = np.empty(0, np.int64)
    if any_loopback(hosts.texts) or _anything_behind(clients, servers, _asked_on(account, speaker)):
        rows, owner = _speaking_of(account, speaker)
    client, server = clients[owner], servers[owner]
    for address, other in own_address(hosts.texts, client, server, flows.point[near[owner]].astype(np.int64)).items():
        client, server = np.where(client == address, other, client), np.where(server == address, other, server)
    if not _anything_behind(client, server):
        rows, owner, client, server = rows[:0], owner[:0], client[:0], server[:0]
    with ThreadPoolExecutor(2) as beside:  # One reads labels, one packets.
        said = _read(beside, account, messages, payload, rows, owner, watch) if _mostly(client, server) else None
        times, port = times_of(account, payload.packets, speaker, rows), flows.b_port[near[owner]].astype(np.int64)
        host, legs = _hosts(account, payload, owner, client, server, port, times, len(hosts.texts))
        part = np.flatnonzero(_asking_and_answering(host[client], host[server]))
        order = np.argsort(times.sent_ns[part], kind="stable")  # What is near in time is weighed together.
        by_time = part[order]
        if said is not None:
            kind, values, tokens = said.of(by_time)
        else:
            kind, values, tokens = _read(beside, account, messages, payload, rows[part], owner[part], watch).of(order)
        names = [field.name for field in fields(times)]
        laid = dict(zip(names, beside.map(lambda name: getattr(times, name)[by_time], names), strict=True))
    client, server = client[by_time], server[by_time]
    return Hops(
        exchange=rows[by_time],
        connection=owner[by_time],
        client=host[client],
        server=host[server],
        service=server << 16 | port[by_time],
        **laid,
        kind=kind,
        values=values,
        tokens=tokens,
        unseen=np.isin(client, [leg.host for leg in legs]),
        servers_unseen=tuple(
            UnseenServer(hosts.texts[leg.host], tuple(hosts.texts[f] for f in leg.fronts), leg.calls, leg.inside)
            for leg in legs
        ),
    )


def _hosts(
    account: Account,
    payload: Payload,
    owner: Int64s,
    client: Int64s,
    server: Int64s,
    port: Int64s,
    times: HopTimes,
    addresses: int,
) -> tuple[Int64s, list[UnseenLeg]]:
    """(the host of each address, what servers asked that no point saw)."""
    host = np.arange(addresses)
    answered = np.where(times.answered_ns >= 0, times.answered_ns, times.done_ns)
    seen = times.sent_ns, times.arrived_ns, times.handed_ns, answered
    silent = np.flatnonzero(may_have_others(client, server))
    one = other_addresses(client, server, port, *seen)
    one |= one_by_hardware(account, payload, owner, client, server, silent)
    for address, other in one.items():
        host[address] = other
    host = host[host]
    legs = unseen_legs(client, host[server], *seen)
    for leg in legs:  # From here on they are one host: which of them did what between cannot be told.
        host[np.isin(host, leg.fronts)] = leg.host
    return host, legs


def _asking_and_answering(client: Int64s, server: Int64s, often: Int64s | None = None) -> Bools:
    """Which exchanges are of a host that asks and answers. often: how often each client asked its server."""
    count = 1 + max(client.max(initial=-1), server.max(initial=-1))
    both = (np.bincount(client, often, count) > 0) & (np.bincount(server, often, count) > 0)
    return np.asarray(both[client] | both[server])


def _mostly(client: Int64s, server: Int64s) -> bool:
    """Whether most requests will have to be read, whichever addresses are one host."""
    return 2 * int(np.count_nonzero(_asking_and_answering(client, server))) > client.size


@dataclass(frozen=True)
class _Said:
    """What requests say, while it is read."""

    kinds: "Future[tuple[Int64s, Uint64s2]]"
    tokens: "Future[Uint64s2]"

    def of(self, some: Int64s) -> tuple[Int64s, Uint64s2, Uint64s2]:
        """(kinds, values, identifiers) of some of them, once they are read. Raises Cancelled."""
        (kind, values), tokens = self.kinds.result(), self.tokens.result()
        return kind[some], values[some], tokens[some] if tokens.any() else tokens[: some.size]


def _read(
    beside: ThreadPoolExecutor,
    account: Account,
    messages: Messages,
    payload: Payload,
    rows: Int64s,
    owner: Int64s,
    watch: Watch,
) -> _Said:
    """Begins to read the requests of some exchanges."""
    first = account.of_exchange("first_ns")[rows]
    return _Said(
        beside.submit(_kinds, account, messages, rows, owner, watch),
        beside.submit(identifiers, payload, owner, first, account.starts, account.order),
    )


def _anything_behind(client: Int64s, server: Int64s, often: Int64s | None = None) -> bool:
    """Whether any host may stand between others, by who asks and answers how often."""
    if _asking_and_answering(client, server, often).any():
        return True
    return bool(may_have_others(client, server, often).any() or candidates(client, server, often))


def _kinds(account: Account, messages: Messages, rows: Int64s, owner: Int64s, watch: Watch) -> tuple[Int64s, Uint64s2]:
    """Kinds and values by what was asked; by the size of the request where that is not known."""
    message = account.of_exchange("message")[rows]
    own, place = np.unique(owner, return_inverse=True)
    protocols = [messages.protocol.get(c, "tcp") for c in own.tolist()]
    names = sorted(set(protocols))
    protocol = np.array([names.index(one) for one in protocols], np.int64)[place.reshape(-1)]
    size = np.diff(messages.label.starts)
    bare = np.flatnonzero((message < 0) | (np.append(size, 0)[message] == 0))
    steps = (np.log2(np.maximum(1, account.of_exchange("request_bytes")[rows[bare]])) * _SIZE_STEPS).astype(np.int64)
    told, number = np.unique(np.stack([protocol[bare], steps]), axis=1, return_inverse=True)
    protocol[bare] = len(names) + number.reshape(-1)
    names += [f"{names[one]} {step}" for one, step in told.T.tolist()]
    beside = {}
    for k in np.flatnonzero(np.isin(message, list(messages.values))).tolist() if messages.values else ():
        beside[k] = messages.values[int(message[k])]
    return kinds_of(Asked(names, protocol, messages.label, message, beside), watch)
