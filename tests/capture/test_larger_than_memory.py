"""Captures that are analyzed from columns in files, part by part, give what they give from memory."""

import gzip
import json
import signal
import subprocess
import sys
from collections import Counter
from pathlib import Path

import numpy as np
import pytest

from yaffle import memory_plan, room
from yaffle.analysis import analyse
from yaffle.capture import by_part
from yaffle.capture.by_part import laid_by_part, parts_of
from yaffle.capture.packets import MOSTLY_NIL, SCHEMA, PacketTable
from yaffle.capture.reader import read_captures
from yaffle.errors import Cancelled, YaffleError
from yaffle.exchanges import decoding
from yaffle.memory_plan import Plan, bytes_of, planned
from yaffle.progress import go_on
from yaffle.report.document import document
from yaffle.room import Room, SpilledRoom

LARGE = Path(__file__).parents[1] / "data" / "services" / "web-pages.pcap.gz"
CAPTURES = sorted((Path(__file__).parents[1] / "data").rglob("*.pcap*.gz"))


def told(analysis):
    return json.loads(json.dumps(document(analysis, include=("flows", "lost_packets")), default=str))


@pytest.fixture
def small_parts(monkeypatch):
    monkeypatch.setattr(by_part, "PART_PACKETS", 300)
    monkeypatch.setattr(decoding, "_PACKETS_A_PART", 500)


@pytest.mark.parametrize("source", CAPTURES, ids=lambda path: path.stem)
def test_part_by_part_gives_the_same_document(source, small_parts, tmp_path):
    assert told(analyse([source], plan=Plan(SpilledRoom(tmp_path)))) == told(analyse([source]))
    assert not list(tmp_path.iterdir())  # Files without a name.


def test_several_points_part_by_part(morning, analysed_morning, small_parts, tmp_path):
    assert told(analyse(morning, plan=Plan(SpilledRoom(tmp_path)))) == told(analysed_morning)


def test_packets_of_a_conversation_keep_their_order(morning, small_parts, tmp_path):
    """The plain twin: rows sorted by part, in order of capture within each."""
    plain = read_captures(morning[:1])
    laid = laid_by_part(plain, SpilledRoom(tmp_path), go_on)
    flow = plain.packets.flow
    counts = np.bincount(flow[flow >= 0], minlength=plain.conversations.point.size)
    part = parts_of(counts, by_part.PART_PACKETS)
    order = np.argsort(np.where(flow >= 0, part[flow], part.max() + 1), kind="stable")
    for name, _, _ in SCHEMA:
        assert np.array_equal(getattr(laid.packets, name), getattr(plain.packets, name)[order])
    assert Counter(laid.packets.position[laid.quotes["packet"]]) == Counter(
        plain.packets.position[plain.quotes["packet"]]
    )


@pytest.mark.parametrize("spilled", [False, True])
def test_columns_that_grow_keep_what_they_hold(spilled, tmp_path):
    table = PacketTable(room=SpilledRoom(tmp_path) if spilled else Room())
    table.reserve(10)
    table.size = 10
    table.window(0, 10).time_ns[:] = np.arange(10)
    table.window(2, 5).vlan[:] = 7
    table.reserve(100_000)
    table.size = 100_000
    table.window(10, 100_000).time_ns[:] = np.arange(10, 100_000)
    columns = table.columns()
    assert np.array_equal(columns.time_ns, np.arange(100_000))
    assert np.flatnonzero(columns.vlan).tolist() == [2, 3, 4]
    assert not any(getattr(columns, name).any() for name in MOSTLY_NIL if name != "vlan")


def test_columns_that_nobody_writes_to_take_no_memory():
    before = room.resident_bytes()
    grown = Room().nil_column(np.int64).reserve(4 << 20, 0)
    assert room.resident_bytes() < before + grown.nbytes // 2
    assert not grown.any()


def test_what_is_given_back_is_read_again(tmp_path):
    column = SpilledRoom(tmp_path).empty(4 << 20, np.int64)
    column[:] = np.arange(column.size)
    before = room.resident_bytes()
    room.give_back()
    assert room.resident_bytes() < before - column.nbytes // 2
    assert np.array_equal(column, np.arange(column.size))


def test_a_full_disk_is_an_error_in_words(monkeypatch, tmp_path):
    def full(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(room.os, "posix_fallocate", full)
    with pytest.raises(YaffleError, match=r"no room .*No space left.*--memory"):
        SpilledRoom(tmp_path).empty(10, np.int64)


def test_it_can_be_stopped_while_packets_are_laid(morning, small_parts, tmp_path):
    def until_then(_share, words):
        return "together" not in words or "putting" in words

    with pytest.raises(Cancelled):
        analyse(morning[:1], until_then, plan=Plan(SpilledRoom(tmp_path)))


@pytest.mark.parametrize(
    ("text", "amount"), [("4GiB", 4 << 30), ("1.5g", 3 << 29), ("2048 MiB", 2 << 30), ("1073741824", 1 << 30)]
)
def test_amounts_of_memory(text, amount):
    assert bytes_of(text) == amount


@pytest.mark.parametrize("text", ["", "much", "-4GiB", "1MiB", "nan", "inf", "4XiB"])
def test_what_is_no_amount_of_memory(text):
    with pytest.raises(YaffleError, match="--memory"):
        bytes_of(text)


def test_a_container_may_have_less_than_the_machine(tmp_path):
    (tmp_path / "meminfo").write_text("MemTotal: 4000 kB\nMemAvailable: 2000 kB\n")
    assert room.free_bytes(tmp_path, tmp_path) == 2000 * 1024
    (tmp_path / "memory.max").write_text("max\n")
    (tmp_path / "memory.current").write_text("1000\n")
    assert room.free_bytes(tmp_path, tmp_path) == 2000 * 1024
    (tmp_path / "memory.max").write_text("501000\n")
    assert room.free_bytes(tmp_path, tmp_path) == 500_000


def test_only_what_does_not_fit_is_put_into_files(morning, monkeypatch):
    monkeypatch.setattr(memory_plan, "keep_below", lambda _most: None)
    assert not planned(morning, 4 << 30).room.spilled
    monkeypatch.setattr(memory_plan, "PACKET_BYTES", 1 << 20)
    assert planned(morning, 4 << 30).room.spilled
    assert not planned([morning[0].parent / "nowhere.pcap"], 4 << 30).room.spilled


def test_a_kill_while_packets_are_laid_leaves_nothing(tmp_path):
    script = f"""
import os, signal
from pathlib import Path
from yaffle.analysis import analyse
from yaffle.capture import by_part
from yaffle.memory_plan import Plan
from yaffle.room import SpilledRoom

by_part.PART_PACKETS = 100

def progress(_share, words):
    if "of one conversation together" in words:
        os.kill(os.getpid(), signal.SIGKILL)
    return True

analyse([Path({str(LARGE)!r})], progress, Plan(SpilledRoom(Path({str(tmp_path)!r}))))
"""
    ended = subprocess.run([sys.executable, "-c", script], check=False, timeout=300)
    assert ended.returncode == -signal.SIGKILL
    assert not list(tmp_path.iterdir())


@pytest.mark.parametrize("seed", range(12))
def test_broken_captures_part_by_part(seed, small_parts, tmp_path):
    """Bytes are turned over and the end is cut off: the same is found either way."""
    random = np.random.default_rng(seed)
    octets = np.frombuffer(gzip.decompress(LARGE.read_bytes()), np.uint8)[: 1 << 20].copy()
    octets[random.integers(24, octets.size, 60)] = random.integers(0, 256, 60)
    broken = tmp_path / "broken.pcap"
    broken.write_bytes(octets[: random.integers(octets.size // 2, octets.size)].tobytes())
    (tmp_path / "room").mkdir()
    assert told(analyse([broken], plan=Plan(SpilledRoom(tmp_path / "room")))) == told(analyse([broken]))


def test_a_folder_that_cannot_be_written_to_is_said(tmp_path):
    with pytest.raises(YaffleError, match="cannot be put there"):
        SpilledRoom(tmp_path / "nowhere").empty(1, np.int64)
