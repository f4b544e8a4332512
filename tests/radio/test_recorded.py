"""A small copy of a capture of frames without a radio's words, with what is true of it."""

import gzip
import json
from pathlib import Path

from yaffle.analysis import analyse
from yaffle.case.folder import open_case, save_case
from yaffle.radio.frames import address_text
from yaffle.report.document import document
from yaffle.report.radio_part import radio

DATA = Path(__file__).parent.parent / "data" / "radio"


def test_stations_access_points_and_open_connections(tmp_path):
    path = tmp_path / "bare.pcapng"
    path.write_bytes(gzip.decompress((DATA / "bare.pcapng.gz").read_bytes()))
    truth = json.loads((DATA / "bare.json").read_text())
    analysis = analyse([path])
    found = analysis.radio
    points = {one.bssid: one for one in found.access_points}
    for one in truth["access_points"]:
        own = points[one["bssid"]]
        assert (own.ssid, own.channel, own.is_open) == (one["ssid"], one["channel"], one["open"])
        assert one["busy_percent"] is None or abs(own.busy_percent - one["busy_percent"]) < 1
    stations = {one.address: one for one in found.stations}
    assert set(stations) == {one["address"] for one in truth["stations"]}
    for one in truth["stations"]:
        own = stations[one["address"]]
        assert own.ssid == one["ssid"]
        for share, key in ((own.retry_from, "from_station"), (own.retry_to, "to_station")):
            assert one["retry_percent"][key] is None or abs(share - one["retry_percent"][key]) < 1
        assert [address_text(a.bssid) for a in own.course.associations] == [a["bssid"] for a in one["associations"]]
        assert [(address_text(r.old), address_text(r.new), r.kind) for r in own.course.roams] == [
            (r["from"], r["to"], r["kind"]) for r in one["roams"]
        ]
        for mine, want in zip(own.course.roams, one["roams"], strict=True):
            gaps = [want[key] for key in ("gap_ms", "gap_unanswered_left_out_ms", "gap_until_join_ms")]
            assert any(g is None or abs(mine.gap_ns / 1e6 - g) <= 0.05 * g + 10 for g in gaps)
        assert [(f.stage, f.code) for f in own.course.failures] == [
            (f["stage"], -1 if f["code"] is None else f["code"]) for f in one["failed_attempts"]
        ]
    told = document(analysis)
    assert {(c["client"], c["server"]) for c in told["connections"]} == {
        (c["client"], c["server"]) for c in truth["connections"]
    }
    case = tmp_path / "air.yaffle"
    save_case(case, analysis, {})
    again, _ = open_case(case)
    assert radio(again) == radio(analysis) and again.radio.heard.size == found.heard.size
