"""Whether the columns of a case make sense: compiled loops believe them."""

import numpy as np

from yaffle.arrays import Array, Int64s
from yaffle.capture.captured import Capture
from yaffle.capture.packets import TUNNELS
from yaffle.ledger.accounts import Account
from yaffle.ledger.fields import CHARGES, CLOSINGS, EXCHANGE_FIELDS, OPENINGS, WIDTH
from yaffle.ledger.orientation import HOW


def check(capture: Capture, account: Account, speaker: Int64s) -> None:
    """Whether the numbers with which columns point into each other do so: compiled loops believe them.

    Raises ValueError.
    """

    def within(what: str, numbers: Array, low: int, limit: int) -> None:
        if numbers.size and (int(numbers.min()) < low or int(numbers.max()) >= limit):
            raise ValueError(f"{what} points outside its table")

    def as_long(what: str, columns: list[Array], rows: int) -> None:
        if any(values.shape != (rows,) for values in columns):
            raise ValueError(f"the columns of {what} are of different lengths")

    packets, flows, connections = capture.packets, capture.conversations, account.flow.size
    as_long("packets", list(packets), packets.time_ns.size)
    as_long("conversations", [*flows, account.how], flows.point.size)
    as_long("connections", [speaker, *account.connection.T, *account.connection_charges.T], connections)
    as_long("exchanges", [*account.exchange.T, *account.exchange_charges.T], account.exchange.shape[0])
    as_long("selective acknowledgements", [capture.sack.right], capture.sack.left.size)
    widths = (
        account.connection.shape[1],
        account.connection_charges.shape[1],
        account.exchange.shape[1],
        account.exchange_charges.shape[1],
    )
    if widths != (WIDTH, CHARGES, len(EXCHANGE_FIELDS), CHARGES):
        raise ValueError("tables have other columns than this version writes")
    within("conversation of a packet", packets.flow, -1, flows.point.size)
    within("source of a packet", packets.source, 0, len(capture.sources))
    within("point of a conversation", flows.point, 0, len(capture.points))
    within("tunnel of a conversation", flows.tunnel, 0, len(TUNNELS))
    within("packet of a connection", account.order, 0, packets.time_ns.size)
    within("conversation of a connection", account.flow, 0, flows.point.size)
    within("view of a connection", speaker, 0, connections)
    within("connection of an exchange", account.of_exchange("connection"), 0, connections)
    within("opening of a connection", account.fact("opening"), 0, len(OPENINGS))
    within("closing of a connection", account.fact("closing"), 0, len(CLOSINGS))
    within("way to tell the client", account.how, 0, len(HOW))
    within("conversation of an ICMP error", capture.quotes["flow"], -1, flows.point.size)
    if account.starts[0] != 0 or (np.diff(account.starts) < 0).any():
        raise ValueError("connections overlap")
