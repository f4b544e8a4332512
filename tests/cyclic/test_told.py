"""What is told of cyclic streams: findings, the document, a case that is opened again."""

import pytest

from tests.cyclic.feeds import MS, S0, Feed, real_time, sensor
from tests.frames import pcap
from yaffle.analysis import analyse
from yaffle.case.folder import open_case, save_case
from yaffle.demo.linkspan import CONTROLLER, FAR, NEAR, make_linkspan
from yaffle.findings.cyclic import CAUSE, STOPPED, cyclic_findings, host_of, trouble_of
from yaffle.findings.ranking import all_findings
from yaffle.report.document import document


@pytest.fixture(scope="module")
def ramp(tmp_path_factory):
    return analyse([make_linkspan(tmp_path_factory.mktemp("ramp") / "linkspan.pcapng")])


def test_streams_of_one_end_that_were_rough_together_are_one_finding(ramp):
    (one,) = [own for own in all_findings(ramp) if own.cause == CAUSE]
    assert one.severity == "major" and one.users == 2 and FAR.hex(":") in one.subject
    assert "was steady, but not from 06:45:2" in one.sentence or "was steady, but not from 06:45:30" in one.sentence
    assert "1 other stream of the same ends" in one.sentence and "devices usually give up after 3" in one.sentence
    begun = (one.first_ns - 1_772_779_500 * 10**9) / 1e9
    assert begun == pytest.approx(30, abs=0.6)
    assert {NEAR.hex(":"), CONTROLLER.hex(":")} >= {
        host for own in ramp.cyclic if trouble_of(own) is None for host in (own.source, own.destination)
    }


def test_what_was_never_steady_or_always_is_no_finding(tmp_path):
    rough = Feed(lost=set(range(7, 2000, 11)), jitter_ns=300_000)
    calm = Feed(period_ns=10 * MS, cycles=900, jitter_ns=10_000)
    frames = real_time(rough) + sensor(calm, src="192.0.2.31")
    analysis = analyse([pcap(tmp_path / "both.pcap", sorted(frames))])
    assert len(analysis.cyclic) == 2 and cyclic_findings(analysis) == []


def test_an_interruption_and_an_early_end_are_told(tmp_path):
    frames = real_time(Feed(left_out=set(range(500, 1200))))
    late = [(at + 30 * 10**9, frame) for at, frame in sensor(Feed(cycles=1))]
    (one,) = cyclic_findings(analyse([pcap(tmp_path / "ends.pcap", frames + late)]))
    assert one.cause == STOPPED and "interrupted 1 time, 2.80 s in all and ended at" in one.sentence
    assert one.first_ns >= S0


def test_a_case_and_the_document_tell_the_same(ramp, tmp_path):
    told = document(ramp)["cyclic"]
    assert len(told) == 4 and [one["period_us"] for one in told] == pytest.approx([8000.0] * 4, rel=1e-3)
    assert {one["stopped"] for one in told} == {False}
    save_case(tmp_path / "ramp.yaffle", ramp, {})
    again = open_case(tmp_path / "ramp.yaffle")[0]
    assert again.cyclic == ramp.cyclic and document(again)["cyclic"] == told


@pytest.mark.parametrize(
    ("end", "host"),
    [
        ("192.0.2.1:5501", "192.0.2.1"),
        ("[2001:db8::1]:5501", "2001:db8::1"),
        ("02:4c:00:00:00:01", "02:4c:00:00:00:01"),
    ],
)
def test_ends_without_ports(end, host):
    assert host_of(end) == host
