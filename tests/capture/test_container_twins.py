"""The container kernels against their plain twins, on files made up at random, whole and damaged."""

import random
from struct import Struct

import pytest

from tests.frames import pcap
from tests.oracles.plain_containers import plain_pcap, plain_pcapng
from yaffle.capture.reader import read_captures
from yaffle.errors import YaffleError


def block(order, kind, body):
    body += b"\0" * (-len(body) % 4)
    size = Struct(order + "I").pack(12 + len(body))
    return Struct(order + "I").pack(kind) + size + body + size


def option(order, code, value):
    return Struct(order + "HH").pack(code, len(value)) + value + b"\0" * (-len(value) % 4)


def made_up_blocks(rnd):
    out = b""
    for _ in range(rnd.randrange(1, 3)):
        order = rnd.choice("<>")
        out += block(order, 0x0A0D0D0A, Struct(order + "IHHq").pack(0x1A2B3C4D, 1, 0, -1))
        faces = rnd.randrange(1, 4)
        for _ in range(faces):
            options = option(order, 2, b"port") if rnd.random() < 0.5 else b""
            if rnd.random() < 0.8:
                options += option(order, 9, bytes([rnd.choice((0, 3, 6, 9, 12, 128 + 10, 128 + 20, 128 + 30))]))
            if rnd.random() < 0.4:
                options += option(order, 14, Struct(order + "q").pack(rnd.choice((0, 5, -3, 1_700_000_000))))
            out += block(
                order, 1, Struct(order + "HHI").pack(rnd.choice((1, 101, 113)), 0, rnd.choice((0, 30, 65535))) + options
            )
        for _ in range(rnd.randrange(1, 40)):
            data = rnd.randbytes(rnd.randrange(0, 60))
            how = rnd.random()
            moment = rnd.randrange(1 << 40)
            if how < 0.7:
                out += block(
                    order,
                    6,
                    Struct(order + "IIIII").pack(
                        rnd.randrange(faces),
                        moment >> 32,
                        moment & 0xFFFFFFFF,
                        len(data),
                        len(data) + rnd.randrange(99),
                    )
                    + data,
                )
            elif how < 0.8:
                out += block(
                    order,
                    2,
                    Struct(order + "HHIIII").pack(
                        rnd.randrange(faces), 0, moment >> 32, moment & 0xFFFFFFFF, len(data), len(data)
                    )
                    + data,
                )
            elif how < 0.9:
                out += block(order, 3, Struct(order + "I").pack(len(data) + rnd.choice((0, 50))) + data)
            else:
                out += block(order, 5, Struct(order + "III").pack(0, 0, 0))
    return out


def damaged(data, rnd):
    data = bytearray(data)
    for _ in range(rnd.randrange(3)):
        data[rnd.randrange(len(data))] = rnd.choice((0, 1, 4, 255))
    return bytes(data[: rnd.randrange(1, len(data) + 1)] if rnd.random() < 0.4 else data)


def records(path):
    try:
        capture = read_captures([path])
    except YaffleError:
        return None
    packets, raw = capture.packets, path.read_bytes()
    kept = [
        raw[at : at + size] for at, size in zip(packets.position.tolist(), packets.captured_bytes.tolist(), strict=True)
    ]
    return list(zip(packets.time_ns.tolist(), kept, packets.wire_bytes.tolist(), strict=True))


def check(path, wanted):
    found = records(path)
    if not wanted:
        assert not found
        return
    fits = [(t, data, wire) for t, data, wire in wanted if wire < 1 << 31 and abs(t) < 1 << 62]
    if len(fits) == len(wanted):
        assert found == wanted


@pytest.mark.parametrize("seed", range(60))
def test_blocks_are_read_as_by_the_twin(tmp_path, seed):
    rnd = random.Random(seed)
    data = made_up_blocks(rnd)
    path = tmp_path / "a.pcapng"
    path.write_bytes(data)
    assert records(path) == plain_pcapng(data)
    broken = damaged(data, rnd)
    path.write_bytes(broken)
    check(path, plain_pcapng(broken))


@pytest.mark.parametrize("seed", range(40))
def test_classic_records_are_read_as_by_the_twin(tmp_path, seed):
    rnd = random.Random(seed)
    packets = [
        (rnd.randrange(1 << 40), rnd.randbytes(rnd.randrange(60)), rnd.randrange(2000))
        for _ in range(rnd.randrange(1, 60))
    ]
    path = pcap(tmp_path / "a.pcap", packets, order=rnd.choice("<>"), nano=rnd.random() < 0.5)
    assert records(path) == plain_pcap(path.read_bytes())
    broken = damaged(path.read_bytes(), rnd)
    path.write_bytes(broken)
    check(path, plain_pcap(broken))
