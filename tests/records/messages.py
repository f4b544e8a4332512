"""Export datagrams made by hand: NetFlow v5 and v9, IPFIX."""

from struct import pack


def field_specs(fields):
    """fields: (element, size) or (element, size, enterprise)."""
    out = b""
    for element, size, *enterprise in fields:
        out += pack("!HH", element | (0x8000 if enterprise else 0), size) + (
            pack("!I", enterprise[0]) if enterprise else b""
        )
    return out


def a_set(kind, body, padding=0):
    body += bytes(padding)
    return pack("!HH", kind, 4 + len(body)) + body


def template(number, fields, kind=2):
    return a_set(kind, pack("!HH", number, len(fields)) + field_specs(fields))


def option_template(number, fields, scope, kind=3):
    return a_set(kind, pack("!HHH", number, len(fields), scope) + field_specs(fields))


def ipfix(sets, sequence=0, seconds=1_790_000_000, domain=1):
    body = b"".join(sets)
    return pack("!HHIII", 10, 16 + len(body), seconds, sequence, domain) + body


def netflow9(sets, sequence=0, uptime_ms=100_000, seconds=1_790_000_000, domain=1):
    return pack("!HHIIII", 9, len(sets), uptime_ms, seconds, sequence, domain) + b"".join(sets)


def netflow5(flows, sequence=0, uptime_ms=100_000, seconds=1_790_000_000, sampling=0):
    """flows: (packets, octets, first_ms, last_ms)."""
    head = pack("!HHIIIIBBH", 5, len(flows), uptime_ms, seconds, 0, sequence, 0, 0, sampling)
    one = bytes([198, 51, 100, 1, 203, 0, 113, 2, 0, 0, 0, 0])
    return head + b"".join(
        one + pack("!HHIIII", 3, 4, *flow) + pack("!HHBBBBHHBBH", 1234, 80, 0, 24, 6, 184, 0, 0, 0, 0, 0)
        for flow in flows
    )
