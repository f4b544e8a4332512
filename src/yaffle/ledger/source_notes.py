"""What connections tell of their captures: packets that are missing, hosts that captured themselves, one direction."""

import numpy as np

from yaffle.arrays import Bools
from yaffle.capture.captured import Capture, Source
from yaffle.ledger.engine import Account
from yaffle.units import size

_SAME_HOST_NS = (
    1_000_000  # A host that answers within this, many times sooner than the other, is the one that captured.
)
_TIMES_SOONER = 4
_USUAL_SEGMENT = 1460  # bytes of payload in a full Ethernet frame
_SIDES = ("client", "server")


def note_sources(capture: Capture, account: Account) -> None:
    """Adds to the notes of each source what its connections show."""
    if not account.flow.size:
        return
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
    for number, source in enumerate(capture.sources):
        own = source_of == number
        if missing[own].sum():
            source.complete = False
            source.notes.append(
                f"at least {int(missing[own].sum()):,} packets are missing from this capture: they were acknowledged"
                " and never seen; none of them counts as lost on the path, and what passed meanwhile is unexplained"
            )
        one = int((own & one_way & (account.fact("opening") == 1)).sum())
        if one:
            one_side = (
                "connections are seen in one direction only: their waits cannot be told; a capture of both directions"
                " would"
            )
            source.notes.append(f"{one:,} {one_side}")
        _note_offload(source, account, own)


def _note_offload(source: Source, account: Account, own: Bools) -> None:
    """Whether a host captured itself, with segmentation left to its device."""
    merged = [own & (account.side(side, "segments") > account.side(side, "packets")) for side in (0, 1)]
    if not (merged[0] | merged[1]).any():
        return
    least = [account.fact(f"to_{side}_min_ns") for side in _SIDES]
    hosts = []
    for side in (0, 1):
        sooner = (least[1 - side] > _TIMES_SOONER * least[side]) | (least[1 - side] < 0)
        near = (least[side] >= 0) & (least[side] < _SAME_HOST_NS) & sooner
        if (near & (merged[0] | merged[1])).any():
            hosts.append(_SIDES[side])
    where = f"taken on {f'the {hosts[0]}' if len(hosts) == 1 else 'a host'} itself, with segmentation offload"
    largest = max(int(account.side(side, "segment_bytes")[merged[side]].max(initial=0)) for side in (0, 1))
    source.notes.append(
        f"{where}: its packets stand for several segments of up to {size(largest)} each; those it sends are timed when"
        " it handed them down, before its own queue and pacing, and losses on its own card are not seen"
    )
