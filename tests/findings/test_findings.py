from pathlib import Path

import pytest

from tests.frames import ACK, PSH, SYN, Talk, pcap
from tests.ledger.test_simulated import simulate
from yaffle.analysis import analyse
from yaffle.demo.morning import Request
from yaffle.demo.network import MS
from yaffle.findings.cleared import cleared
from yaffle.findings.slow_exchanges import find
from yaffle.findings.verdict import path_changed, verdict_of
from yaffle.inventory.places import Places, spoken
from yaffle.report.document import document


def found(path: Path):
    analysis = analyse([path])
    return analysis, find(analysis, analysis.speaker)


def talks(count, think_ms, sport=40000):
    out = []
    for k in range(count):
        talk = Talk(sport=sport + k, client=f"198.51.100.{10 + k}").open(at_ms=1000.0 * k)
        for turn in range(4):
            at = 1000.0 * k + 100 + turn * (think_ms + 100)
            talk.send(0, at, 200, ACK | PSH)
            talk.send(1, at + 10)
            talk.send(1, at + 10 + think_ms, 900, ACK | PSH)
            talk.send(0, at + 10.1 + think_ms)
        talk.close(1000.0 * k + 90_000)
        out += talk.out
    return sorted(out)


def test_many_connections_with_one_cause_are_one_finding_sized_in_waits_and_users(tmp_path):
    _, findings = found(pcap(tmp_path / "a.pcap", talks(6, 800)))
    assert len(findings) == 1
    finding = findings[0]
    assert (finding.party, finding.cause, finding.users) == ("server", "processing", 6)
    assert finding.grounds["exchanges"] == 24
    assert finding.lost_ns == pytest.approx(24 * 800 * MS, rel=0.03)
    assert "ruled out" in finding.grounds["ruled_out"]
    assert finding.next_step


def test_healthy_traffic_gets_no_finding(tmp_path):
    analysis, findings = found(pcap(tmp_path / "a.pcap", talks(6, 20)))
    assert findings == []
    assert verdict_of(analysis.account, 0).party == "none"
    assert cleared(analysis, analysis.speaker, findings)[0].users == 6


def test_two_causes_are_two_findings_worst_first(tmp_path):
    slow = talks(3, 900)
    lossy = simulate(
        tmp_path / "lossy.pcapng",
        [Request(300, 5 * MS, 60_000, 50 * MS) for _ in range(6)],
        loss=0.06,
        delay_ms=25,
        seed=5,
    )[0]
    analysis = analyse([pcap(tmp_path / "a.pcap", slow), lossy])
    findings = find(analysis, analysis.speaker)
    assert {f.party for f in findings} == {"server", "network"}
    assert [f.lost_ns for f in findings] == sorted((f.lost_ns for f in findings), reverse=True)


def test_refused_and_unanswered_openings_are_findings_of_their_own(tmp_path):
    silent = Talk(sport=41000, dport=443)
    for k in range(3):
        silent.send(0, 1000 * 2**k, flags=SYN, options=silent.options, ack=0, seq=1000)
    refusing = Talk(sport=42000, dport=8443)
    refusing.send(0, 1000, flags=SYN, options=refusing.options, ack=0)
    refusing.send(1, 1010, flags=0x14)
    _, findings = found(pcap(tmp_path / "a.pcap", sorted(silent.out + refusing.out)))
    by_cause = {f.cause: f for f in findings}
    assert by_cause["refused"].party == "server"
    assert by_cause["unanswered"].party == "unexplained"
    assert "capture near" in by_cause["unanswered"].next_step


def test_a_path_that_changed_is_told(tmp_path):
    talk = Talk().open()
    for k in range(40):
        at, trip = 100 + 200 * k, 10 if k < 25 else 70
        talk.send(0, at, 200, ACK | PSH)
        talk.send(1, at + trip, 300, ACK | PSH)
        talk.send(0, at + trip + 0.1)
    path = pcap(tmp_path / "a.pcap", sorted(talk.out))
    analysis = analyse([path])
    assert path_changed(analysis.account, 0) == ["server"]
    told = document(analysis)["connections"][0]["round_trip_ms"]["path_changed"]
    assert told == [{"to": "server", "from_ms": pytest.approx(10, abs=0.2), "to_ms": pytest.approx(70, abs=0.2)}]


def test_places_are_called_by_their_names_where_there_are_any():
    places = Places({"192.0.2.1": "desk-2.isle-of-wren.harbourline.example"})
    assert (places.site("192.0.2.1"), places.short("192.0.2.1"), places.host("192.0.2.9")) == (
        "Isle of Wren",
        "desk-2",
        "192.0.2.9",
    )
    assert places.site("198.51.100.77") == "198.51.100.0/24"
    assert places.site("2001:db8:1:2::3") == "2001:db8:1:2::/64"
    assert places.application("198.51.100.77", 5432) == "database"
    assert places.application("198.51.100.77", 40_000) == "port 40000"
    assert spoken("quay-house") == "Quay House"
