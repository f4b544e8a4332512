"""Between which bounds each party's part of a wait lies, given the evidence; and how the bounds of many combine.

A charge is the best estimate. Beside it the kernels note how much of what they gave one party may be another's:
because a way was not measured at that moment, a lost copy was not seen, an acknowledgement may have been held back.
A party's lower bound is its charge less what may be others'; its upper bound is its charge, what others have that
may be its own, and all that is unexplained. docs/measures.md says where each doubt comes from.
"""

import numpy as np

from yaffle.arrays import Float64s, Float64s2, Int64s
from yaffle.kernels import int64, kernel, pasted
from yaffle.ledger import causes

# What may be whose. The last is time of the network's that the wait as charged may lack.
SERVER_OR_NETWORK, NETWORK_OR_SERVER, CLIENT_OR_NETWORK, NETWORK_OR_CLIENT, NETWORK_TOO_LONG, NETWORK_TOO_SHORT = range(
    6
)
DOUBTS = 6
BOUNDED = (causes.CLIENT, causes.NETWORK, causes.SERVER)  # parties with bounds, in the order of their columns
FIELDS = tuple(f"{party}_{end}_ns" for party in BOUNDED for end in ("low", "high"))

# Errors of single exchanges are neither all alike nor independent: they share the path and its least round trip.
# This much of their variance is taken to be common (equicorrelated errors); measured on real captures with their truth.
SHARED = 0.25
_CLIENT, _NETWORK, _SERVER = (causes.PARTIES.index(party) for party in BOUNDED)


@pasted
def bound(charge: Int64s, party_of: Int64s, doubt: Int64s, out: Int64s) -> None:
    """Fills out (client low, high, network low, high, server low, high), ns. doubt: (DOUBTS,); party_of: of each
    column.
    """
    client = network = server = unseen = int64(0)
    for k in range(charge.size):
        if party_of[k] == _CLIENT:
            client += charge[k]
        elif party_of[k] == _NETWORK:
            network += charge[k]
        elif party_of[k] == _SERVER:
            server += charge[k]
        else:
            unseen += charge[k]
    out[0] = max(int64(0), client - doubt[CLIENT_OR_NETWORK])
    out[1] = client + min(doubt[NETWORK_OR_CLIENT], network) + unseen
    out[2] = max(int64(0), network - doubt[NETWORK_OR_SERVER] - doubt[NETWORK_OR_CLIENT] - doubt[NETWORK_TOO_LONG])
    from_others = min(doubt[SERVER_OR_NETWORK], server) + min(doubt[CLIENT_OR_NETWORK], client)
    out[3] = network + from_others + doubt[NETWORK_TOO_SHORT] + unseen
    out[4] = max(int64(0), server - doubt[SERVER_OR_NETWORK])
    out[5] = server + min(doubt[NETWORK_OR_SERVER], network) + unseen


PARTY_OF = np.array([causes.PARTIES.index(party) for party, _ in causes.CHARGES])
PARTY_OF.flags.writeable = False  # as where a kernel has it built in


@kernel
def _added(estimate: Int64s, low: Int64s, high: Int64s, group: Int64s, sums: Float64s2) -> None:
    """Adds to sums, a column a group: estimates; distances to the lower bound and their squares; to the upper one."""
    for i in range(estimate.size):
        g, here = group[i], estimate[i]
        below, above = float(max(int64(0), here - low[i])), float(max(int64(0), high[i] - here))
        sums[0, g] += here
        sums[1, g] += below
        sums[2, g] += below * below
        sums[3, g] += above
        sums[4, g] += above * above


def combined(
    estimate_ns: Int64s, low_ns: Int64s, high_ns: Int64s, group: Int64s, groups: int
) -> tuple[Float64s, Float64s]:
    """(low, high) of the sums of many exchanges, a row a group, ns.

    estimate_ns, low_ns, high_ns: int64 (n,); group: the group of each, 0 to groups - 1. The distance from the sum to
    its bound is sqrt((1 - SHARED) * sum of squares + SHARED * square of the sum) of the single distances:
    equicorrelated errors (JCGM 100:2008, section 5.2.2, with one correlation coefficient for all pairs).
    """
    sums = np.zeros((5, groups))
    estimate, least, most, of = (np.ascontiguousarray(one, np.int64) for one in (estimate_ns, low_ns, high_ns, group))
    _added(estimate, least, most, of, sums)
    total, below, below_squares, above, above_squares = sums
    low = total - np.sqrt((1 - SHARED) * below_squares + SHARED * below * below)
    high = total + np.sqrt((1 - SHARED) * above_squares + SHARED * above * above)
    return np.maximum(0, low), high
