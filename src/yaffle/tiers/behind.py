"""What lies behind the answers of a capture: links, and where the servers' time went, over all that may be so."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.conversations import Rows
from yaffle.capture.payload import Payload
from yaffle.exchanges.messages import Messages
from yaffle.ledger.engine import Account
from yaffle.tiers.hops import Hops, hops
from yaffle.tiers.linking import SAMPLES, link
from yaffle.tiers.split import split

LEAST_CERTAINTY = 0.5  # of a link that is named


@dataclass(frozen=True)
class Behind:
    """Rows are of the account's exchanges. Links in order of `front`, parts in order of `of`."""

    call: Array  # int64: the exchange that lies behind
    front: Array  # behind whose answer
    certainty: Array  # 0 to 1
    of: Array  # int64: the exchange whose server's time a part is of
    at: Array  # the exchange where it went
    kind: Array  # OWN: that one's server; NETWORK: between it and who asked
    ns: Array  # float64: on average over all that may be so
    least_ns: Array  # and between what it lies there
    most_ns: Array

    @property
    def named(self) -> Array:
        """Links that are certain enough to be named, by place."""
        return np.flatnonzero(self.certainty >= LEAST_CERTAINTY)


def nothing_behind() -> Behind:
    """Nothing is known of what lies behind."""
    none, part = np.empty(0, np.int64), np.empty(0)
    return Behind(none, none, part, none, none, none, part, part, part)


def _averaged(found: Hops, samples: Array, roots: Array) -> tuple[Array, ...]:
    """(of, at, kind, ns, least, most) of the parts over all states, as hops."""
    states, counts = np.unique(samples, axis=0, return_counts=True)
    every = [split(found, owner, roots) for owner in states]
    root, hop, kind = (np.concatenate([getattr(one, name) for one in every]) for name in ("root", "hop", "kind"))
    ns = np.concatenate([one.ns for one in every])
    weight = np.repeat(counts, [one.ns.size for one in every])
    order = np.lexsort((kind, hop, root))
    root, hop, kind, ns, weight = root[order], hop[order], kind[order], ns[order], weight[order]
    new = np.ones(root.size, bool)
    new[1:] = (np.diff(root) != 0) | (np.diff(hop) != 0) | (np.diff(kind) != 0)
    starts = np.flatnonzero(new)
    if not starts.size:
        return root, hop, kind, ns, ns, ns
    states_with = np.add.reduceat(weight, starts)
    mean = np.add.reduceat(ns * weight, starts) / SAMPLES
    least = np.where(states_with == SAMPLES, np.minimum.reduceat(ns, starts), 0.0)
    return root[starts], hop[starts], kind[starts], mean, least, np.maximum.reduceat(ns, starts)


def find_behind(
    account: Account, flows: Rows, speaker: Array, messages: Messages, payload: Payload
) -> Behind:
    """Links every call of a server to the request it was made for, and splits the servers' time."""
    found = hops(account, flows, speaker, messages, payload)
    links = link(found)
    if not links.call.size:
        return nothing_behind()
    roots = np.unique(links.front)
    of, at, kind, *ns = _averaged(found, links.samples, roots)
    order = np.lexsort((found.sent_ns[links.call], links.front))
    row = found.exchange
    return Behind(
        row[links.call][order], row[links.front][order], links.certainty[order], row[of], row[at], kind, *ns
    )
