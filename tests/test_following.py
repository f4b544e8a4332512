"""Captures that grow: each look gives the same as one run over all that is there."""

import gzip
import json
import random
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from tests.frames import C, S, ether, udp
from tests.tiers.truth import DATA
from yaffle import analysis as analysis_module
from yaffle.analysis import analyse
from yaffle.capture import one_file
from yaffle.capture.packets import MARK_FROM_B, PacketTable
from yaffle.capture.reader import GrowingCaptures
from yaffle.errors import Cancelled, YaffleError
from yaffle.exchanges import decoding
from yaffle.exchanges.reading import Reading
from yaffle.findings import slow_exchanges
from yaffle.findings.cleared import cleared
from yaffle.findings.slow_exchanges import find
from yaffle.following import Followed
from yaffle.ledger import arrangement
from yaffle.progress import go_on
from yaffle.report.document import document

CAPTURES = sorted((Path(__file__).parent / "data").rglob("*.pcap*.gz"))


def told(analysis):
    return json.loads(json.dumps(document(analysis), default=str))


def grow(source, target, shares):
    """Writes more and more of a capture, cut anywhere."""
    octets = source.read_bytes()
    octets = gzip.decompress(octets) if source.suffix == ".gz" else octets
    for share in shares:
        target.write_bytes(octets[: max(40, int(len(octets) * share))])
        yield share


@pytest.mark.parametrize("source", CAPTURES, ids=lambda path: path.stem)
def test_each_look_is_one_run_over_what_is_there(source, tmp_path, monkeypatch):
    monkeypatch.setattr(decoding, "_LONG", 2)  # Short connections are read on, too.
    target = tmp_path / "growing.pcap"
    followed = Followed([target])
    for _ in grow(source, target, (0.1, 0.37, 0.371, 0.8, 1.0)):
        assert told(followed.look()) == told(analyse([target]))
    followed.close()


def records(source):
    """The head of a captured file, and its records."""
    octets = gzip.decompress(source.read_bytes())
    found, at = [], 24
    while at < len(octets):
        size = 16 + int.from_bytes(octets[at + 8 : at + 12], "little")
        found.append(octets[at : at + size])
        at += size
    return octets[:24], found


@pytest.mark.parametrize("name", ["database", "page-load"])
def test_packets_that_are_captured_after_later_ones(name, tmp_path, monkeypatch):
    """As of a card with several queues: what comes last may have passed before what was read for good."""
    monkeypatch.setattr(decoding, "_LONG", 2)
    head, found = records(DATA.parent / "services" / f"{name}.pcap.gz")
    rnd = random.Random(3)
    late = [place + (rnd.randrange(1, 25) if rnd.random() < 0.15 else 0) for place in range(len(found))]
    found = [found[place] for place in sorted(range(len(found)), key=late.__getitem__)]
    target = tmp_path / "growing.pcap"
    followed = Followed([target])
    for share in (0.2, 0.35, 0.5, 0.6, 0.75, 0.9, 1.0):
        target.write_bytes(head + b"".join(found[: int(len(found) * share)]))
        assert told(followed.look()) == told(analyse([target]))


def test_a_connection_that_rested_is_read_on(tmp_path, monkeypatch):
    """A look without packets of it lies between."""
    monkeypatch.setattr(decoding, "_LONG", 2)
    begun = []

    class Counted(Reading):
        def __init__(self, protocol):
            super().__init__(protocol)
            begun.append(protocol)

    monkeypatch.setattr(decoding, "Reading", Counted)
    head, found = records(DATA.parent / "services" / "database.pcap.gz")
    half = len(found) // 2
    other = ether(udp(C, 5000, S, 5001, b"something else"))
    other = found[half - 1][:8] + len(other).to_bytes(4, "little") * 2 + other
    target = tmp_path / "growing.pcap"
    followed = Followed([target])
    counts = []
    for parts in (found[: half - 40], found[:half], [*found[:half], other], [*found[:half], other, *found[half:]]):
        target.write_bytes(head + b"".join(parts))
        followed.look()
        counts.append(len(begun))
    assert counts[0] > 0  # Nothing was kept by the first look.
    assert counts[1] > counts[0]
    assert counts[3] == counts[1]  # All went on.


LOSSY = DATA.parent / "services" / "web-pages.pcap.gz"


def test_only_connections_with_new_packets_are_accounted_for(tmp_path):
    target = tmp_path / "growing.pcap"
    followed = Followed([target])
    anew, all_ = [], 0
    for _ in grow(LOSSY, target, (0.6, 0.62, 1.0)):
        all_ = followed.look().account.flow.size
        anew.append(followed.connections_anew)
    assert anew[1] < all_ / 2
    followed.look()
    assert followed.connections_anew == 0


def test_a_provisional_look_is_followed_by_a_whole_one(tmp_path):
    target = tmp_path / "growing.pcap"
    followed = Followed([target])
    for _ in grow(LOSSY, target, (0.3, 0.6, 0.9, 1.0)):
        assert followed.look(provisional=True).provisional
    found = followed.look()
    assert not found.provisional
    assert told(found) == told(analyse([target]))


def test_several_files_of_which_the_last_grows(tmp_path):
    octets = gzip.decompress(LOSSY.read_bytes())
    first, second = tmp_path / "one.pcap", tmp_path / "two.pcap"
    first.write_bytes(octets)
    head, at = octets[:24], 24
    followed = Followed([first, second])
    for size in (2_000, 9_000, len(octets)):
        second.write_bytes(head + octets[at:size])
        assert told(followed.look()) == told(analyse([first, second]))


def test_what_became_shorter_or_another_file_is_read_anew(tmp_path):
    target = tmp_path / "growing.pcap"
    followed = Followed([target])
    octets = gzip.decompress(LOSSY.read_bytes())
    for size in (len(octets), len(octets) // 2, len(octets)):
        target.write_bytes(octets[:size])
        assert told(followed.look()) == told(analyse([target]))


def test_a_compressed_capture_is_read_whole_each_time(tmp_path):
    target = tmp_path / "growing.pcap.gz"
    followed = Followed([target])
    octets = gzip.decompress(LOSSY.read_bytes())
    for size in (len(octets) // 2, len(octets)):
        target.write_bytes(gzip.compress(octets[:size]))
        assert told(followed.look()) == told(analyse([target]))


def test_a_look_that_was_stopped_or_failed_leaves_the_next_one_right(tmp_path):
    target = tmp_path / "growing.pcap"
    followed = Followed([target])
    for share in grow(LOSSY, target, (0.5, 0.8, 1.0)):
        with pytest.raises(Cancelled):
            followed.look(lambda done, _words, least=0.6 * share: done < least)
        assert told(followed.look()) == told(analyse([target]))
    target.write_bytes(b"no capture at all, whatever its name says")
    with pytest.raises(YaffleError):
        followed.look()


def test_a_larger_file_under_the_same_name_is_read_anew(tmp_path):
    target = tmp_path / "growing.pcap"
    followed = Followed([target])
    others = (LOSSY, LOSSY.with_name("database.pcap.gz"), LOSSY.with_name("keys.pcap.gz"))
    for one in sorted(others, key=lambda path: len(gzip.decompress(path.read_bytes()))):
        target.write_bytes(gzip.decompress(one.read_bytes()))
        assert told(followed.look()) == told(analyse([target]))


def test_what_is_provisional_says_so_in_its_notes(tmp_path):
    target = tmp_path / "growing.pcap"
    target.write_bytes(gzip.decompress(LOSSY.read_bytes()))
    followed = Followed([target])
    assert any("still grew" in note for note in followed.look(provisional=True).capture.sources[0].notes)
    assert not any("still grew" in note for note in followed.look().capture.sources[0].notes)


def test_while_captures_grow_only_the_worst_is_told_and_nobody_cleared(analysed_morning, monkeypatch):
    whole = find(analysed_morning, analysed_morning.speaker)
    growing = replace(analysed_morning, provisional=True)
    monkeypatch.setattr(slow_exchanges, "_WHILE_IT_GROWS", 2)
    worst = find(growing, growing.speaker)
    of_openings = [f for f in whole if f.cause in ("refused", "unanswered")]
    assert [f for f in whole if f not in of_openings][:2] == [f for f in worst if f not in of_openings]
    assert cleared(analysed_morning, analysed_morning.speaker, [])
    assert cleared(growing, growing.speaker, []) == []


def test_how_connections_begin_is_read_once(tmp_path):
    target = tmp_path / "growing.pcap"
    followed = Followed([target])
    begun = []
    for _ in grow(LOSSY, target, (0.4, 0.6, 0.8, 1.0)):
        begun.append(followed.look(provisional=True).messages.begun)
    assert begun[0] == {}  # Nothing was known of any.
    again = begun[1].keys() & begun[2].keys()
    assert again
    assert all(begun[1][one] == begun[2][one] for one in again)
    followed.close()


def is_told_alike(capture):
    """Whether heads say the same of senders as directions do, either way round for all packets of a conversation."""
    packets = capture.packets
    own = packets.flow >= 0
    turned = (packets.head["marks"][own] & MARK_FROM_B != 0) ^ (packets.direction[own] != 0)
    of_flow = np.bincount(packets.flow[own], turned) / np.maximum(1, np.bincount(packets.flow[own]))
    return bool(np.isin(of_flow, (0, 1)).all())


def test_columns_that_do_not_change_are_not_copied(tmp_path):
    target, looks = tmp_path / "growing.pcap", []
    followed = Followed([target])
    for _ in grow(LOSSY, target, (0.3, 0.31, 0.32)):  # So little more that the table has room for it.
        looks.append(followed.look(provisional=True).capture)
        assert all(is_told_alike(capture) for capture in looks)
    first, _, last = looks
    for name in ("head", "time_ns", "flow"):
        assert np.shares_memory(getattr(first.packets, name), getattr(last.packets, name)), name


def test_a_connection_that_turns_round_later_turns_in_no_former_look(tmp_path, monkeypatch):
    target, looks, number = tmp_path / "growing.pcap", [], [0]

    def orient(flows):
        turned, how = orient_as_usual(flows)
        turned = turned.copy()
        turned[0] ^= number[0] >= 2  # What came meanwhile says that its client is the other end.
        return turned, how

    orient_as_usual = arrangement.orient
    monkeypatch.setattr(arrangement, "orient", orient)
    followed = Followed([target])
    for _ in grow(LOSSY, target, (0.2, 0.4, 0.6, 0.8, 1.0)):
        looks.append(followed.look())
        assert all(is_told_alike(one.capture) for one in looks)
        assert told(looks[-1]) == told(analyse([target]))
        number[0] += 1
    own = [one.capture.packets for one in looks]
    assert own[1].direction[own[1].flow == 0][0] != own[2].direction[own[2].flow == 0][0]


def test_a_clock_that_was_set_changes_no_times_of_a_former_look(tmp_path, monkeypatch):
    target, looks = tmp_path / "growing.pcap", []
    monkeypatch.setattr(analysis_module, "without_clock_steps", set_back)
    followed = Followed([target])
    for _ in grow(LOSSY, target, (0.5, 1.0)):
        looks.append(followed.look(provisional=True).capture)
    first, last = looks
    assert (first.packets.time_ns == last.packets.time_ns[: first.packets.time_ns.size]).all()
    assert not np.shares_memory(first.packets.time_ns, last.packets.time_ns)
    monkeypatch.undo()
    whole = analyse([target]).capture.packets.time_ns
    assert (last.packets.time_ns == whole - 10**9).all()


def set_back(capture, _room):
    return replace(capture.with_columns(time_ns=capture.packets.time_ns - 10**9), revised=True)


@pytest.mark.parametrize("far", [False, True], ids=["no room ahead", "room ahead"])
def test_room_for_a_file_that_grows_is_far_ahead_or_some_times_what_is_there(tmp_path, monkeypatch, far):
    """Not for what the share of its new bytes among all would tell."""
    reserve, ahead = PacketTable.reserve, one_file._FAR_AHEAD

    def without_room(table, capacity):
        if capacity >= ahead:
            raise MemoryError
        reserve(table, capacity)

    if not far:
        monkeypatch.setattr(PacketTable, "reserve", without_room)
    places = []
    target, small = tmp_path / "growing.pcap", 24
    octets = gzip.decompress(LOSSY.read_bytes())
    target.write_bytes(octets[:small])
    captures = GrowingCaptures([target])
    with target.open("ab") as file:
        for _ in range(4):
            file.write(octets[small:] * 12)  # More than it takes to go by the share that was read.
            file.flush()
            captures.draft(go_on)
            table = captures._reading.table
            places.append(table.columns().head.ctypes.data)
            if far and len(places) > 1:
                assert table.capacity == ahead
            else:
                assert 0 < table.size <= table.capacity <= 3 * table.size
    captures.close()
    assert not far or len({*places[1:]}) == 1  # What was read is not copied again.


def test_packets_of_connections_are_put_in_order_once(tmp_path, monkeypatch):
    """What a former look put in order is taken over while the file grows; where its memory moved, all is done again."""
    moved, taken = [], []
    whole = arrangement._take_over
    monkeypatch.setattr(arrangement, "_take_over", lambda *given: (taken.append(given[1].size), whole(*given)))
    reserve = PacketTable.reserve
    monkeypatch.setattr(PacketTable, "reserve", lambda *given: (moved.append(given), reserve(*given)))
    target = tmp_path / "growing.pcap"
    followed, orders = Followed([target]), []
    for _ in grow(LOSSY, target, (0.2, 0.5, 0.7, 1.0)):
        orders.append(followed.look().account.order)
    assert len(moved) == 3  # at first, and when it was seen that it grows
    assert taken == [orders[1].size, orders[2].size]
    assert orders[-1].tolist() == analyse([target]).account.order.tolist()
