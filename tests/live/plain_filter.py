"""What hosts and ports select, plainly; and a plain machine for classic filter programs (Linux, socket(7))."""

import struct
from ipaddress import ip_address

NET, PROTOCOL = 0xFFF00000, 0xFFFFF000
PORTED = (6, 17, 132, 136)


def untagged(frame):
    """(kind, place of the network layer) as the kernel sees a frame: its outer tag is taken out."""
    kind, at = struct.unpack_from("!H", frame, 12)[0], 14
    if kind in (0x8100, 0x88A8):
        kind, at = struct.unpack_from("!H", frame, 16)[0], 18
    return kind, at


def addresses(frame, at, size):
    """Source and destination, as far as they are there."""
    parts = (frame[at : at + size], frame[at + size : at + 2 * size])
    return {ip_address(part) for part in parts if len(part) == size}


def selects(frame, hosts, ports):
    """Whether a frame fits."""
    if not hosts and not ports:
        return True
    kind, at = untagged(frame)
    for _ in range(2):
        if kind in (0x8100, 0x88A8):
            kind, at = struct.unpack_from("!H", frame, at + 2)[0], at + 4
    version = {0x0800: 4, 0x86DD: 6}.get(kind)
    if version is None:
        return False
    ends = addresses(frame, at + 12, 4) if version == 4 else addresses(frame, at + 8, 16)
    if hosts and not ends & {ip_address(host) for host in hosts}:
        return False
    try:
        return not ports or has_port(frame, at, version, ports)
    except (IndexError, struct.error):
        return False


def has_port(frame, at, version, ports):
    """Whether one of the ports is there, or could be: later fragments do not tell."""
    if version == 4:
        if struct.unpack_from("!H", frame, at + 6)[0] & 0x1FFF:
            return True
        protocol, at = frame[at + 9], at + 4 * (frame[at] & 15)
    else:
        protocol, at = frame[at + 6], at + 40
        for _ in range(6):
            if protocol in (0, 43, 60, 135):
                protocol, at = frame[at], at + 8 + 8 * frame[at + 1]
            elif protocol == 51:
                protocol, at = frame[at], at + 8 + 4 * frame[at + 1]
            elif protocol == 44:
                if struct.unpack_from("!H", frame, at + 2)[0] & 0xFFF8:
                    return True
                protocol, at = frame[at], at + 8
            else:
                break
    if protocol not in PORTED:
        return False
    return struct.unpack_from("!H", frame, at)[0] in ports or struct.unpack_from("!H", frame, at + 2)[0] in ports


def run(program, frame):
    """What a program returns of a frame: octets to keep."""
    kind, net = untagged(frame)
    a = x = at = 0
    memory = [0] * 16

    def load(k, size):
        place = net + (k - NET) if k >= NET else k
        if place < 0 or place + size > len(frame):
            raise IndexError
        return int.from_bytes(frame[place : place + size], "big")

    while True:
        code, yes, no, k = program[at]
        at += 1
        try:
            if code in (0x20, 0x28, 0x30):
                a = kind if k == PROTOCOL else load(k, {0x20: 4, 0x28: 2, 0x30: 1}[code])
            elif code in (0x40, 0x48, 0x50):
                a = load((x + k) & 0xFFFFFFFF, {0x40: 4, 0x48: 2, 0x50: 1}[code])
            elif code in (0x15, 0x25, 0x45):
                hit = {0x15: a == k, 0x25: a > k, 0x45: bool(a & k)}[code]
                at += yes if hit else no
            elif code == 0x05:
                at += k
            elif code in (0x06, 0x16):
                return k if code == 0x06 else a
            else:
                a, x = step(code, k, a, x, memory)
        except IndexError:
            return 0


def step(code, k, a, x, memory):
    """(A, X) after an instruction that neither loads of the packet nor jumps."""
    if code == 0x02:
        memory[k] = a
    elif code == 0x03:
        memory[k] = x
    elif code in (0x60, 0x61):
        a, x = (memory[k], x) if code == 0x60 else (a, memory[k])
    elif code == 0x01:
        x = k
    elif code == 0x07:
        x = a
    elif code == 0x87:
        a = x
    else:
        a = {0x04: a + k, 0x0C: a + x, 0x54: a & k, 0x64: a << k, 0x74: a >> k}[code] & 0xFFFFFFFF
    return a, x
