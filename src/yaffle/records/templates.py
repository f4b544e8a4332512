"""Templates of NetFlow v9 (RFC 3954) and IPFIX (RFC 7011): read, kept within bounds, and records cut by them."""

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from struct import unpack_from

import numpy as np

from yaffle.arrays import Int64s, Uint8s2
from yaffle.records import elements
from yaffle.records.elements import VARIABLE, Field

MOST_FIELDS = 512
_MOST_RECORD = 1 << 16
_SCOPES = {2: 10}  # NetFlow v9 counts its scopes for itself: an interface is the element of an interface.


@dataclass(frozen=True)
class Template:
    """Fields of the records of one set; the first `scope` of them say what an option is about."""

    fields: tuple[Field, ...]
    scope: int = 0

    @cached_property
    def size(self) -> int:
        """Bytes of a record; -1 where it varies."""
        return -1 if self.varies else sum(f.size for f in self.fields)

    @cached_property
    def varies(self) -> bool:
        """Whether a field carries its own length."""
        return any(f.size == VARIABLE for f in self.fields)

    @cached_property
    def least(self) -> int:
        """Bytes of the smallest record there can be."""
        return sum(1 if f.size == VARIABLE else f.size for f in self.fields)

    @cached_property
    def places(self) -> dict[int, tuple[int, int]]:
        """Where the fields of a meaning stand in a record of fixed size (the fields that vary left out): offset and
        size.
        """
        found: dict[int, tuple[int, int]] = {}
        at = 0
        for f in self.fields:
            if f.size == VARIABLE:
                continue
            if f.meaning >= 0:
                found.setdefault(f.meaning, (at, f.size))
            at += f.size
        return found

    @cached_property
    def wide(self) -> tuple[int, ...]:
        """Fields that no column holds: of enterprises, what exporters measured, texts, and those that vary."""
        return tuple(
            k
            for k, f in enumerate(self.fields)
            if f.enterprise or f.name or f.meaning in elements.TEXTS or f.size == VARIABLE
        )

    @cached_property
    def fixed_size(self) -> int:
        """Bytes of the fields that do not vary."""
        return sum(f.size for f in self.fields if f.size != VARIABLE)


def read_fields(
    data: bytes,
    at: int,
    count: int,
    enterprises: bool,
    scope: int = 0,
    own_scopes: bool = False,
    named: Mapping[int, str] = elements.MEASURED,
) -> tuple[tuple[Field, ...], int] | None:
    """Fields of a template and the place behind them; None where it is cut off or cannot be."""
    found: list[Field] = []
    if not 0 < count <= MOST_FIELDS:
        return None
    for k in range(count):
        if at + 4 > len(data):
            return None
        element, size = unpack_from("!HH", data, at)
        at += 4
        enterprise = 0
        if enterprises and element & 0x8000:
            if at + 4 > len(data):
                return None
            element, enterprise = element & 0x7FFF, unpack_from("!I", data, at)[0]
            at += 4
        if size == VARIABLE and not enterprises:
            return None
        if own_scopes and k < scope:
            element = _SCOPES.get(element, 0)
        found.append(elements.field(element, enterprise, size, named))
    template = Template(tuple(found), scope)
    return (template.fields, at) if 0 < template.least <= _MOST_RECORD else None


def split(template: Template, data: bytes) -> tuple[bytes, int, list[dict[int, bytes]]]:
    """Records of a set: the fixed parts one behind the other, how many, and of each the fields that vary or that are no
    numbers, by their place in the template.

    What is left over at the end is padding. Fields of fixed size that are wider than a number, and those of
    enterprises, are among the latter.
    """
    wide = template.wide
    if not template.varies:
        size = template.size
        count = len(data) // size
        if not wide:
            return data[: count * size], count, []
        offsets = np.cumsum([0, *(f.size for f in template.fields)]).tolist()
        return (
            data[: count * size],
            count,
            [{k: data[r * size + offsets[k] : r * size + offsets[k + 1]] for k in wide} for r in range(count)],
        )
    kept: list[bytes] = []
    others: list[dict[int, bytes]] = []
    at = 0
    while at + template.least <= len(data):
        fixed, own = bytearray(), {}
        for k, f in enumerate(template.fields):
            size = f.size
            if size == VARIABLE:
                if at >= len(data):
                    return b"".join(kept), len(kept), others
                size, at = data[at], at + 1
                if size == 255:
                    size, at = int.from_bytes(data[at : at + 2], "big"), at + 2
            if at + size > len(data):
                return b"".join(kept), len(kept), others
            if f.size != VARIABLE:
                fixed += data[at : at + size]
            if k in wide:
                own[k] = data[at : at + size]
            at += size
        kept.append(bytes(fixed))
        others.append(own)
    return b"".join(kept), len(kept), others


def table(data: bytes, count: int, size: int) -> Uint8s2:
    """Fixed parts as rows of bytes, uint8 (count, size)."""
    return np.frombuffer(data, np.uint8).reshape(count, size)


def numbers(rows: Uint8s2, place: tuple[int, int]) -> Int64s:
    """A field as whole numbers, int64 (n,); only its last eight octets, where it is wider."""
    at, size = place
    skip = max(0, size - 8)
    at, size = at + skip, size - skip
    if size in (1, 2, 4, 8):
        column = np.ascontiguousarray(rows[:, at : at + size]).view(f">u{size}")[:, 0]
        return np.asarray(column.astype(np.uint64).view(np.int64))
    found = np.zeros(rows.shape[0], np.int64)
    for k in range(at, at + size):
        found = found << 8 | rows[:, k]
    return found
