"""The critical path of one exchange: at each instant of its server's time who held it up. What `split` sums up."""

from collections.abc import Iterator
from typing import NamedTuple

from yaffle.tiers.split import NETWORK, OWN
from yaffle.tiers.tree import Tree, held_up


class Stretch(NamedTuple):
    """A piece of the path: a hop's server (OWN), or the network between it and who asked it (NETWORK)."""

    hop: int
    kind: int
    begin_ns: int
    end_ns: int


def critical_path(tree: Tree, root: int) -> list[Stretch]:
    """The stretches of a root's server's time, in order of time and without gaps."""
    return [
        s for s in _walk(tree, root, int(tree.received_ns[root]), int(tree.answered_ns[root])) if s.end_ns > s.begin_ns
    ]


def _walk(tree: Tree, x: int, moment: int, end: int) -> Iterator[Stretch]:
    while moment < end:
        c, until = (int(value) for value in held_up(tree, 0, x, moment, end))
        if c < 0:
            yield Stretch(x, OWN, moment, until)
        else:
            begin, stop = max(moment, int(tree.server_begin_ns[c])), min(until, int(tree.server_end_ns[c]))
            if stop <= begin:
                yield Stretch(c, NETWORK, moment, until)
            else:
                yield Stretch(c, NETWORK, moment, begin)
                yield from _walk(tree, c, begin, stop)
                yield Stretch(c, NETWORK, stop, until)
        moment = until
