"""NetFlow version 5: records of one form (its published layout), seen as a template of the later versions."""

from yaffle.records.elements import field
from yaffle.records.templates import Template

HEADER, RECORD, MOST = 24, 48, 30
_FIELDS = (
    (8, 4), (12, 4), (15, 4), (10, 2), (14, 2), (2, 4), (1, 4), (22, 4), (21, 4), (7, 2), (11, 2), (0, 1), (6, 1),
    (4, 1), (5, 1), (16, 2), (17, 2), (9, 1), (13, 1), (0, 2),
)  # fmt: skip
TEMPLATE = Template(tuple(field(element, 0, size) for element, size in _FIELDS))
assert TEMPLATE.size == RECORD


def whole(data: bytes) -> bool:
    """Whether a datagram holds what its header says."""
    return (
        len(data) >= HEADER
        and 0 < int.from_bytes(data[2:4], "big") <= MOST
        and len(data) >= HEADER + RECORD * int.from_bytes(data[2:4], "big")
    )
