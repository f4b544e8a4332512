"""Slow sign-ons and addresses on the air, with what servers on the wire had of them."""

from struct import pack

import pytest

from tests.frames import ether, pcap, udp
from tests.radio.air import STA
from yaffle.analysis import analyse
from yaffle.demo.pier_air import make_pier_air, make_pier_uplink, scanner
from yaffle.findings.air import air_findings
from yaffle.findings.behind_moves import LEASE, SIGN_ON, Questions
from yaffle.findings.cyclic import cyclic_findings
from yaffle.protocols import radius
from yaffle.radio.moves import Roam
from yaffle.report.document import document

S0, MS = 1_795_000_000 * 10**9, 10**6
STATION = STA.hex(":")


def access(number, calling=b"", code=1, proof=b"\1"):
    told = bytes([31, 2 + len(calling)]) + calling if calling else b""
    return pack("!BBH", code, number, 20 + len(told)) + proof * 16 + told


@pytest.mark.parametrize("written", ["02-BB-00-00-00-01", "02bb.0000.0001", "02:bb:00:00:00:01", "02BB00000001"])
def test_a_station_is_known_however_its_address_is_written(written):
    assert radius.parse(access(3, written.encode())).station == STATION


@pytest.mark.parametrize("written", ["0470-555-0100", "02-bb-00", "zz-bb-00-00-00-01", "02-bb-00-00-00-01:pier", ""])
def test_what_is_no_hardware_address_is_none(written):
    assert radius.parse(access(3, written.encode())).station == ""


def questions(tmp_path, packets):
    frames = [(S0 + int(at * MS), ether(udp("198.51.100.9" if up else "192.0.2.18", 4000 if up else port,
                                            "192.0.2.18" if up else "198.51.100.9", port if up else 4000, body)))
              for at, up, port, body in packets]  # fmt: skip
    return Questions(analyse([pcap(tmp_path / "wire.pcap", frames)]).lookups.rows)


def lease(kind, asks=True):
    head = pack("!BBBBI", 1 if asks else 2, 1, 6, 0, 77)
    body = head + bytes(8) + bytes([198, 51, 100, 140]) + bytes(8)
    return body.ljust(28, b"\0") + STA + bytes(202) + b"\x63\x82\x53\x63" + bytes([53, 1, kind, 255])


def test_what_was_asked_for_a_move(tmp_path):
    calling = b"02-BB-00-00-00-01"
    asked = questions(
        tmp_path,
        [
            (1000, True, 1812, access(1, calling)), (1010, False, 1812, access(1, code=11)),
            (1020, True, 1812, access(2, calling, proof=b"\2")), (1620, True, 1812, access(2, calling, proof=b"\2")),
            (2220, False, 1812, access(2, code=2)),
            (3000, True, 1812, access(3, b"02-BB-00-00-00-02", proof=b"\3")),
            (9000, True, 1812, access(4, calling, proof=b"\4")),
            (9500, False, 1812, access(4, code=2)),
            (2300, True, 67, lease(3)), (5100, False, 67, lease(5, asks=False)),
        ],
    )  # fmt: skip
    roam = Roam(S0 + 1000 * MS, 1, 2, 0, "reassociation", keys_ns=1300 * MS)
    found = asked.during(STATION, roam)
    assert (found[SIGN_ON].waited_ns, found[SIGN_ON].questions, found[SIGN_ON].again) == (1210 * MS, 2, 1)
    words = found[SIGN_ON].words(roam.keys_ns)
    assert words == "RADIUS at 192.0.2.18:1812 1.21 s of it (2 requests, 1 sent again)"
    assert found[LEASE].waited_ns == 2800 * MS and asked.during("02:bb:00:00:00:03", roam) == {}


def test_the_demos_scanner_signs_on_slowly_because_of_the_server(tmp_path):
    air, uplink = make_pier_air(tmp_path / "air.pcapng"), make_pier_uplink(tmp_path / "uplink.pcapng")
    alone = [one for one in air_findings(analyse([air])) if one.cause == "slow sign-on"]
    assert alone and all("Capture RADIUS behind" in one.next_step for one in alone)
    analysis = analyse([air, uplink])
    assert analysis.cyclic and not cyclic_findings(analysis)  # A scanner that moves is no drive that fails.
    told = [one for one in air_findings(analysis) if one.cause == "slow sign-on"]
    (own,) = told
    assert "4 moves of 1 station to 3 access points: RADIUS at 192.0.2.18:1812" in own.sentence
    assert "most of it was its time" in own.next_step
    (one,) = [own for own in document(analysis)["radio"]["stations"] if own["address"] == scanner(2).hex(":")]
    for roam in one["roams"]:
        (server,) = roam["servers"]
        assert 0.9 * roam["keys_ms"] < server["ms"] <= roam["keys_ms"] and server["requests"] == 2
