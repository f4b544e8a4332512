"""A look-up's time is its name server's and the path's, each its own part."""

import numpy as np
import pytest

from tests.frames import C, S, Talk, ether, pcap, udp
from yaffle.analysis import analyse
from yaffle.demo.network import MS
from yaffle.exchanges.lookup import Lookup
from yaffle.exchanges.lookups import Lookups
from yaffle.ledger import causes
from yaffle.ledger.names import NameParts, least_answers

_QUESTION = b"\1\0\0\1\0\0\0\0\0\0\3web\7example\0\0\1\0\1"
_ANSWER = b"\x81\x80\0\1\0\1\0\0\0\0\3web\7example\0\0\1\0\1\xc0\x0c\0\1\0\1\0\0\0\x3c\0\4"
NAMES = "203.0.113.53"


def lookup(asked_ms, answered_ms, tries=1, latest_ms=None):
    return Lookup(
        "dns",
        C,
        NAMES,
        "web.example",
        "A",
        "NOERROR",
        asked_ms * MS,
        answered_ms * MS,
        tries,
        latest_ns=(latest_ms or asked_ms) * MS,
    )


def test_what_lasts_longer_than_the_soonest_answer_is_the_name_servers():
    least = least_answers(Lookups([lookup(0, 20), lookup(100, 112), lookup(200, 230)]))
    parts = NameParts.of(lookup(1000, 1300), least)
    assert dict(parts.charges) == {causes.NAME: 12 * MS, causes.SERVER_NAME: 288 * MS}
    assert [ns for _, ns in parts.bounds] == [0, 12 * MS, 288 * MS, 300 * MS]


def test_questions_asked_again_are_the_networks():
    least = least_answers(Lookups([lookup(0, 20), lookup(100, 110), lookup(200, 230)]))
    parts = NameParts.of(lookup(1000, 6050, tries=2, latest_ms=6000), least)
    assert dict(parts.charges) == {causes.NAME: 5010 * MS, causes.SERVER_NAME: 40 * MS}
    assert [ns for _, ns in parts.bounds] == [5000 * MS, 5010 * MS, 40 * MS, 50 * MS]


def test_one_answer_alone_may_be_anybodys():
    parts = NameParts.of(lookup(0, 300), least_answers(Lookups([lookup(0, 300)])))
    assert dict(parts.charges) == {causes.NAME: 300 * MS, causes.SERVER_NAME: 0}
    assert [ns for _, ns in parts.bounds] == [0, 300 * MS, 0, 300 * MS]


@pytest.mark.parametrize("late_ms", [12, 400])
def test_the_first_exchange_bears_the_look_up_that_led_to_it(tmp_path, late_ms):
    packets = []
    for n, (at_ms, took_ms) in enumerate([(0, 12), (50, 12), (100, 12), (1000, late_ms)]):
        number = n.to_bytes(2, "big")
        answer = number + _ANSWER + bytes(map(int, S.split(".")))
        packets += [
            (at_ms * MS, ether(udp(C, 5300 + n, NAMES, 53, number + _QUESTION))),
            ((at_ms + took_ms) * MS, ether(udp(NAMES, 53, C, 5300 + n, answer))),
        ]
    begun = 1000.0 + late_ms + 1
    talk = Talk().open(begun)
    talk.send(0, begun + 11, 100)
    talk.send(1, begun + 41, 300)
    talk.send(0, begun + 41.02)
    analysis = analyse([pcap(tmp_path / "a.pcap", sorted(packets + talk.out, key=lambda p: p[0]))])
    charges = analysis.account.exchange_charges[0]
    assert charges[causes.NAME] == 12 * MS
    assert charges[causes.SERVER_NAME] == (late_ms - 12) * MS
    assert charges.sum() == np.sum(analysis.account.connection_charges[0])
    low, high = (analysis.account.of_exchange(f"server_{end}_ns")[0] for end in ("low", "high"))
    assert low <= charges[causes.party_columns(causes.SERVER)].sum() <= high
