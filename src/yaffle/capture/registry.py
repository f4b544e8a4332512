"""Registered names of protocol numbers, EtherTypes and differentiated services code points (RFC 2474, 2597, 3246,
5865, 8622).
"""

PROTOCOLS = {
    1: "ICMP", 2: "IGMP", 4: "IP in IP", 6: "TCP", 17: "UDP", 41: "IPv6 in IP", 47: "GRE", 50: "ESP", 51: "AH",
    58: "ICMPv6", 88: "EIGRP", 89: "OSPF",
    103: "PIM", 112: "VRRP", 132: "SCTP",
}  # fmt: skip
ETHERTYPES = {
    0x0800: "IPv4", 0x0806: "ARP", 0x8100: "VLAN tag", 0x86DD: "IPv6", 0x8847: "MPLS", 0x8848: "MPLS multicast",
    0x8863: "PPPoE discovery", 0x8864: "PPPoE",
    0x888E: "port access", 0x88A8: "provider VLAN tag", 0x88CC: "LLDP", 0x9100: "VLAN tag",
}  # fmt: skip
DSCP_NAMES = {
    0: "CS0, default", 1: "LE", 44: "VOICE-ADMIT", 46: "EF",
    **{8 * k: f"CS{k}" for k in range(1, 8)},
    **{8 * k + 2 * drop: f"AF{k}{drop}" for k in range(1, 5) for drop in range(1, 4)},
}  # fmt: skip

ECN_NAMES = ("not ECT", "ECT(1)", "ECT(0)", "CE")  # RFC 3168 section 5


def marking(code: int) -> str:
    """A differentiated services code point by its name."""
    return DSCP_NAMES.get(code, f"DSCP {code}")


def protocol_name(number: int) -> str:
    """An IP protocol or EtherType by its registered name."""
    if number >= 0x600:
        return ETHERTYPES.get(number, f"EtherType {number:#06x}")
    return PROTOCOLS.get(number, f"IP protocol {number}" if number else "not decoded")
