"""What lies behind the answers of a capture: links, and where the servers' time went, over all that may be so."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, fields
from functools import cached_property

import numpy as np

from yaffle.arrays import Array, Bools, Float64s, Int32s2, Int64s
from yaffle.capture.conversations import Rows
from yaffle.capture.payload import Payload
from yaffle.exchanges.messages import Messages
from yaffle.ledger.accounts import Account
from yaffle.tiers import split as split_parts
from yaffle.tiers.hops import Hops, HopTimes, hops
from yaffle.tiers.linking import link
from yaffle.tiers.split import DEEPEST, split
from yaffle.tiers.unseen import UnseenServer
from yaffle.tiers.watch import Watch

_HOPS = ("root", "via", "hop")  # columns of parts that are hops
LEAST_CERTAINTY = 0.5  # A link is named that is more certain: so a call lies behind one other at most.


@dataclass(frozen=True)
class Parts:
    """Where servers' time went, in order of `of`; the parts of one add up to its server's time."""

    of: Int64s  # the exchange whose server's time it is a part of
    via: Int64s  # the exchange behind it by which it went there; itself for its server's own
    at: Int64s  # the exchange where it went
    kind: Int64s  # OWN: that one's server; NETWORK: between it and who asked
    ns: Float64s  # on average over all that may be so
    least_ns: Float64s  # and between what it lies there
    most_ns: Float64s


@dataclass(frozen=True)
class Behind:
    """Rows are of the account's exchanges. Links in order of `front`."""

    call: Int64s  # the exchange that lies behind
    front: Int64s  # behind whose answer
    certainty: Float64s  # 0 to 1
    seen: Bools  # made by the front's own server; False: by one behind it whose own requests no point saw
    parts: Parts
    unseen: tuple[UnseenServer, ...] = ()  # those servers

    @cached_property
    def named(self) -> Bools:
        """Whether each link is certain enough to be named."""
        return np.asarray(self.certainty > LEAST_CERTAINTY + 1e-9)

    @cached_property
    def in_front(self) -> dict[int, int]:
        """For each exchange that lies behind another, by a link that is named, that one."""
        return dict(zip(self.call[self.named].tolist(), self.front[self.named].tolist(), strict=True))

    @cached_property
    def _named_in_order(self) -> tuple[Int64s, Int64s]:
        """(calls in order, the fronts of each) of the links that are named."""
        calls = self.call[self.named]
        order = np.argsort(calls, kind="stable")
        return calls[order], self.front[self.named][order]

    def fronts_of(self, exchanges: Int64s) -> Int64s:
        """Of each of some exchanges the one behind whose answer it lies, by a link that is named; -1 without."""
        calls, fronts = self._named_in_order
        place = np.searchsorted(calls, exchanges, "right") - 1
        found = place >= 0
        found[found] = calls[place[found]] == exchanges[found]
        return np.where(found, np.append(fronts, -1)[place], -1)

    def lie_behind(self, exchanges: Int64s, fronts: Int64s) -> Bools:
        """Whether each of some exchanges lies behind the answer of any of some others, however deep."""
        found, above = np.zeros(exchanges.size, bool), np.arange(exchanges.size)
        front = self.fronts_of(exchanges)
        for _ in range(DEEPEST):
            above, front = above[front >= 0], front[front >= 0]
            if not above.size:
                break
            found[above[np.isin(front, fronts)]] = True
            front = self.fronts_of(front)
        return found

    def links_among(self, exchanges: Int64s) -> Int64s:
        """Links that are named of what lies behind any of some exchanges, by place."""
        found = _stretches(self.front, exchanges)[0]
        return np.asarray(found[self.named[found]])

    def parts_among(self, exchanges: Int64s) -> Int64s:
        """The parts of the server's time of all of some exchanges, by place."""
        return _stretches(self.parts.of, exchanges)[0]

    def known_of(self, exchanges: Int64s) -> Bools:
        """Whether anything is known of what lies behind each of some exchanges."""
        return np.asarray(_stretches(self.parts.of, exchanges)[1] > 0)

    def links_of(self, exchange: int) -> Int64s:
        """Links that are named of what lies behind an exchange, by place."""
        first, last = np.searchsorted(self.front, exchange), np.searchsorted(self.front, exchange, "right")
        return np.asarray(first + np.flatnonzero(self.named[first:last]))

    def parts_of(self, exchange: int) -> Int64s:
        """The parts of its server's time, by place, the largest first; none where nothing lies behind it."""
        first = np.searchsorted(self.parts.of, exchange)
        last = np.searchsorted(self.parts.of, exchange, "right")
        return np.asarray(first + np.argsort(-self.parts.ns[first:last], kind="stable"))


def _stretches(ordered: Int64s, values: Int64s) -> tuple[Int64s, Int64s]:
    """Where each of the values stands in a column that is in order: all places one after another, and how many each."""
    first, last = (np.searchsorted(ordered, values, side) for side in ("left", "right"))
    count = last - first
    return np.repeat(first - np.cumsum(count) + count, count) + np.arange(int(count.sum())), count


def nothing_behind() -> Behind:
    """Nothing is known of what lies behind."""
    none, part = np.empty(0, np.int64), np.empty(0)
    return Behind(none, none, part, np.empty(0, bool), Parts(none, none, none, none, part, part, part))


def _doubtful(samples: Int32s2, moving: Bools) -> Bools:
    """Which hops' own parts differ between the states: those that some call lies behind in one and not in another, and
    all in front of these. moving: hops that do not lie behind the same one in all states.
    """
    found = np.zeros(samples.shape[1] + 1, bool)
    while moving.any():
        fronts = np.zeros(found.size, bool)
        fronts[samples[:, moving].ravel()] = True
        fronts[-1] = False  # Nobody's.
        moving = (fronts & ~found)[:-1]
        found |= fronts
    return found[:-1]


def _below(samples: Int32s2, moving: Int64s, hops: Int64s) -> Int64s:
    """Some hops, and all that lie below them in any state."""
    inside = np.zeros(samples.shape[1] + 1, bool)
    inside[hops] = True
    where = samples[:, moving]
    while True:
        more = inside[samples[0]]
        more[moving] = inside[where].any(axis=0)
        more &= ~inside[:-1]
        if not more.any():
            return np.flatnonzero(inside)
        inside[:-1] |= more


def _in_every_state(found: Hops, samples: Int32s2, moving: Int64s, roots: Int64s, watch: Watch) -> split_parts.Parts:
    """The parts of some roots over all states; what has nothing to do with them is left out."""
    rows = _below(samples, moving, roots)
    times = HopTimes(**{field.name: getattr(found, field.name)[rows] for field in fields(HopTimes)})
    number = np.full(samples.shape[1] + 1, -1, np.int32)
    number[rows] = np.arange(rows.size)
    parts = split(times, number[samples[:, rows]], number[roots].astype(np.int64), watch)
    return parts._replace(root=rows[parts.root], via=rows[parts.via], hop=rows[parts.hop])


def _averaged(found: Hops, samples: Int32s2, roots: Int64s, watch: Watch) -> Parts:
    """The parts over all states, as exchanges, in order of those that they are parts of."""
    moving = (samples != samples[0]).any(axis=0)
    doubtful = _doubtful(samples, moving)[roots]
    sure = split(found, samples[:1], roots[~doubtful], watch)
    unsure = _in_every_state(found, samples, np.flatnonzero(moving), roots[doubtful], watch)
    order = _by_exchange(np.concatenate([sure.root, unsure.root]), found.exchange)

    def laid(one: Array, other: Array, are_hops: bool) -> Array:
        column = np.concatenate([one, other]).take(order)
        return found.exchange.take(column) if are_hops else column

    with ThreadPoolExecutor(2) as pool:
        return Parts(*pool.map(laid, sure, unsure, (name in _HOPS for name in sure._fields)))


def _by_exchange(root: Int64s, exchange: Int64s) -> Int64s:
    """Rows in order of the exchanges of their roots; those of one root stand together and stay as they are."""
    if not root.size:
        return root
    first = np.flatnonzero(np.diff(root, prepend=root[0] - 1))
    order = np.argsort(exchange[root[first]])
    first, count = first[order], np.diff(first, append=root.size)[order]
    return np.repeat(first - np.cumsum(count) + count, count) + np.arange(root.size)


def find_behind(
    account: Account,
    flows: Rows,
    speaker: Int64s,
    messages: Messages,
    payload: Payload,
    watch: Watch | None = None,
) -> Behind:
    """Links every call of a server to the request it was made for, and splits the time of servers.

    Raises Cancelled where `watch` says so.
    """
    watch = watch or Watch()
    found = hops(account, flows, speaker, messages, payload, watch)
    links = link(found, watch)
    if not links.call.size:
        return nothing_behind()
    is_root = np.zeros(found.exchange.size, bool)
    is_root[links.front] = True
    roots = np.flatnonzero(is_root)
    parts = _averaged(found, links.samples, roots, watch)
    row = found.exchange
    order = np.lexsort((links.call, row[links.front]))  # Hops stand in order of time.
    return Behind(
        row[links.call][order],
        row[links.front][order],
        links.certainty[order],
        ~found.unseen[links.call][order],
        parts,
        found.servers_unseen,
    )
