"""Stages give values of their own: nothing that one was given is written to, by it or by any that follows."""

import gzip
import hashlib
import threading
import time
from dataclasses import fields, is_dataclass
from pathlib import Path
from struct import pack_into, unpack_from

import numpy as np
import pytest

from yaffle import analysis as analysis_module
from yaffle.analysis import analyse
from yaffle.errors import Cancelled, YaffleError
from yaffle.following import Followed
from yaffle.workforce import Workforce

DATA = Path(__file__).parent / "data"
STAGES = (
    "without_clock_steps", "arrange", "find_path", "with_clocks_right", "find_lookups", "beginnings", "find_calls",
    "find_media", "find_programs", "find_exports", "find_telemetry", "find_radio", "find_cyclic", "account_by_paths",
    "put_together", "noted", "speaking_views", "find_behind",
)  # fmt: skip
GROUPS = {
    "two points": sorted((DATA / "path").glob("voice-*.pcap.gz")),
    "losses at two points": sorted((DATA / "path").glob("tail-loss-*.pcap.gz")),
    "tiers": sorted((DATA / "tiers").glob("*.pcap.gz"))[:1],
    "services": sorted((DATA / "services").glob("*.pcap.gz"))[:3],
    "names": [DATA / "services" / "web-pages.pcap.gz"],
    "flow records": sorted((DATA / "flows").glob("*.pcap.gz"))[:1],
}


def arrays_in(value, seen):
    """Everything with rows that can be reached from a value."""
    if id(value) in seen:
        return
    seen.add(id(value))
    if isinstance(value, np.ndarray):
        yield value
    elif is_dataclass(value):
        for one in fields(value):
            yield from arrays_in(getattr(value, one.name), seen)
    elif isinstance(value, dict):
        yield from arrays_in(list(value.values()), seen)
    elif isinstance(value, list | tuple | set | frozenset):
        for one in value:
            yield from arrays_in(one, seen)


def digest(array):
    """Of what it holds."""
    return hashlib.sha1(np.ascontiguousarray(array).tobytes(), usedforsecurity=False).digest()


class Watcher:
    """Wraps stages: remembers what each was given, and what that held."""

    def __init__(self, monkeypatch):
        self.given = []
        for name in STAGES:
            monkeypatch.setattr(analysis_module, name, self.watched(name, getattr(analysis_module, name)))
        monkeypatch.setattr(Workforce, "account", self.watched("account", Workforce.account))

    def watched(self, name, stage):
        def run(*values, **named):
            for array in arrays_in([*values, *named.values()], set()):
                self.given.append((name, array, digest(array)))
            return stage(*values, **named)

        return run

    def written_to(self):
        """Stages some of whose rows are not what they were."""
        return sorted({name for name, array, held in self.given if digest(array) != held})


def later(source, target, seconds):
    """A capture whose clock was ahead by so much."""
    octets, at = bytearray(gzip.decompress(source.read_bytes())), 24
    while at + 16 <= len(octets):
        when, _, size, _ = unpack_from("<IIII", octets, at)
        pack_into("<I", octets, at, when + seconds)
        at += 16 + size
    target.write_bytes(octets)
    return target


@pytest.mark.parametrize("paths", GROUPS.values(), ids=GROUPS.keys())
def test_nothing_that_a_stage_was_given_is_written_to(paths, monkeypatch):
    watcher = Watcher(monkeypatch)
    found = analyse(paths)
    assert found.capture.packets.time_ns.size
    assert len({name for name, _, _ in watcher.given}) == len(STAGES) + 1
    assert watcher.written_to() == []


def test_times_that_are_set_right_are_rows_of_their_own(tmp_path, monkeypatch):
    near, far = GROUPS["losses at two points"]
    watcher = Watcher(monkeypatch)
    found = analyse([near, later(far, tmp_path / "far.pcap", 5)])
    assert found.path.corrected == {1}
    assert found.capture.revised
    assert watcher.written_to() == []


def test_a_look_leaves_what_the_one_before_it_found(tmp_path, monkeypatch):
    whole, target = GROUPS["tiers"][0], tmp_path / "growing.pcap"
    octets = gzip.decompress(whole.read_bytes())
    watcher, followed = Watcher(monkeypatch), Followed([target])
    for share in (0.3, 0.6, 1.0):
        target.write_bytes(octets[: int(share * len(octets))])
        found = followed.look(provisional=share < 1.0)
        watcher.given += [("analysis", array, digest(array)) for array in arrays_in(found, set())]
    followed.close()
    assert watcher.written_to() == []


class FailingWorkforce(Workforce):
    """Loses its workers, as soon as the work beside has begun."""

    def account(self, *_, **__):
        raise YaffleError("the scheduler was lost")


def test_what_is_looked_for_beside_ends_where_the_account_fails(monkeypatch):
    ended = []

    def endless(capture, payload, progress):
        while progress(0.5, "counting cycles"):
            time.sleep(0.001)
        ended.append(True)
        raise Cancelled

    monkeypatch.setattr(analysis_module, "_beside_connections", endless)
    with pytest.raises(YaffleError, match="the scheduler was lost"):
        analyse(GROUPS["names"], workforce=FailingWorkforce())
    assert ended == [True]


def test_what_takes_longer_than_the_account_is_said(monkeypatch):
    look_beside, said, accounted = analysis_module._beside_connections, [], threading.Event()

    def late(capture, payload, progress):
        progress(0.5, "hidden behind the account")
        assert accounted.wait(30)
        progress(0.5, "counting cycles")
        return look_beside(capture, payload, progress)

    def watch(share, words):
        said.append((share, words))
        return True

    end = analysis_module._Both.__exit__

    def ended(both, *told):
        end(both, *told)
        accounted.set()

    monkeypatch.setattr(analysis_module, "_beside_connections", late)
    monkeypatch.setattr(analysis_module._Both, "__exit__", ended)
    analyse(GROUPS["names"], watch)
    assert "counting cycles" in [words for _, words in said]
    assert "hidden behind the account" not in [words for _, words in said]
    shares = [share for share, _ in said]
    assert shares == sorted(shares)
