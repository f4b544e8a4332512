"""Frames of 802.11, and what a radio says before them, built field by field."""

from struct import pack

AP1, AP2 = bytes.fromhex("02aa00000001"), bytes.fromhex("02aa00000002")
STA, WIRED = bytes.fromhex("02bb00000001"), bytes.fromhex("02cc00000001")
SSID = "pier"
TO_DS, FROM_DS, RETRY, PROTECTED = 1, 2, 8, 0x40


def radiotap(
    signal=-60, noise=-95, flags=0, rate=None, mcs=None, vht=None, he=None, vendor=False, antennas=(), clock=77
):
    """A header of radiotap with these fields; antennas: signals of single ones; clock: of the radio, us."""
    fields, present = [(8, pack("<Q", clock))], 1
    present |= 1 << 1
    fields.append((1, bytes([flags])))
    if rate is not None:
        present |= 1 << 2
        fields.append((1, bytes([rate])))
    present |= 1 << 3
    fields.append((2, pack("<HH", 5220, 0)))
    if signal is not None:
        present |= 1 << 5
        fields.append((1, pack("<b", signal)))
    if noise is not None:
        present |= 1 << 6
        fields.append((1, pack("<b", noise)))
    if mcs is not None:
        present |= 1 << 19
        fields.append((1, bytes(mcs)))
    if vht is not None:
        present |= 1 << 21
        fields.append((2, vht))
    if he is not None:
        present |= 1 << 23
        fields.append((2, he))
    words = [present]
    for _ in antennas:
        words.append(1 << 5 | 1 << 11)
    if vendor:
        words[-1] |= 1 << 30
        words.append(0xFFFF)
    for k in range(len(words) - 1):
        words[k] |= 1 << 31 | (0 if words[k] >> 30 & 1 else 1 << 29)
    body = b"".join(pack("<I", word) for word in words)
    for align, data in fields:
        body += bytes(-(4 + len(body)) % align) + data
    for number, one in enumerate(antennas):
        body += pack("<bB", one, number)
    if vendor:
        body += bytes(-(4 + len(body)) % 2) + b"\0\x11\x22\1" + pack("<H", 5) + b"12345"
    return pack("<BBH", 0, 0, 4 + len(body)) + body


def per_packet(signal=-60, noise=-95, bad=False):
    """A header of per-packet information with the common fields of 802.11."""
    common = pack("<QHHHHBBbb", 77, 4 if bad else 0, 108, 5220, 0, 0, 0, signal, noise)
    return pack("<BBHI", 0, 0, 8 + 4 + len(common), 105) + pack("<HH", 2, len(common)) + common


def management(subtype, receiver, sender, bssid, sequence, body, retry=False):
    """A management frame."""
    return (
        bytes([subtype << 4, RETRY if retry else 0, 0, 0])
        + receiver
        + sender
        + bssid
        + pack("<H", sequence << 4)
        + body
    )


def element(kind, data):
    """One element of a management frame."""
    return bytes([kind, len(data)]) + data


def beacon(bssid, sequence, ssid=SSID, channel=44, stations=3, busy=64, private=True):
    """What an access point says of itself."""
    body = bytes(8) + pack("<HH", 100, 0x11 if private else 1)
    body += element(0, ssid.encode()) + element(3, bytes([channel])) + element(11, pack("<HBH", stations, busy, 0))
    return management(8, b"\xff" * 6, bssid, bssid, sequence, body)


def data(up, bssid, sequence, body, station=STA, retry=False, protected=False, tid=0, fragment=0, amsdu=False):
    """A data frame with quality of service, to (up) or from an access point."""
    flags = (TO_DS if up else FROM_DS) | (RETRY if retry else 0) | (PROTECTED if protected else 0)
    ends = bssid + station + WIRED if up else station + bssid + WIRED
    qos = bytes([tid | (0x80 if amsdu else 0), 0])
    return b"\x88" + bytes([flags]) + b"\0\0" + ends + pack("<H", sequence << 4 | fragment) + qos + body


def snap(ethertype, packet):
    """A packet as 802.11 carries it."""
    return b"\xaa\xaa\3\0\0\0" + pack("!H", ethertype) + packet
