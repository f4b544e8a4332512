"""Addresses that are one host by its hardware: both stand on the wire that was captured, behind one hardware address.

Who forwards a packet gives it a hardware address of its own, and lowers its time to live (RFC 791 section 3.2). So a
packet with a time to live as hosts set it was sent by the host that owns the hardware address it comes from.
"""

import numpy as np

from yaffle.arrays import Int64s, Uint64s
from yaffle.capture.packets import MARK_TUNNEL_SHIFT
from yaffle.capture.payload import Payload
from yaffle.ledger.accounts import Account

_AS_SENT = (64, 128, 255)  # times to live (hop limits) that hosts set
_LOOKED_AT = 12  # packets of a connection
_MOST_ADDRESSES = 2_048  # Packets of each are read wherever they lie.
_MOST_OF_ONE = 8  # addresses; behind more stands a program that answers in the name of others
_TUNNELED = 7 << MARK_TUNNEL_SHIFT
_CLIENT, _SERVER = 0, 1


def _of_packets(
    account: Account, payload: Payload, connection: Int64s, address: Int64s, side: int
) -> tuple[Int64s, Uint64s]:
    """(address, hardware address) of packets that some ends sent themselves. connection, address: of each end."""
    first, last = account.starts[connection], account.starts[connection + 1]
    places = first[:, None] + np.arange(_LOOKED_AT)
    kept = places < last[:, None]
    rows = account.order[places[kept]].astype(np.int64)
    whose = np.repeat(address, kept.sum(axis=1))
    packets = payload.packets
    own = (packets.direction[rows] == side) & np.isin(packets.ttl[rows], _AS_SENT)
    own &= packets.marks[rows] & _TUNNELED == 0
    return whose[own], payload.hardware_senders(rows[own])


def hardware_of(
    account: Account, payload: Payload, connection: Int64s, client: Int64s, server: Int64s, wanted: Int64s
) -> Uint64s:
    """The hardware address of each of the wanted addresses; 0 where it is unknown, or not always the same.

    connection, client, server: of exchanges; looked at are the first and the last connection of each address.
    """
    size = int(max(client.max(initial=-1), server.max(initial=-1), wanted.max(initial=-1))) + 1
    whose, hardware = [np.empty(0, np.int64)], [np.empty(0, np.uint64)]
    for side, end in ((_CLIENT, client), (_SERVER, server)):
        for turned in (slice(None), slice(None, None, -1)):
            one = np.full(size, -1)
            one[end[turned]] = connection[turned]  # Of several the last one stays.
            some = wanted[one[wanted] >= 0]
            found = _of_packets(account, payload, one[some], some, side)
            whose.append(found[0])
            hardware.append(found[1])
    who, which = np.concatenate(whose), np.concatenate(hardware)
    least, most = np.full(size, np.iinfo(np.uint64).max, np.uint64), np.zeros(size, np.uint64)
    np.minimum.at(least, who, which)
    np.maximum.at(most, who, which)
    return np.where(least == most, most, np.uint64(0))[wanted]


def one_by_hardware(
    account: Account, payload: Payload, connection: Int64s, client: Int64s, server: Int64s, silent: Int64s
) -> dict[int, int]:
    """For addresses that make no calls, another address of their host: the one that calls most, else is asked most.

    silent: these; connection, client, server: of exchanges.
    """
    if not 0 < silent.size <= _MOST_ADDRESSES:
        return {}
    known = hardware_of(account, payload, connection, client, server, silent)
    if not known.any():
        return {}  # As where all of them are beyond routers.
    count = int(max(client.max(initial=-1), server.max(initial=-1))) + 1
    calls, asked = np.bincount(client, minlength=count), np.bincount(server, minlength=count)
    order = np.lexsort((-asked, -calls))
    others = order[(calls + asked)[order] > 0][:_MOST_ADDRESSES]
    hardware = np.zeros(count, np.uint64)
    hardware[others] = hardware_of(account, payload, connection, client, server, others)
    everywhere = np.unique(hardware[client[hardware[client] == hardware[server]]])  # On the wire nobody asks himself.
    card, addresses = np.unique(hardware, return_counts=True)
    hardware[np.isin(hardware, np.append(everywhere, card[addresses > _MOST_OF_ONE]))] = 0
    first: dict[int, int] = {}
    for address, of in zip(others.tolist(), hardware[others].tolist(), strict=True):
        if of:
            first.setdefault(of, address)
    pairs = zip(silent.tolist(), known.tolist(), strict=True)
    return {address: first[of] for address, of in pairs if of in first and first[of] != address}
