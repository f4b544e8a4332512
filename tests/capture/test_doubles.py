"""Captures rewritten as hosts and mirrors take them give the same account as a perfect tap."""

import gzip
from pathlib import Path

import numpy as np
import pytest

from tests.capture.rewriting import (
    LINUX_SLL2,
    doubled,
    merged,
    missed,
    on_any_device,
    one_hop_on,
    only,
    packets_of,
    tagged_too,
    write,
)
from yaffle.analysis import analyse
from yaffle.capture.reader import read_captures
from yaffle.demo.network import MS, S
from yaffle.errors import Cancelled
from yaffle.ledger import causes

DATA = Path(__file__).parents[1] / "data" / "path"
CLIENTS = bytes([198, 51, 100])


@pytest.fixture(params=["tail-loss-near_client", "tail-loss-near_server", "duplicates-near_client"])
def packets(request, tmp_path):
    path = tmp_path / "real.pcap"
    path.write_bytes(gzip.decompress((DATA / f"{request.param}.pcap.gz").read_bytes()))
    return packets_of(path)


def facts(path):
    """What must not depend on how it was captured."""
    analysis = analyse([path])
    account = analysis.account
    order = np.lexsort((account.fact("first_ns"),))
    found = {
        name: account.side(side, name)[order].tolist()
        for side in (0, 1)
        for name in ("packets", "retransmitted_packets", "duplicate_packets", "timeouts")
    }
    return (
        analysis,
        found | {"exchanges": account.fact("exchanges")[order].tolist()},
        account.connection_charges[order] / 1e6,
    )


@pytest.mark.parametrize("rewritten", [doubled, tagged_too, on_any_device])
def test_what_a_capture_takes_several_times_counts_once(packets, tmp_path, rewritten):
    _, once, charges = facts(write(tmp_path / "once.pcap", packets))
    link = LINUX_SLL2 if rewritten is on_any_device else 1
    analysis, found, found_charges = facts(write(tmp_path / "again.pcap", rewritten(packets), link))
    assert found == once
    assert np.abs(found_charges - charges).max() < 0.2
    copies = 2 if rewritten is on_any_device else 1
    assert analysis.capture.dropped_copies == copies * len(packets)
    assert any("captured more than once" in note for note in analysis.capture.sources[0].notes)


def test_looking_for_doubles_can_be_stopped(packets, tmp_path):
    path = write(tmp_path / "a.pcap", doubled(packets))
    with pytest.raises(Cancelled):
        read_captures([path], lambda share, words: "captured twice" not in words)


def test_copies_that_the_network_made_stay_what_they_are(packets, tmp_path):
    analysis = analyse([write(tmp_path / "a.pcap", packets)])
    assert analysis.capture.dropped_copies == 0
    assert not any("captured more than once" in note for note in analysis.capture.sources[0].notes)


def test_both_sides_of_a_router_are_two_points(packets, tmp_path):
    whole = analyse([write(tmp_path / "one.pcap", packets)])
    analysis = analyse([write(tmp_path / "two.pcap", one_hop_on(packets, CLIENTS))])
    assert len(analysis.capture.points) == 2
    assert analysis.account.flow.size == 2 * whole.account.flow.size
    assert (
        analysis.account.side(1, "retransmitted_packets").sum()
        == 2 * whole.account.side(1, "retransmitted_packets").sum()
    )
    segment = analysis.path.segments[0]
    assert abs(int(np.median(segment.up.delay_ns)) - 40_000) < 2_000
    assert (segment.up.arrived >= 0).all()
    assert (segment.down.arrived >= 0).all()


@pytest.mark.parametrize("share", [0.01, 0.05])
def test_what_a_capture_missed_is_no_loss_of_the_network(packets, tmp_path, share):
    whole = analyse([write(tmp_path / "whole.pcap", packets)]).account
    analysis = analyse([write(tmp_path / "some.pcap", missed(packets, share))])
    account, source = analysis.account, analysis.capture.sources[0]
    note = next(n for n in source.notes if "are missing from this capture" in n)
    assert not source.complete
    assert 0 < int(note.split()[2].replace(",", "")) <= share * 2 * len(packets)
    for side in (0, 1):  # What was sent again and missed cannot be known; nothing is invented.
        found, real = account.side(side, "retransmitted_packets").sum(), whole.side(side, "retransmitted_packets").sum()
        assert found <= real + 2
    lost = account.connection_charges[:, causes.LOSS].sum(), whole.connection_charges[:, causes.LOSS].sum()
    assert lost[0] <= 1.1 * lost[1] + 50e6
    assert (
        account.exchange_charges.sum(axis=1)
        == account.of_exchange("end_ns") - account.of_exchange("first_ns") + account.of_exchange("set_up_ns")
    ).all()


@pytest.mark.parametrize("first", [26, 30])
def test_one_direction_alone_invents_no_wait(packets, tmp_path, first):
    analysis = analyse([write(tmp_path / "a.pcap", only(packets, lambda kept: kept[first : first + 3] == CLIENTS))])
    assert analysis.account.exchange.shape[0] == 0
    assert analysis.account.connection_charges.sum() == 0
    assert any("in one direction only" in note for note in analysis.capture.sources[0].notes)


def test_a_capture_begun_in_the_middle_misses_nothing_and_loses_nothing(packets, tmp_path):
    whole = analyse([write(tmp_path / "whole.pcap", packets)]).account
    analysis = analyse([write(tmp_path / "later.pcap", packets[len(packets) // 3 :])])
    assert not any("are missing" in note for note in analysis.capture.sources[0].notes)
    assert analysis.account.side(1, "retransmitted_packets").sum() <= whole.side(1, "retransmitted_packets").sum()


@pytest.mark.parametrize("step_ns", [5 * S, -5 * S, 400 * MS, -400 * MS, 3600 * S])
def test_a_clock_that_was_set_in_the_middle_invents_no_wait(packets, tmp_path, step_ns):
    whole = analyse([write(tmp_path / "whole.pcap", packets)])
    half = len(packets) // 2
    moved = [(t + (step_ns if k >= half else 0), wire, kept) for k, (t, wire, kept) in enumerate(packets)]
    analysis = analyse([write(tmp_path / "set.pcap", moved, in_order=False)])
    notes = analysis.capture.sources[0].notes
    assert any(
        f"the capture clock was set {'forward' if step_ns > 0 else 'back'} by about" in note for note in notes
    ), notes
    away = np.abs(analysis.account.connection_charges - whole.account.connection_charges)
    assert away.max() < 30 * MS
    for side in (0, 1):
        assert np.array_equal(analysis.account.side(side, "timeouts"), whole.account.side(side, "timeouts"))
    assert not any("clock was set" in note for note in whole.capture.sources[0].notes)


def test_an_outage_and_a_longer_way_are_no_step_of_a_clock(packets, tmp_path):
    half = len(packets) // 2
    begun = packets[half][0]
    held = [
        (max(t, begun + 600 * MS) if begun <= t else t, wire, kept) for t, wire, kept in packets
    ]  # All at once, later.
    longer = [(t + (300 * MS if t >= begun and kept[26:29] != CLIENTS else 0), wire, kept) for t, wire, kept in packets]
    for name, changed in (("held", held), ("longer", longer)):
        analysis = analyse([write(tmp_path / f"{name}.pcap", changed)])
        assert not any("clock was set" in note for note in analysis.capture.sources[0].notes), name


def test_merged_segments_count_as_what_passed_the_wire(packets, tmp_path):
    whole = analyse([write(tmp_path / "whole.pcap", packets)]).account
    joined = merged(packets)
    assert len(joined) < len(packets)
    account = analyse([write(tmp_path / "merged.pcap", joined)]).account
    order, other = (np.lexsort((a.fact("first_ns"),)) for a in (account, whole))
    for side in (0, 1):
        for name in ("retransmitted_bytes", "unique_bytes", "segments"):
            assert account.side(side, name)[order].tolist() == whole.side(side, name)[other].tolist(), (side, name)
    assert (account.side(1, "segments") > account.side(1, "packets")).any()
    assert account.fact("exchanges").sum() == whole.fact("exchanges").sum()
    assert np.abs(account.connection_charges.sum(axis=0) - whole.connection_charges.sum(axis=0)).max() < 60e6
