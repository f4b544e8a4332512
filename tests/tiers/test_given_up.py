"""A call that is given up: who made it closes the connection and goes on; what comes later nobody waited for."""

import pytest

from tests.frames import ACK, FIN, PSH, RST, Talk, pcap
from yaffle.analysis import analyse
from yaffle.report.document import document

USER, WEB, BASE = "198.51.100.9", "203.0.113.1", "203.0.113.3"


def call(ended, at, port):
    """Asked at 10 ms; its client closes at 40 ms, what is answered at 60 ms meets nobody."""
    talk = Talk(port, 5432, WEB, BASE).open(at, 0.1)
    talk.send(0, at + 10, 100, ACK | PSH)
    talk.send(1, at + 10.1)
    if ended == "closed":
        talk.send(0, at + 40, flags=FIN | ACK)
        talk.send(1, at + 60, 100, ACK | PSH)
        talk.send(0, at + 60.1, flags=RST)
    else:
        talk.send(0, at + 40, flags=RST | ACK)
    return talk.out


@pytest.mark.parametrize("ended", ["closed", "reset"])
def test_who_gave_up_waited_until_then(tmp_path, ended):
    packets = []
    for k in range(20):
        at = 300.0 * k
        front = Talk(40_000 + k, 80, USER, WEB).open(at, 0.1)
        front.send(0, at + 5, 100, ACK | PSH)
        front.send(1, at + 45, 100, ACK | PSH)  # "Took too long", while the database is still at it.
        packets += front.out + call(ended, at, 50_000 + k)
    told = document(analyse([pcap(tmp_path / "a.pcap", sorted(packets, key=lambda one: one[0]))]))
    pages = [
        x for x in told["exchanges"] if x.get("server_split") and x["request_bytes"] == 100 and x["server_ms"] < 45
    ]
    assert len(pages) == 20
    for page in pages:
        spent = {part["at"]: part["ms"] for part in page["server_split"] if not part["at"].startswith("network")}
        assert spent == pytest.approx({f"{BASE}:5432": 30, f"{WEB}:80": 10}, abs=0.5)
