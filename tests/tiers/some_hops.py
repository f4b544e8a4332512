"""Hops made by hand: a front, an application and a database, as many requests at once as wanted."""

import numpy as np

from yaffle.tiers.hops import Hops
from yaffle.tiers.identifiers import TOKENS
from yaffle.tiers.kinds import PLACES

MS = 1_000_000
USER, WEB, DATABASE = range(3)


def hops_of(rows, values=None):
    """Rows of (client, server, sent, arrived, server's time, connection, kind), times in ms; nothing on the way."""
    client, server, sent, arrived, spent, connection, kind = np.array(rows, np.float64).reshape(-1, 7).T
    begin, end = (sent * MS).astype(np.int64), (arrived * MS).astype(np.int64)
    count = begin.size
    held = np.zeros((count, PLACES), np.uint64)
    if values is not None:
        held[:, 0] = values
    number = np.arange(count)
    return Hops(
        number, connection.astype(np.int64), client.astype(np.int64), server.astype(np.int64),
        (server * 65_536).astype(np.int64), begin, end, end, begin, begin, end, end, (spent * MS).astype(np.int64),
        np.zeros(count, np.int64),
        kind.astype(np.int64), held, np.zeros((count, TOKENS), np.uint64),
        np.zeros(count, bool),
    )  # fmt: skip


def random_hops(rng, hosts=5, count=60, span_ms=400):
    """Hops of any host to any other one, at any time: nothing that need make sense."""
    client = rng.integers(0, hosts, count)
    server = (client + rng.integers(1, hosts, count)) % hosts
    sent = np.sort(rng.uniform(0, span_ms, count))
    lasting = rng.exponential(60, count)
    spent = lasting * rng.uniform(0, 1, count)
    rows = zip(
        client, server, sent, sent + lasting, spent, rng.integers(0, 20, count), rng.integers(0, 3, count), strict=True
    )
    return hops_of([tuple(row) for row in rows], rng.integers(0, 4, count))
