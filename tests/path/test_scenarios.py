"""Both sides of a bridge that logged what it did: lost packets to the packet, copies, late ones, delays under wrong
clocks, markings.
"""

import gzip
import json
import re
from collections import Counter
from pathlib import Path

import numpy as np
import pytest

from tests.path.shifting import shifted
from yaffle.analysis import analyse
from yaffle.case.folder import open_case, save_case
from yaffle.report.document import document

_OWN = Path(__file__).parents[1] / "data" / "path"
_CORPUS = Path(__file__).parents[3] / "shared" / "corpus"
NAMES = sorted(path.parent.name for path in _CORPUS.glob("*/near_server.pcap")) or sorted(
    path.stem for path in _OWN.glob("*.json")
)
CLOCKS = ((0, 0.0), (1_700_000_000, 35e-6), (-3600 * 10**9, -80e-6))


def sides(name, folder, offset_ns=0, drift=0.0):
    """(both captures, the second under another clock; truth)."""
    if (_CORPUS / name).is_dir():
        data = [(_CORPUS / name / f"near_{end}.pcap").read_bytes() for end in ("client", "server")]
        truth = json.loads((_CORPUS / name / "truth.json").read_text())
    else:
        data = [gzip.decompress((_OWN / f"{name}-near_{end}.pcap.gz").read_bytes()) for end in ("client", "server")]
        truth = json.loads((_OWN / f"{name}.json").read_text())
    return [
        shifted(data[0], folder / "near_client.pcap", 0, 0.0),
        shifted(data[1], folder / "near_server.pcap", offset_ns, drift),
    ], truth


def of_way(found, direction):
    (own,) = [s for s in found["segments"] if s["direction"] == direction] or [None]
    return own


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize(("offset_ns", "drift"), CLOCKS)
def test_segments_are_what_the_bridge_did(name, offset_ns, drift, tmp_path):
    paths, truth = sides(name, tmp_path, offset_ns, drift)
    found = document(analyse(paths), include=["lost_packets"])
    lost = Counter(
        (p["src"], p["src_port"], p["ip_id"], p["seq"] if p["transport"] == "tcp" else 0) for p in found["lost_packets"]
    )
    assert lost == Counter((w["src"], w["sport"], w["id"], w["seq"]) for w in truth["wire"] if "drop" in w["event"])
    delays = dict(re.findall(r"^0 (up|down) .*?delay_us=(\d+)", truth["schedule"], re.MULTILINE))
    both = all(of_way(found, d) is not None and of_way(found, d)["packets"] for d in ("from_client", "from_server"))
    for word, direction in (("up", "from_client"), ("down", "from_server")):
        own = of_way(found, direction)
        if own is None:
            continue
        assert (own["from"], own["to"]) == (
            ("near_client.pcap", "near_server.pcap") if word == "up" else ("near_server.pcap", "near_client.pcap")
        )
        events = [w for w in truth["wire"] if w["dir"] == word]
        assert own["duplicated"] == sum(w["event"] == "dup" for w in events)
        late = sum(w["event"] == "reorder" for w in events)
        assert late - 1 <= own["reordered"] <= late  # What nothing overtakes is late, not reordered (RFC 4737).
        assert own["born"] == 0
        if both and own["delay_ms"]:  # One direction alone tells no offset.
            assert own["delay_ms"]["min"] == pytest.approx(int(delays[word]) / 1000, abs=0.3)
    if both:
        clock = found["clocks"][1]
        assert clock["offset_ms"] == pytest.approx(offset_ns / 1e6, abs=0.3)
        assert clock["set_right"] == (offset_ns != 0)


def test_markings_that_are_lost_on_the_way_up(tmp_path):
    paths, _ = sides("voice", tmp_path)
    own = of_way(document(analyse(paths)), "from_client")
    assert [(c["from"], c["to"]) for c in own["dscp_changes"]] == [(46, 0)]
    assert own["dscp_changes"][0]["packets"] == own["packets"] - own["lost"]


def test_with_clocks_set_right_waits_are_those_of_right_clocks(tmp_path):
    (tmp_path / "a").mkdir()
    right, _ = sides("tail-loss", tmp_path / "a")
    (tmp_path / "b").mkdir()
    wrong, _ = sides("tail-loss", tmp_path / "b", 90 * 10**9, 20e-6)
    one, two = analyse(right), analyse(wrong)
    assert (one.speaker == two.speaker).all()
    assert any("its clock was 90.0" in note for source in two.capture.sources for note in source.notes)
    assert np.abs(one.capture.packets.time_ns - two.capture.packets.time_ns).max() < 100_000


def test_one_point_has_no_path(tmp_path):
    paths, _ = sides("voice", tmp_path)
    found = document(analyse(paths[:1]))
    assert (found["segments"], found["clocks"]) == ([], [])


def test_a_case_keeps_the_path(tmp_path):
    paths, _ = sides("duplicates", tmp_path, 5 * 10**9, 0.0)
    analysis = analyse(paths)
    save_case(tmp_path / "a.yaffle", analysis, {})
    again, _ = open_case(tmp_path / "a.yaffle")
    wanted = document(analysis, include=["lost_packets"])
    assert document(again, include=["lost_packets"]) == wanted
    assert again.path.corrected == {1}


def test_streams_are_followed_from_point_to_point(tmp_path):
    paths, truth = sides("voice", tmp_path)
    found = document(analyse(paths))
    streams = {}
    for media in found["media"]:
        streams.setdefault(media["ssrc"], []).append(media)
    dropped = [w for w in truth["wire"] if "drop" in w["event"]]
    assert sum(
        own[1]["lost"] - own[0]["lost"] for own in (sorted(s, key=lambda m: m["place"]) for s in streams.values())
    ) <= len(dropped)
    for own in streams.values():
        near, far = sorted(own, key=lambda m: m["place"])
        assert (near["point"], far["point"]) == ("near_client.pcap", "near_server.pcap")
        assert (near["lost"], near["since_before"], near["dscp"], far["dscp"]) == (0, "unchanged", 46, 0)
        assert "DSCP EF becomes CS0, default" in far["since_before"]
        assert f"{far['lost']} lost since Near client" in far["since_before"]
        assert near["voice"]["mos"] > far["voice"]["mos"] > 1
        assert far["gaps"] <= far["loss_events"] + far["late"]
