"""Captures that grow: each look gives the same as one run over all that is there."""

import gzip
import json
from dataclasses import replace
from pathlib import Path

import pytest

from tests.tiers.truth import DATA
from yaffle.analysis import analyse
from yaffle.errors import Cancelled, YaffleError
from yaffle.findings import finding
from yaffle.findings.cleared import cleared
from yaffle.findings.finding import find
from yaffle.following import Followed
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
def test_each_look_is_one_run_over_what_is_there(source, tmp_path):
    target = tmp_path / "growing.pcap"
    followed = Followed([target])
    for _ in grow(source, target, (0.1, 0.37, 0.371, 0.8, 1.0)):
        assert told(followed.look()) == told(analyse([target]))
    followed.close()


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
    monkeypatch.setattr(finding, "_WHILE_IT_GROWS", 2)
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
