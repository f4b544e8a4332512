"""Services that answer slower for a while, and hosts that get no names: told once, by whom it concerns."""

import random

import numpy as np
import pytest

from tests.frames import C, S, ether, pcap, udp
from yaffle.analysis import analyse
from yaffle.exchanges.lookup import Lookup
from yaffle.findings.services import STRETCH, left_range, service_findings
from yaffle.session.services import answering, services

MS = 1_000_000


def asked(latencies_ms, every_ms=100):
    return [
        Lookup(
            "dns",
            C,
            S,
            "a",
            "A",
            "NOERROR",
            k * every_ms * MS,
            k * every_ms * MS + round(ms * MS),
            latest_ns=k * every_ms * MS,
        )
        for k, ms in enumerate(latencies_ms)
    ]


def test_a_stretch_of_slow_answers_leaves_the_usual_range():
    rnd = random.Random(1)
    usual = [rnd.uniform(9, 11) for _ in range(5 * STRETCH)]
    slow = [rnd.uniform(55, 65) for _ in range(STRETCH)]
    left = left_range(asked(usual[: 2 * STRETCH] + slow + usual[2 * STRETCH :]))
    assert [k.asked_ns // (100 * MS) for k in left] == list(range(2 * STRETCH, 3 * STRETCH))


def test_what_always_varies_and_what_is_mostly_slow_is_usual():
    rnd = random.Random(2)
    assert left_range(asked([10 * 10 ** rnd.uniform(0, 1.5) for _ in range(8 * STRETCH)])) == []
    assert left_range(asked([10.0] * (2 * STRETCH) + [60.0] * (4 * STRETCH))) == []
    assert left_range(asked([10.0] * (2 * STRETCH))) == []


def query(number, name=b"a"):
    return number.to_bytes(2, "big") + b"\1\0\0\1\0\0\0\0\0\0" + bytes([len(name)]) + name + b"\7example\0\0\1\0\1"


def reply(number, code=0, name=b"a"):
    return number.to_bytes(2, "big") + bytes([0x81, 0x80 | code]) + query(number, name)[4:]


def resolving(path, mute):
    """Two hosts look names up; one of them never gets an answer."""
    out = []
    for k in range(40):
        for host, port in ((C, 4000), (mute, 5000)):
            t = k * 500 * MS + port
            if host == mute and k % 5:
                continue
            name = b"n" + bytes([97 + k % 26]) + bytes([97 + k // 26])
            out.append((t, ether(udp(host, port + k, S, 53, query(k, name)))))
            if host == C:
                out.append((t + 20 * MS, ether(udp(S, 53, host, port + k, reply(k, 0, name)))))
    return pcap(path, sorted(out))


def test_a_host_that_gets_no_names_is_told_though_its_server_answers_others(tmp_path):
    found = service_findings(analyse([resolving(tmp_path / "a.pcap", "198.51.100.99")]))
    [mute] = [f for f in found if "198.51.100.99" in f.sentence]
    if mute.cause == "no names":
        assert "cannot resolve names: 8 DNS queries" in mute.sentence and "Others got 40 answers" in mute.sentence
    else:
        assert "198.51.100.99 received no response" in mute.sentence


def test_over_time_each_interval_has_its_own_quantiles(tmp_path):
    from yaffle.session.investigation import Opened

    evidence = Opened(analyse([resolving(tmp_path / "a.pcap", "198.51.100.99")])).evidence
    [service] = services(evidence, evidence.first_ns, evidence.last_ns)
    assert (service.asked, service.unanswered, service.users, service.users_affected) == (48, 8, 2, 1)
    edges = np.linspace(evidence.first_ns, evidence.last_ns + 1, 11).astype(np.int64)
    found = answering(service, edges)
    assert found.asked.sum() == 48 and found.bad.sum() == 8
    assert np.nanmedian(found.median_ns) == pytest.approx(20 * MS)
    assert service.worst_ns == pytest.approx(20 * MS)
