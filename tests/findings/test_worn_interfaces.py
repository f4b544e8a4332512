"""Errors and discards of interfaces as findings: when, how many, and whether the link was full."""

import numpy as np
import pytest

from yaffle.analysis import analyse
from yaffle.findings.full_links import interface_findings

START = 1_790_000_000 // 3600 * 3600
MINUTES = 240


def table(tmp_path, *, errors=0, discards=0, octets=1000, known=True):
    """Counters of one interface of 10 Mbit/s, read every minute; so many an hour in the third hour."""
    lines = ["device,interface,name,time,speed_bps,in_octets,out_octets,in_errors,out_discards"]
    wrong = np.zeros(MINUTES)
    wrong[120:180] = 1 / 60
    for k in range(MINUTES):
        upto = float(wrong[: k + 1].sum())
        told = f"{round(errors * upto)},{round(discards * upto)}" if known else ","
        lines.append(
            f"192.0.2.9,4,uplink,{(START + 60 * k) * 10**9},10000000,{octets * 60 * k},{octets * 60 * k},{told}"
        )
    path = tmp_path / "counters.csv"
    path.write_text("\n".join(lines) + "\n")
    return analyse([path])


@pytest.mark.parametrize(
    ("told", "cause", "words", "step"),
    [
        ({"errors": 600}, "interface errors", "600 packets with errors", "transceiver"),
        ({"discards": 6000}, "discards", "6,000 discarded packets", "bursts overran the queue"),
    ],
)
def test_what_an_interface_counts_is_a_finding_with_its_hour(tmp_path, told, cause, words, step):
    (one,) = interface_findings(table(tmp_path, **told))
    assert one.cause == cause and words in one.sentence and step in one.next_step
    ((first, last),) = one.grounds["stretches"]
    assert (first, last) == ((START + 7200) * 10**9, (START + 10800) * 10**9)
    assert one.grounds["utilization"] == pytest.approx(0.0008, rel=0.05)


def test_discards_of_a_full_link_are_its_own(tmp_path):
    found = {one.cause: one for one in interface_findings(table(tmp_path, discards=6000, octets=1_200_000))}
    assert set(found) == {"full-line", "discards"}
    assert "the link is the bottleneck" in found["discards"].next_step.lower()
    assert "no errors: the link is clean" in found["full-line"].sentence


def test_few_and_unknown_are_none(tmp_path):
    assert not interface_findings(table(tmp_path, errors=5, discards=50))
    unknown = interface_findings(table(tmp_path, octets=1_200_000, known=False))
    assert [one.cause for one in unknown] == ["full-line"] and "clean" not in unknown[0].sentence
