"""SNMP agents that answer for many devices from one process: version 2c, tables of interfaces whose counters rise.

    python -m tests.real.simulated_agents ADDRESS:PORT:INTERFACES[:KIND] …

KIND: plain; late (answers after 5 s), wrong (octets that are no SNMP), circles (always the same row), deaf (nothing),
small (answers at most 400 octets: less, or says too big), bridge (knows who is behind which port). A line on standard
input `restart` has all of them begin anew.
"""

import selectors
import socket
import sys
import time
from bisect import bisect_right

IF, IFX = (1, 3, 6, 1, 2, 1, 2, 2, 1), (1, 3, 6, 1, 2, 1, 31, 1, 1, 1)
BRIDGE = (1, 3, 6, 1, 2, 1, 17)
INTEGER, OCTETS, NULL, OID, SEQUENCE = 2, 4, 5, 6, 0x30
COUNTER32, GAUGE32, TICKS, COUNTER64, END = 0x41, 0x42, 0x43, 0x46, 0x82
GET, NEXT, BULK, RESPONSE = 0xA0, 0xA1, 0xA5, 0xA2
RATE = 1000  # octets a second and interface number


def ber(tag, body):
    size = len(body)
    length = bytes([size]) if size < 128 else b"\x82" + size.to_bytes(2, "big")
    return bytes([tag]) + length + body


def number(value, tag=INTEGER):
    return ber(tag, value.to_bytes(value.bit_length() // 8 + 1, "big"))


def oid(parts):
    body = bytearray([parts[0] * 40 + parts[1]])
    for part in parts[2:]:
        own = [part & 127]
        while part := part >> 7:
            own.append(part & 127 | 128)
        body += bytes(reversed(own))
    return ber(OID, bytes(body))


def read(data, at):
    """(tag, body, place behind)."""
    tag, size, at = data[at], data[at + 1], at + 2
    if size & 128:
        count = size & 127
        size, at = int.from_bytes(data[at : at + count], "big"), at + count
    return tag, data[at : at + size], at + size


def read_oid(body):
    parts, value = [body[0] // 40, body[0] % 40], 0
    for octet in body[1:]:
        value = value << 7 | octet & 127
        if not octet & 128:
            parts.append(value)
            value = 0
    return tuple(parts)


class Device:
    """One agent. Values are functions of the time since it began."""

    def __init__(self, interfaces, kind="plain"):
        self.kind, self.began = kind, time.time()
        self.values = {(1, 3, 6, 1, 2, 1, 1, 1, 0): ber(OCTETS, b"simulated"), (1, 3, 6, 1, 2, 1, 1, 3, 0): self.ticks}
        for k in range(1, interfaces + 1):
            rise = lambda k=k, of=1: number(int((time.time() - self.began) * RATE * k * of), COUNTER64)  # noqa: E731
            self.values |= {
                (*IF, 2, k): ber(OCTETS, b"port %d" % k),
                (*IF, 5, k): number(1_000_000_000, GAUGE32),
                (*IF, 6, k): ber(OCTETS, bytes([2, 0, 0, 0, k >> 8, k & 255])),
                (*IF, 8, k): number(1),
                **{(*IF, column, k): number(0, COUNTER32) for column in (13, 14, 19, 20)},
                (*IFX, 1, k): ber(OCTETS, b"p%d" % k),
                (*IFX, 15, k): number(1000, GAUGE32),
                (*IFX, 6, k): rise,
                (*IFX, 10, k): lambda rise=rise: rise(of=2),
                **{(*IFX, column, k): number(k, COUNTER64) for column in (7, 8, 9, 11, 12, 13)},
            }
            if kind == "bridge":
                self.values[(*BRIDGE, 1, 4, 1, 2, k)] = number(k)
                self.values[(*BRIDGE, 4, 3, 1, 2, 2, 0, 0, 1, 0, k)] = number(k)
                self.values[(*BRIDGE, 4, 3, 1, 3, 2, 0, 0, 1, 0, k)] = number(3)
        self.order = sorted(self.values)
        self.names = {name: oid(name) for name in self.order}

    def ticks(self):
        return number(int((time.time() - self.began) * 100), TICKS)

    def value(self, name):
        found = self.values[name]
        return found() if callable(found) else found

    def answer(self, data):
        if self.kind == "deaf":
            return None
        _, body, _ = read(data, 0)
        _, version, at = read(body, 0)
        _, community, at = read(body, at)
        if community != b"quay" or version != b"\x01":
            return None
        if self.kind == "wrong":
            return b"\x30\x82\xff\xff no SNMP"
        kind, pdu, _ = read(body, at)
        _, request, at = read(pdu, 0)
        _, _, at = read(pdu, at)
        _, repeats, at = read(pdu, at)
        _, listed, _ = read(pdu, at)
        wanted, at = [], 0
        while at < len(listed):
            _, one, at = read(listed, at)
            wanted.append(read_oid(read(one, 0)[1]))
        if kind == GET:
            found = [(name, self.value(name) if name in self.values else ber(0x80, b"")) for name in wanted]
        else:
            found, rows = [], int.from_bytes(repeats, "big") if kind == BULK else 1
            places = [bisect_right(self.order, name) for name in wanted]
            for _ in range(rows):
                for k, place in enumerate(places):
                    if place >= len(self.order):
                        found.append((wanted[k], ber(END, b"")))
                        continue
                    found.append((self.order[place], self.value(self.order[place])))
                    if self.kind != "circles" or len(self.order[place]) < 10:
                        places[k] = place + 1
        values = b"".join(ber(SEQUENCE, (self.names.get(name) or oid(name)) + value) for name, value in found)
        error = 0
        while self.kind == "small" and kind == BULK and len(values) > 400:  # Fewer rows (RFC 3416 section 4.2.3).
            found = found[: len(found) // 2]
            values = b"".join(ber(SEQUENCE, oid(name) + value) for name, value in found)
        if self.kind == "small" and len(values) > 400:
            error, values = 1, b""
        pdu = ber(RESPONSE, ber(INTEGER, request) + number(error) + number(0) + ber(SEQUENCE, values))
        return ber(SEQUENCE, ber(INTEGER, version) + ber(OCTETS, community) + pdu)


def main():
    waiting = selectors.DefaultSelector()
    devices = []
    for told in sys.argv[1:]:
        address, port, interfaces, *kind = told.split(":")
        own = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        own.bind((address, int(port)))
        devices.append(Device(int(interfaces), *kind))
        waiting.register(own, selectors.EVENT_READ, devices[-1])
    waiting.register(sys.stdin, selectors.EVENT_READ)
    print("ready", flush=True)
    late = []
    while True:
        for key, _ in waiting.select(0.05 if late else None):
            if key.fileobj is sys.stdin:
                if not sys.stdin.readline():
                    return
                for device in devices:
                    device.began = time.time()
                continue
            data, peer = key.fileobj.recvfrom(65535)
            answer = key.data.answer(data)
            if answer is not None and key.data.kind == "late":
                late.append((time.monotonic() + 5, key.fileobj, answer, peer))
            elif answer is not None:
                key.fileobj.sendto(answer, peer)
        for one in [one for one in late if one[0] <= time.monotonic()]:
            late.remove(one)
            one[1].sendto(one[2], one[3])


if __name__ == "__main__":
    main()
