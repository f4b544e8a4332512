"""The account in the end: of each connection by its own packets, by its path where others filled that, with what the
tick of the times hides, and with the look-ups that led to connections.
"""

from concurrent.futures import ThreadPoolExecutor

import numpy as np

from yaffle.arrays import Int64s, Int64s2
from yaffle.capture.captured import Capture
from yaffle.exchanges.lookups import Lookups
from yaffle.exchanges.messages import Messages
from yaffle.halves import in_halves
from yaffle.ledger import bounds
from yaffle.ledger.accounts import Account, OwnAccount, by_column, count_messages, no_exchanges
from yaffle.ledger.arrangement import Arrangement
from yaffle.ledger.by_paths import Again, account_by_paths
from yaffle.ledger.engine import own_accounts
from yaffle.ledger.fields import CONNECTION_FIELDS, EXCHANGE_FIELDS
from yaffle.ledger.names import LedBy, led_by_names
from yaffle.ledger.resolution import hidden_ns
from yaffle.progress import Progress, go_on
from yaffle.room import Room

_SET_UP = EXCHANGE_FIELDS.index("set_up_ns")
_WAIT, _WORST = CONNECTION_FIELDS.index("wait_ns"), CONNECTION_FIELDS.index("worst_wait_ns")


def account_all(
    capture: Capture, arranged: Arrangement, messages: Messages, progress: Progress = go_on, threads: int = 2
) -> Account:
    """Accounts for each TCP connection whose look-ups are not known. Raises Cancelled when `progress` says so."""
    own = own_accounts(capture, arranged, messages, progress, threads)
    return put_together(capture, own, account_by_paths(capture, own, messages, progress), messages, Lookups())


def put_together(
    capture: Capture,
    own: OwnAccount,
    again: Again | None,
    messages: Messages,
    lookups: Lookups,
    room: Room | None = None,
) -> Account:
    """The account. The exchanges of `own` are taken: of what is large, little is there twice.

    again: what took the place of some connections; room: where exchanges are put.
    """
    hidden, led = hidden_ns(capture, own), led_by_names(own, lookups, capture.conversations)
    facts, charges = ([*tables] for tables in zip(no_exchanges(), *own.exchanges, strict=True))
    own.exchanges.clear()
    with ThreadPoolExecutor(1) as beside:
        others = beside.submit(by_column, charges, room)
        exchange, exchange_charges = by_column(facts, room), others.result()
    connection, connection_charges = own.connection, own.connection_charges
    if again is not None:
        connection, connection_charges = again.connection, again.connection_charges
        for rows, (facts_again, charges_again) in again.exchanges:
            exchange[rows], exchange_charges[rows] = facts_again, charges_again
    elif led:
        connection, connection_charges = connection.copy(), connection_charges.copy()
    _widen(exchange, hidden)
    count_messages(exchange, messages.starts)
    found = Account(
        own.flow, own.starts, own.order, own.how, connection, connection_charges, exchange, exchange_charges
    )  # fmt: skip
    for one in led:
        _lead(found, one)
    return found


def _widen(exchange: Int64s2, hidden: Int64s) -> None:
    """Takes what the tick of the times may hide from all lower bounds, and adds it to the upper ones."""

    def work(some: slice) -> None:
        theirs = hidden if hidden.size == 1 else hidden[some]
        for field in bounds.FIELDS:
            column = exchange[some, EXCHANGE_FIELDS.index(field)]
            if field.endswith("_low_ns"):
                np.subtract(column, theirs, out=column)
                np.maximum(column, 0, out=column)
            else:
                column += theirs

    in_halves(work, exchange.shape[0])


def _lead(account: Account, one: LedBy) -> None:
    """Charges `name` to the first exchange of a connection, in an account that is being put together."""
    c, x = one.connection, one.exchange
    for column, ns in one.parts.charges:
        account.exchange_charges[x, column] += ns
        account.connection_charges[c, column] += ns
    for column, ns in one.parts.bounds:
        account.exchange[x, column] += ns
    account.exchange[x, _SET_UP] += one.spent_ns
    account.connection[c, _WAIT] += one.spent_ns
    account.connection[c, _WORST] = max(int(account.connection[c, _WORST]), int(account.exchange_charges[x].sum()))
