"""Programs of one host that ask each other by its loopback address: the host is told, and not where nothing tells."""

import numpy as np
import pytest

from tests.frames import ACK, PSH, Talk, pcap
from yaffle.analysis import analyse
from yaffle.report.document import document
from yaffle.tiers.loopback import own_address

USER, WEB, BASE, INSIDE = "198.51.100.9", "203.0.113.1", "203.0.113.3", "127.0.0.1"
TEXTS = [USER, WEB, BASE, INSIDE, "::1"]
_USER, _WEB, _BASE, _INSIDE, _INSIDE_6 = range(5)


def exchanges(*rows):
    """(client, server, point) of exchanges, each ten times."""
    return [np.repeat(column, 10) for column in np.array(rows).T]


SEEN = [(_USER, _WEB, 0), (_INSIDE, _INSIDE, 0), (_WEB, _BASE, 0)]


@pytest.mark.parametrize(
    ("rows", "found"),
    [
        (SEEN, _WEB),
        ([*SEEN, (_INSIDE_6, _INSIDE_6, 0)], _WEB),
        ([*SEEN, (_USER, _BASE, 1)], _WEB),  # what another point saw says nothing of this one
        ([*SEEN, (_INSIDE, _INSIDE, 1)], None),  # two hosts, each with its own
        (SEEN[:2], None),  # either of two could be the host
        ([*SEEN, (_USER, _BASE, 0)], None),  # it sees what is not its own
        (SEEN[1:2], None),
        (SEEN[::2], None),
    ],
)
def test_the_host_is_what_takes_part_in_all_else(rows, found):
    told = own_address(TEXTS, *exchanges(*rows))
    assert told == ({_INSIDE: found, _INSIDE_6: found} if found is not None and len(rows) > 2 else {})


def request(k):
    """A web server hands a page on to a program beside it, which asks a database elsewhere."""
    at, out = 200.0 * k, []
    for port, client, server, begin, end in (
        (80, USER, WEB, 1, 61), (8080, INSIDE, INSIDE, 6, 56), (5432, WEB, BASE, 16, 46)
    ):  # fmt: skip
        talk = Talk(40_000 + k, port, client, server).open(at, 0.1)
        talk.send(0, at + begin, 100, ACK | PSH)
        talk.send(1, at + end, 100, ACK | PSH)
        out += talk.out
    return out


def test_a_program_beside_the_web_server_is_followed_to_the_database(tmp_path):
    packets = sorted((one for k in range(20) for one in request(k)), key=lambda one: one[0])
    told = document(analyse([pcap(tmp_path / "a.pcap", packets)]))
    pages = [x for x in told["exchanges"] if x["server_ms"] > 55]
    assert len(pages) == 20
    for page in pages:
        spent = {part["at"]: part["ms"] for part in page["server_split"] if not part["at"].startswith("network")}
        assert spent == pytest.approx({f"{BASE}:5432": 30, f"{INSIDE}:8080": 20, f"{WEB}:80": 10}, abs=0.5)
