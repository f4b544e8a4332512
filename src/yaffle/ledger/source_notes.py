"""What connections tell of their captures: packets that are missing, hosts that captured themselves, one direction."""

from dataclasses import replace

import numpy as np

from yaffle.arrays import Bools
from yaffle.capture.captured import Capture
from yaffle.ledger.accounts import Account
from yaffle.units import size

_SAME_HOST_NS = (
    1_000_000  # A host that answers within this, many times sooner than the other, is the one that captured.
)
_TIMES_SOONER = 4
_USUAL_SEGMENT = 1460  # bytes of payload in a full Ethernet frame
_SIDES = ("client", "server")


def noted(capture: Capture, account: Account) -> Capture:
    """With notes on what the connections of each source show."""
    if not account.flow.size:
        return capture
    seen = np.diff(account.starts) > 0
    source_of = np.zeros(account.flow.size, np.int64)
    source_of[seen] = capture.packets.source[account.order[account.starts[:-1][seen]]]
    packets = [account.side(side, "packets") for side in (0, 1)]
    one_way = (packets[0] == 0) != (packets[1] == 0)
    missing = np.zeros(account.flow.size, np.int64)
    for side in (0, 1):
        seen_size = account.side(side, "segment_bytes")
        full = np.where(seen_size > 0, seen_size, _USUAL_SEGMENT)  # Of a side whose data were never seen.
        missing += np.where(one_way, 0, -(-account.side(side, "unseen_bytes") // full))
    sources = []
    for number, source in enumerate(capture.sources):
        own, notes = source_of == number, []
        if missing[own].sum():
            notes.append(
                f"at least {int(missing[own].sum()):,} packets are missing from this capture: they were acknowledged"
                " and never seen; none of them counts as lost on the path, and what passed meanwhile is unexplained"
            )
        one = int((own & one_way & (account.fact("opening") == 1)).sum())
        if one:
            one_side = (
                "connections are seen in one direction only: their waits cannot be told; a capture of both directions"
                " would"
            )
            notes.append(f"{one:,} {one_side}")
        notes += _of_offload(account, own)
        complete = source.complete and not missing[own].sum()
        sources.append(replace(source.noting(*notes), complete=complete))
    return replace(capture, sources=sources)


def _of_offload(account: Account, own: Bools) -> list[str]:
    """Whether a host captured itself, with segmentation left to its device."""
    merged = [own & (account.side(side, "segments") > account.side(side, "packets")) for side in (0, 1)]
    if not (merged[0] | merged[1]).any():
        return []
    least = [account.fact(f"to_{side}_min_ns") for side in _SIDES]
    hosts = []
    for side in (0, 1):
        sooner = (least[1 - side] > _TIMES_SOONER * least[side]) | (least[1 - side] < 0)
        near = (least[side] >= 0) & (least[side] < _SAME_HOST_NS) & sooner
        if (near & (merged[0] | merged[1])).any():
            hosts.append(_SIDES[side])
    where = f"taken on {f'the {hosts[0]}' if len(hosts) == 1 else 'a host'} itself, with segmentation offload"
    largest = max(int(account.side(side, "segment_bytes")[merged[side]].max(initial=0)) for side in (0, 1))
    return [
        f"{where}: its packets stand for several segments of up to {size(largest)} each; those it sends are timed when"
        " it handed them down, before its own queue and pacing, and losses on its own card are not seen"
    ]
