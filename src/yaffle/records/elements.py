"""Information elements that are read, by their registered numbers (RFC 7012, the registry it founded), for NetFlow v9
too (RFC 3954).
"""

from collections.abc import Mapping
from typing import NamedTuple

# What an element becomes in the table of flows.
PACKETS, OCTETS, PROTOCOL, TOS, SRC_PORT, DST_PORT, SRC4, DST4, SRC6, DST6, IN, OUT = range(12)
FIRST_UP, LAST_UP, FIRST_S, LAST_S, FIRST_MS, LAST_MS, FIRST_US, LAST_US, FIRST_NS, LAST_NS = range(12, 22)
(
    POST_TOS,
    DIRECTION,
    APPLICATION,
    ICMP,
    ICMP_TYPE,
    ICMP_CODE,
    SAMPLER,
    DSCP,
    NEXT_HOP4,
    FLAGS,
    INTERVAL,
    RANDOM_INTERVAL,
    HIGHEST_TTL,
) = range(22, 35)
(
    SELECTOR,
    TAKEN,
    SPACE,
    SIZE,
    POPULATION,
    INTERFACE_NAME,
    INTERFACE_WORDS,
    APPLICATION_NAME,
    FIRST_DELTA,
    LAST_DELTA,
    BOOTED_MS,
) = range(35, 46)
RETRANSMISSIONS, TIMEOUTS, BUSY_NS, RECEIVER_LIMITED_NS, SENDER_LIMITED_NS, ROUND_TRIP_NS, FLOOR_NS = range(46, 53)

MEANING = {
    2: PACKETS, 1: OCTETS, 86: PACKETS, 85: OCTETS, 4: PROTOCOL, 5: TOS, 7: SRC_PORT, 11: DST_PORT, 8: SRC4, 12: DST4,
    27: SRC6, 28: DST6, 10: IN, 14: OUT,
    22: FIRST_UP, 21: LAST_UP, 150: FIRST_S, 151: LAST_S, 152: FIRST_MS, 153: LAST_MS, 154: FIRST_US, 155: LAST_US,
    156: FIRST_NS, 157: LAST_NS,
    55: POST_TOS, 61: DIRECTION, 95: APPLICATION, 32: ICMP, 139: ICMP, 176: ICMP_TYPE, 177: ICMP_CODE, 178: ICMP_TYPE,
    179: ICMP_CODE, 48: SAMPLER, 302: SELECTOR,
    195: DSCP, 15: NEXT_HOP4, 6: FLAGS, 34: INTERVAL, 50: RANDOM_INTERVAL, 53: HIGHEST_TTL, 305: TAKEN, 306: SPACE,
    309: SIZE, 310: POPULATION,
    82: INTERFACE_NAME, 83: INTERFACE_WORDS, 96: APPLICATION_NAME, 158: FIRST_DELTA, 159: LAST_DELTA, 160: BOOTED_MS,
}  # fmt: skip
# Elements of our own: what a host's kernel measured. We have no number of our own among enterprises: this one is kept
# for documentation (RFC 5612), and nobody else's records use it.
OWN_ENTERPRISE, OWN_SIZE = 32473, 8  # Octets of each; all bits set: not measured.
OWN = {
    1: RETRANSMISSIONS, 2: TIMEOUTS, 3: BUSY_NS, 4: RECEIVER_LIMITED_NS, 5: SENDER_LIMITED_NS, 6: ROUND_TRIP_NS,
    7: FLOOR_NS,
}  # fmt: skip
# What an exporter measured of a flow and no column holds; kept by name beside the record.
MEASURED = {
    132: "dropped_octets", 133: "dropped_packets", 134: "dropped_octets_total", 135: "dropped_packets_total",
}  # fmt: skip
# Delay on the path, us: mean, least, most, sum. IANA's registry has numbers for them, which stand here from memory:
# they can be told otherwise.
DELAY_MEAN, DELAY_MIN, DELAY_MAX, DELAY_SUM = (f"path_delay_{part}_us" for part in ("mean", "min", "max", "sum"))
PATH_DELAY = (521, 522, 523, 524)
TEXTS = frozenset({INTERFACE_NAME, INTERFACE_WORDS, APPLICATION_NAME})
ADDRESSES6 = frozenset({SRC6, DST6})
VARIABLE = 0xFFFF
NAMELESS = -1  # an enterprise that does not say who it is
_LAST_REGISTERED = 0x7FFF


class Field(NamedTuple):
    """One field of a template. `meaning` is -1 where the element is not read; `name`: of those kept by name."""

    element: int
    enterprise: int
    size: int
    meaning: int
    name: str = ""


def measured(path_delay: tuple[int, ...] = PATH_DELAY) -> dict[int, str]:
    """What exporters measure of flows, by element, where delay on the path has these numbers."""
    return MEASURED | dict(zip(path_delay, (DELAY_MEAN, DELAY_MIN, DELAY_MAX, DELAY_SUM), strict=False))


def field(element: int, enterprise: int, size: int, named: Mapping[int, str] = MEASURED) -> Field:
    """A field by its element; elements of other enterprises are kept, not read.

    NetFlow v9 has no enterprises, but numbers of their own.
    """
    if element > _LAST_REGISTERED and not enterprise:
        enterprise = NAMELESS
    if enterprise == OWN_ENTERPRISE and element in OWN and size == OWN_SIZE:
        return Field(element, 0, size, OWN[element])
    if enterprise:
        return Field(element, enterprise, size, -1)
    return Field(element, 0, size, MEANING.get(element, -1), named.get(element, ""))
