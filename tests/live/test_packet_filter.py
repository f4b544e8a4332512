"""Filters of hosts and ports: as plainly evaluated, by a plain machine and by the kernel."""

import random
import struct
from ipaddress import ip_address

import pytest

from tests.live.plain_filter import run, selects, untagged
from yaffle.errors import YaffleError
from yaffle.live.packet_filter import MOST_INSTRUCTIONS, WHOLE, program

HOSTS = ["192.0.2.1", "192.0.2.2", "198.51.100.9", "2001:db8::1", "2001:db8:5::2"]
PORTS = [53, 80, 443, 8443]


def frame(seed):
    """A frame of any kind there is: tags, versions, options and extension headers, fragments, cut off."""
    rng = random.Random(seed)
    out = bytes(12)
    for _ in range(rng.choice([0, 0, 0, 1, 2, 3])):
        out += struct.pack("!HH", rng.choice([0x8100, 0x88A8]), rng.randrange(4096))
    version = rng.choice([4, 4, 6, 6, 0])
    protocol = rng.choice([6, 17, 1, 58, 132, 136, 47])
    ports = struct.pack("!HH", rng.choice([*PORTS, 1, 60000]), rng.choice([*PORTS, 2, 50000]))
    transport = ports + bytes(8) + bytes([rng.choice([0x50, 0x80])]) + bytes(7) + rng.randbytes(rng.randrange(40))
    ends = (
        [ip_address(rng.choice([host for host in HOSTS if (":" in host) == (version == 6)])) for _ in range(2)]
        if version
        else []
    )
    if version == 4:
        options = 4 * rng.choice([0, 0, 1, 5])
        offset = rng.choice([0, 0, 0, 0x2000, 7, 0x2007])
        head = struct.pack(
            "!BBHHHBBH", 0x45 + options // 4, 0, 20 + options + len(transport), 1, offset, 64, protocol, 0
        )
        out += struct.pack("!H", 0x0800) + head + b"".join(one.packed for one in ends) + bytes(options) + transport
    elif version == 6:
        rest, kind = transport, protocol
        for header in rng.sample([0, 43, 44, 60, 51, 135], rng.randrange(4)):
            more = rng.randrange(2)
            if header == 44:
                rest = struct.pack("!BBHI", kind, 0, rng.choice([0, 0, 1, 8 * 9]), 1) + rest
            else:
                size = 8 + 8 * more if header != 51 else 8 + 4 * more
                rest = bytes([kind, more]) + bytes(size - 2) + rest
            kind = header
        out += struct.pack("!H", 0x86DD) + struct.pack("!IHBB", 6 << 28, len(rest), kind, 64)
        out += b"".join(one.packed for one in ends) + rest
    else:
        out += struct.pack("!H", rng.choice([0x0806, 0x88CC, 0x0800])) + rng.randbytes(30)
    return out[: rng.randrange(26, max(27, len(out)))] if rng.random() < 0.15 else out


@pytest.mark.parametrize("hosts", [[], ["192.0.2.1"], ["2001:db8::1"], ["192.0.2.2", "2001:db8:5::2", "198.51.100.9"]])
@pytest.mark.parametrize("ports", [[], [53], [80, 8443]])
def test_a_program_selects_what_is_selected_plainly(hosts, ports):
    told = program(hosts, ports)
    assert all(0 <= yes < 256 and 0 <= no < 256 for _, yes, no, _ in told)
    kept = 0
    for seed in range(1500):
        one = frame(seed)
        assert (run(told, one) > 0) == selects(one, hosts, ports), (seed, hosts, ports)
        kept += selects(one, hosts, ports)
    assert 20 < kept <= 1500


def test_slices_and_headers_only():
    assert run(program(keep=96), frame(1)) == 96 and program() == [(0x06, 0, 0, WHOLE)]
    told = program(payload=False)
    for seed in range(400):
        one = frame(seed)
        kind, at = untagged(one)
        if kind != 0x0800 or len(one) < at + 45:
            continue
        begin, later = at + 4 * (one[at] & 15), struct.unpack_from("!H", one, at + 6)[0] & 0x1FFF
        size = {6: one[begin + 12] // 4 * 1 & 0x3C, 17: 8, 132: 8, 136: 8}.get(one[at + 9], 0)
        if not later and len(one) > begin + 13:
            assert run(told, one) == 14 + begin - at + size
    assert run(program(payload=False, keep=30), frame(0)) <= 30


@pytest.mark.parametrize(
    ("hosts", "ports", "words"), [(["pier"], [], "no address"), ([], [0], "1 to 65535"), ([], [70000], "port")]
)
def test_what_is_neither(hosts, ports, words):
    with pytest.raises(YaffleError, match=words):
        program(hosts, ports)


def test_more_than_the_kernel_can_hold():
    many = [f"2001:db8::{k:x}" for k in range(1, 600)]
    with pytest.raises(YaffleError, match="more than the kernel's filter can hold"):
        program(many)
    assert len(program(many[:100], PORTS)) < MOST_INSTRUCTIONS
