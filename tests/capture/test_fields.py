"""Header fields against frames built by hand; masking keeps what makes a capture readable and hides the rest."""

import random
from ipaddress import ip_address, ip_network
from struct import Struct

import pytest

from tests.frames import ACK, SYN, C, S, ether, ip, tcp, udp
from yaffle.capture.fields import ADDRESS, fields
from yaffle.capture.masking import Masker

SIX = ("2001:db8::1", "2001:db8::2")


def named(data, link=1):
    return {(h.name, p.name): p.value for h in fields(data, link) for p in h.parts}


def test_each_field_stands_in_its_bytes():
    frame = ether(
        tcp(
            C,
            40000,
            S,
            80,
            1000,
            2000,
            SYN | ACK,
            b"hello",
            window=77,
            options=b"\x02\x04\x05\xb4\x03\x03\x07",
            ip_id=9,
            tos=0xB8,
        ),
        tags=b"\x81\x00\x00\x05",
    )
    found = named(frame)
    assert found["VLAN tag", "VLAN"] == "5"
    assert found["IPv4", "DSCP"] == "EF, ECN not capable"
    assert (found["IPv4", "from"], found["IPv4", "to"], found["IPv4", "identification"]) == (C, S, "9")
    assert (found["TCP", "sequence"], found["TCP", "acknowledges"], found["TCP", "window"], found["TCP", "flags"]) == (
        "1000",
        "2000",
        "77 (unscaled)",
        "SYN ACK",
    )
    assert found["TCP", "option: maximum segment size"] == "1460 B"
    assert found["TCP", "option: window scale"] == "shift 7"
    headers = {h.name: h for h in fields(frame, 1)}
    assert frame[headers["payload"].start : headers["payload"].stop] == b"hello"
    source = next(p for p in headers["IPv4"].parts if p.role == ADDRESS)
    assert frame[source.start : source.stop] == ip_address(C).packed


@pytest.mark.parametrize(
    ("frame", "header", "value"),
    [
        (ether(udp(C, 5, S, 53, b"abc")), "UDP", "port 5 to 53"),
        (ether(ip(C, S, 1, b"\x08\x00\0\0\0\1\0\2ping")), "ICMP", "type 8, code 0"),
        (ether(tcp(*SIX[:1], 4, SIX[1], 5, 6, 7, ACK)), "IPv6", "2001:db8::1 to 2001:db8::2"),
        (ether(b"\0\1\x01\x40" + tcp(C, 1, S, 2, 3, 4, ACK), 0x8847), "MPLS label", "16"),
        (
            ether(
                ip(
                    C,
                    S,
                    17,
                    Struct("!HHHH").pack(5000, 4789, 0, 0) + b"\x08" + bytes(3) + b"\0\0\7\0" + ether(udp(S, 1, C, 2)),
                )
            ),
            "VXLAN",
            "network 7",
        ),
        (ether(ip(C, S, 47, b"\0\0\x08\0" + udp(S, 1, C, 2))), "GRE", "IPv4 (0x0800)"),
        (
            bytes(12)
            + b"\x08\x06"
            + bytes(6)
            + b"\0\1"
            + bytes(6)
            + bytes([192, 0, 2, 1])
            + bytes(6)
            + bytes([192, 0, 2, 2]),
            "ARP",
            "who has",
        ),
    ],
)
def test_headers_of_many_kinds(frame, header, value):
    assert value in [h.value for h in fields(frame, 1) if h.name == header]


def test_no_packet_however_broken_stops_the_reader():
    rnd = random.Random(3)
    whole = [
        ether(tcp(C, 1, S, 2, 3, 4, ACK, b"x" * 30, ts=(1, 2))),
        ether(ip("2001:db8::1", "2001:db8::2", 0, b"\x2b\0" + bytes(6) + b"\x06\0" + bytes(6) + bytes(20))),
    ]
    masker = Masker(b"k" * 32)
    for _ in range(3000):
        data = bytearray(rnd.choice(whole))
        for _ in range(rnd.randrange(6)):
            data[rnd.randrange(len(data))] = rnd.randrange(256)
        data = bytes(data[: rnd.randrange(len(data) + 1)])
        link = rnd.choice((1, 12, 101, 113, 276, 0))
        for header in fields(data, link):
            assert 0 <= header.start <= header.stop <= len(data)
        masker.packet(data, link)


def checksum(data):
    total = sum(Struct(f"!{len(data) // 2}H").unpack(data[: len(data) // 2 * 2])) + (
        data[-1] << 8 if len(data) % 2 else 0
    )
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return total


def with_checksums(packet):
    """The IP packet with right checksums of IPv4 and TCP or UDP."""
    data = bytearray(packet)
    data[10:12] = bytes(2)
    data[10:12] = (~checksum(bytes(data[:20])) & 0xFFFF).to_bytes(2, "big")
    at = 20 + (16 if data[9] == 6 else 6)
    data[at : at + 2] = bytes(2)
    pseudo = bytes(data[12:20]) + bytes([0, data[9]]) + (len(data) - 20).to_bytes(2, "big")
    data[at : at + 2] = (~checksum(pseudo + bytes(data[20:])) & 0xFFFF).to_bytes(2, "big")
    return bytes(data)


@pytest.mark.parametrize("packet", [tcp(C, 40000, S, 80, 5, 6, ACK, ts=(1, 2)), udp(C, 5, S, 53)])
def test_masked_packets_have_right_checksums_and_nothing_of_the_old_address(packet):
    frame = ether(with_checksums(packet))
    out = Masker(b"k" * 32).packet(frame, 1)
    assert ip_address(C).packed not in out and ip_address(S).packed not in out
    assert out[:12] == bytes(12)
    assert checksum(out[14:34]) == 0xFFFF
    pseudo = out[26:34] + bytes([0, out[23]]) + (len(out) - 34).to_bytes(2, "big")
    assert checksum(pseudo + out[34:]) == 0xFFFF


def test_payload_names_and_what_is_not_decoded_stay_behind():
    masker = Masker(b"k" * 32)
    assert b"secret" not in masker.packet(ether(tcp(C, 1, S, 2, 3, 4, ACK, b"secret")), 1)
    assert masker.packet(b"secret", 147) == b""
    quoted = ether(ip("192.0.2.254", C, 1, b"\x03\x01\0\0\0\0\0\0" + tcp(C, 1, S, 2, 3, 4, SYN)))
    assert ip_address(C).packed not in masker.packet(quoted, 1)


@pytest.mark.parametrize("network", ["198.51.100.0/24", "2001:db8:7::/48"])
def test_masking_keeps_networks_together_and_is_one_to_one(network):
    one, two = Masker(b"a" * 32), Masker(b"b" * 32)
    hosts = [str(ip_network(network)[k]) for k in range(1, 60)]
    masked = [one.text(h) for h in hosts]
    assert len(set(masked)) == len(hosts)
    assert [one.text(h) for h in hosts] == masked
    assert len({ip_network(f"{m}/{network.split('/')[1]}", strict=False) for m in masked}) == 1
    assert [two.text(h) for h in hosts] != masked
