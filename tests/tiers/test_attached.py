"""Addresses that are one host by its hardware: what the wire shows of it, and what is no proof."""

from pathlib import Path

import numpy as np
import pytest

from tests.frames import ACK, PSH, Talk, ether, pcap
from yaffle.analysis import analyse
from yaffle.capture.payload import Payload
from yaffle.tiers.attached import one_by_hardware
from yaffle.tiers.hops import hops

USER, WEB, SITE, BASE = "198.51.100.9", "203.0.113.1", "203.0.113.2", "203.0.113.3"
CARDS = {USER: 9, WEB: 1, SITE: 1, BASE: 3}


def framed(packets, cards, ttls):
    """Ethernet frames from the card of who sent each; ttls: of packets from an address, 64 without."""
    out = []
    for at, frame in packets:
        body = bytearray(frame[14:])
        source = ".".join(map(str, body[12:16]))
        body[8] = ttls.get(source, 64)
        out.append((at, frame[:6] + b"\x02\0\0\0\0" + bytes([cards.get(source, 1)]) + frame[12:14] + bytes(body)))
    return out


def conversations(folder: Path, cards=CARDS, ttls=None, link=1, later=0, more=0):
    """A user asks WEB often and SITE once; WEB asks BASE for each. Nothing in time tells that SITE is WEB."""
    out = []
    for k in range(later, later + 12):
        server = SITE if k % 100 == 7 else WEB
        front = Talk(40_000 + k, 80, USER, server).open(300 * k)
        front.send(0, 300 * k + 20, 100, ACK | PSH)
        front.send(1, 300 * k + 20 + 100, 300, ACK | PSH)
        front.send(0, 300 * k + 130)
        behind = Talk(50_000 + k, 5432, WEB, BASE).open(300 * k + 40, 1)
        behind.send(0, 300 * k + 45, 50, ACK | PSH)
        behind.send(1, 300 * k + 75, 50, ACK | PSH)
        out += front.out + behind.out
    for k in range(more):
        once = Talk(60_000, 8080, USER, f"203.0.113.{100 + k}").open(k)
        once.send(0, k + 20, 100, ACK | PSH)
        once.send(1, k + 60, 100, ACK | PSH)
        out += once.out
    packets = framed(sorted(out, key=lambda sent: sent[0]), cards, ttls or {})
    if link != 1:
        packets = [(at, frame[14:]) for at, frame in packets]
    return analyse([pcap(folder / "a.pcap", packets, link=link)])


def merged(analysis):
    """The addresses whose exchanges are another one's, with it."""
    account, flows = analysis.account, analysis.capture.conversations
    owner = account.of_exchange("connection")
    texts = [USER, WEB, SITE, BASE, *(f"203.0.113.{100 + k}" for k in range(20))]
    low = np.array([int.from_bytes(bytes(map(int, text.split("."))), "big") for text in texts], np.uint64)
    code = {int(one): k for k, one in enumerate(low.tolist())}
    client, server = (
        np.array([code[int(one) & 0xFFFFFFFF] for one in ends[account.flow[owner]].tolist()])
        for ends in (flows.a_lo, flows.b_lo)
    )
    silent = np.setdiff1d(server, client)
    found = one_by_hardware(account, Payload(analysis.capture), owner, client, server, silent)
    return {texts[one]: texts[other] for one, other in found.items()}


def test_two_addresses_of_one_card_are_one_host(tmp_path):
    analysis = conversations(tmp_path)
    assert merged(analysis) == {SITE: WEB}
    found = hops(analysis.account, analysis.capture.conversations, analysis.speaker, analysis.messages,
                 Payload(analysis.capture))  # fmt: skip
    fronts = found.service & 0xFFFF == 80
    assert np.unique(found.server[fronts]).size == 1
    named = analysis.behind.front[analysis.behind.named]
    assert np.unique(named).size == 12  # That of the second address has its call, too.


@pytest.mark.parametrize(
    "given",
    [
        {"ttls": {WEB: 63, SITE: 63}},  # through a router, whose card it is
        {"cards": {**CARDS, SITE: 7}},
        {"cards": dict.fromkeys(CARDS, 1)},  # made anonymous: it tells nothing
        {"link": 101},  # no hardware in it
        {"more": 12},  # who answers for so many answers in their name
    ],
)
def test_what_proves_nothing(tmp_path, given):
    assert merged(conversations(tmp_path, **given)) == {}


def test_a_card_that_changes_is_nobodys(tmp_path):
    folder = tmp_path / "b"
    folder.mkdir()
    one, other = conversations(tmp_path), conversations(folder, {**CARDS, WEB: 5}, later=100)
    assert merged(one) == {SITE: WEB}
    both = analyse([Path(one.capture.sources[0].path), Path(other.capture.sources[0].path)])
    assert merged(both) == {}


def test_the_sender_of_each_packet(tmp_path):
    packets = sorted(Talk().open().out)
    capture = analyse([pcap(tmp_path / "a.pcap", [*packets, (9_000_000_000, ether(b"\x45")[:13])])]).capture
    found = Payload(capture).hardware_senders(np.arange(4))
    assert found.tolist() == [0x020000000001] * 3 + [0]  # The last one was cut within its header.
