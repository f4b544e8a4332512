"""Exchanges of one connection as rows of the account: what was asked and answered, its moments, charges and bounds."""

from typing import NamedTuple

from yaffle.arrays import Int64s, Int64s2
from yaffle.exchanges.turns import TurnRows
from yaffle.kernels import int64, leaf
from yaffle.ledger import bounds, causes
from yaffle.ledger.bounds import PARTY_OF, bound
from yaffle.ledger.charging import charge_exchange
from yaffle.ledger.fields import CHARGES, COMPLETE, CONNECTION_FIELDS, EXCHANGE_FIELDS
from yaffle.ledger.parting import ended_by, had_when_gone
from yaffle.ledger.stretch import Cutting
from yaffle.ledger.trips import Ways, way_or_less
from yaffle.protocols import message
from yaffle.transport import kinds
from yaffle.transport.segments import Segments

_C = CONNECTION_FIELDS.index
_OPENING, _CLOSING, _UNANSWERED, _WORST_WAIT = _C("opening"), _C("closing"), _C("unanswered"), _C("worst_wait_ns")
_E = EXCHANGE_FIELDS.index
_X_CONNECTION, _X_FIRST, _X_ASKED, _X_ANSWERED, _X_LAST, _X_END = (
    _E("connection"),
    _E("first_ns"),
    _E("asked_ns"),
    _E("answered_ns"),
    _E("last_ns"),
    _E("end_ns"),
)
_X_REQUEST, _X_RESPONSE, _X_SET_UP, _X_MESSAGE, _X_BOUNDS = (
    _E("request_bytes"),
    _E("response_bytes"),
    _E("set_up_ns"),
    _E("message"),
    _E(bounds.FIELDS[0]),
)
_SERVER = int64(1)
_SIGN_ON, _LAST = message.SIGN_ON, message.LAST_OF_ENCRYPTION


class Tables(NamedTuple):
    """Where the account is written. Each column of exchanges is a row, so that a table of one is laid like others; what
    is written there is nil before: a charge that nobody has takes no memory.
    """

    connection: Int64s2
    connection_charges: Int64s2
    exchange: Int64s2
    exchange_charges: Int64s2


class ChargeRoom(NamedTuple):
    """Room for the charges of one exchange after another."""

    charge: Int64s  # (CHARGES,)
    pending: Int64s  # (CHARGES,): what comes with the first exchange
    doubt: Int64s
    bounded: Int64s
    times: Int64s  # first, asked, answered, last, end
    closings: Int64s  # (2,): by which segment each side closed first


@leaf
def exchanges_of(
    g: Segments,
    turns: TurnRows,
    found: int,
    ways: Ways,
    mss: Int64s,
    windows_high: Int64s,
    blocked: Int64s,
    measured_ns: int,
    opened_ns: int,
    cutting: Cutting,
    room: ChargeRoom,
    out: Int64s,
    total: Int64s,
    tables: Tables,
    x: int,
) -> int:
    """Charges the turns of a connection that were found, as exchanges from row x on; returns how many there are.

    opened_ns: how long it was opened for, 0 where that was not seen; measured_ns: the first measurement of a round
    trip. out: the connection's facts, of which the worst wait and what was not answered are set here; total: its
    charges, to which these are added.
    """
    charge, pending, times, rows = room.charge, room.pending, room.times, 0
    complete = out[_OPENING] == COMPLETE
    for m in range(CHARGES):
        pending[m] = total[m] if complete else 0
    set_up_ns = int64(0)  # of encryption, waited for by the first exchange
    had, way_ns, answers = had_when_gone(g, room.closings[0]), way_or_less(ways, _SERVER), False
    for k in range(found):
        turn = turns[k]
        ended = ended_by(g, turn, answers, room.closings, had, out[_CLOSING], way_ns)
        answers |= turn.answer >= 0
        if ended < 0:
            continue
        charge_exchange(
            g, turns, k, ended, ways, mss, windows_high, blocked, measured_ns, cutting, charge, room.doubt, times
        )  # fmt: skip
        if turn.kind != 0:
            spent = _of_handshake(g, turn.kind, turn.stop, charge, times)
            comes_with_first = turn.kind != _SIGN_ON and rows == 0
            set_up_ns += spent if comes_with_first else 0
            for m in range(CHARGES):
                total[m] += charge[m]
                pending[m] += charge[m] if comes_with_first else 0
            continue
        row = tables.exchange[:, x + rows]
        row[_X_CONNECTION], row[_X_FIRST], row[_X_ASKED] = ways.connection, times[0], times[1]
        row[_X_ANSWERED], row[_X_LAST], row[_X_END] = times[2], times[3], times[4]
        row[_X_REQUEST], row[_X_RESPONSE] = turn.request_bytes, turn.response_bytes
        row[_X_SET_UP], row[_X_MESSAGE] = set_up_ns + opened_ns if rows == 0 else 0, turn.message
        if rows == 0:
            for m in range(CHARGES):  # What the first exchange waited for before it stands with it.
                charge[m] += pending[m]
                total[m] -= pending[m]
        bound(charge, PARTY_OF, room.doubt, room.bounded)
        for m in range(room.bounded.size):
            row[_X_BOUNDS + m] = room.bounded[m]
        wait = int64(0)
        for m in range(CHARGES):
            if charge[m] != 0:
                total[m] += charge[m]
                wait += charge[m]
                tables.exchange_charges[m, x + rows] = charge[m]
        out[_WORST_WAIT] = max(out[_WORST_WAIT], wait)
        out[_UNANSWERED] += times[2] < 0
        rows += 1
    return rows


@leaf
def _of_handshake(g: Segments, kind: int, stop: int, charge: Int64s, times: Int64s) -> int:
    """Turns the charges of a handshake's turn into those of encryption; returns the time from its start to the
    client's next step.
    """
    spent = times[4] - times[0]
    if kind == _SIGN_ON:
        return spent
    charge[causes.SERVER_ENCRYPTION] += charge[causes.PROCESSING] + charge[causes.STALL]
    charge[causes.CLIENT_ENCRYPTION] += charge[causes.PACING]
    charge[causes.PROCESSING] = charge[causes.STALL] = charge[causes.PACING] = 0
    if kind == _LAST:
        return spent
    for i in range(stop, g.size):
        if g[i].d == 0 and g[i].n > 0 and g[i].kind & kinds.KIND_MASK != kinds.COPY:
            computing = max(int64(0), g[i].t - times[4])
            charge[causes.CLIENT_ENCRYPTION] += computing
            return spent + computing
    return spent
