"""Values bound to a statement of MySQL, in its binary form: what a prepared statement is executed with, and attributes
of a query.

Source: the protocol's published description (COM_STMT_EXECUTE, COM_QUERY, binary protocol value).
"""

from struct import Struct
from typing import NamedTuple

from yaffle.protocols.message import LONGEST_VALUE, MOST_VALUES

_MOST_BOUND = 65_535
_WHOLE = {1: 1, 2: 2, 3: 4, 8: 8, 9: 4, 13: 2}  # types of whole numbers: bytes
_FRACTIONS = {4: Struct("<f"), 5: Struct("<d")}
_NULL = 6
_MOMENTS = (7, 10, 11, 12)  # times: a length and so many bytes
_UNSIGNED = 0x80


class Bound(NamedTuple):
    """What was bound, as far as it could be read."""

    values: tuple[str, ...]  # the first short ones
    types: tuple[tuple[int, int], ...]  # (type, flags) of all
    end: int  # where what follows begins; -1 where it could not be read


def length_at(body: bytes, at: int) -> tuple[int, int]:
    """(a number of varying length, where what follows begins); (-1, at) where none can be read."""
    if at >= len(body):
        return -1, at
    first = body[at]
    if first < 0xFB:
        return first, at + 1
    octets = {0xFC: 2, 0xFD: 3, 0xFE: 8}.get(first, 0)
    if not octets or at + 1 + octets > len(body):
        return -1, at
    return int.from_bytes(body[at + 1 : at + 1 + octets], "little"), at + 1 + octets


def bound(body: bytes, at: int, count: int, former: tuple[tuple[int, int], ...], *, named: bool) -> Bound:
    """Reads `count` values from where the bits of those that are null begin.

    former: types as they were told the last time, because they are told only when they change; named: whether each has
    a name.
    """
    nothing = Bound((), former, -1)
    if not 0 <= count <= _MOST_BOUND:
        return nothing
    null = body[at : at + (count + 7) // 8]
    at += len(null)
    if count and at >= len(body):
        return nothing
    types, told = former, bool(count) and body[at] == 1
    at += 1 if count else 0
    if told:
        found = []
        for _ in range(count):
            if at + 2 > len(body):
                return nothing
            found.append((body[at], body[at + 1]))
            at += 2
            if named:
                size, at = length_at(body, at)
                if size < 0:
                    return nothing
                at += size
        types = tuple(found)
    if len(types) != count:
        return nothing
    values: list[str] = []
    for k, (kind, flags) in enumerate(types):
        if null[k // 8] >> (k % 8) & 1 or kind == _NULL:
            continue
        text, at = _value(body, at, kind, flags)
        if at < 0:
            return Bound(tuple(values), types, -1)
        if text is not None and len(values) < MOST_VALUES:
            values.append(text)
    return Bound(tuple(values), types, at)


def _value(body: bytes, at: int, kind: int, flags: int) -> tuple[str | None, int]:
    """(a value as text, None for one that is not kept; where what follows begins, -1 where it could not be read)."""
    if octets := _WHOLE.get(kind, 0):
        if at + octets > len(body):
            return None, -1
        return str(int.from_bytes(body[at : at + octets], "little", signed=not flags & _UNSIGNED)), at + octets
    if fraction := _FRACTIONS.get(kind):
        if at + fraction.size > len(body):
            return None, -1
        return f"{fraction.unpack_from(body, at)[0]:g}", at + fraction.size
    if kind in _MOMENTS:
        return (None, at + 1 + body[at]) if at < len(body) and at + 1 + body[at] <= len(body) else (None, -1)
    size, begin = length_at(body, at)
    if size < 0 or begin + size > len(body):
        return None, -1
    return (body[begin : begin + size].decode("utf-8", "replace") if size <= LONGEST_VALUE else None), begin + size
