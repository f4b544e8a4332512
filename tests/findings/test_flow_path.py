"""Three routers that export the same flows: their order, where markings are lost, where packets are."""

import gzip
import json
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest

from yaffle.analysis import analyse
from yaffle.findings.flow_path import _cover
from yaffle.report.document import document

_OWN = Path(__file__).parents[1] / "data" / "flows"
_CORPUS = Path(__file__).parents[3] / "shared" / "corpus" / "flows"


@pytest.mark.parametrize("name", ["routers-ipfix", "routers-v9"])
def test_the_way_of_flows_over_three_routers(name):
    if (_CORPUS / name).is_dir():
        path, truth = _CORPUS / name / "export.pcap", json.loads((_CORPUS / name / "truth.json").read_text())
    else:
        path, truth = _OWN / f"{name}.pcap.gz", json.loads(gzip.decompress((_OWN / f"{name}.json.gz").read_bytes()))
    address = {}
    for e in truth["exporters"]:
        address.setdefault(e["name"], e["address"])
    found = document(analyse([path]))["flow_paths"]
    forward = found[0]
    assert forward["order_known"]
    assert [hop["exporter"].split(",")[0] for hop in forward["hops"]] == [address[r] for r in truth["path"]]
    marked = [hop for hop in forward["hops"] if hop["dscp_changes"]]
    assert [hop["exporter"].split(",")[0] for hop in marked] == [address[truth["remarked_at"]]]
    assert {(c["from"], c["to"]) for c in marked[0]["dscp_changes"]} <= {
        (int(a), b) for a, b in truth["remark"].items() if int(a) != b
    }
    first, second, third = forward["hops"]
    assert first["lost"] is None
    assert second["lost"] == 0
    complete = [
        f["routers"]
        for f in truth["flows"]
        if f["direction"] == "forward"
        and all(
            f["routers"].get(r, {"records": 0})["records"]
            == f["routers"].get(r, {"records_in_file": 1})["records_in_file"]
            for r in ("R2", "R3")
        )
    ]
    assert third["lost"] == sum(r["R2"]["packets"] - r["R3"]["packets"] for r in complete)
    assert third["lost"] > 0
    back = next(
        way
        for way in found
        if [h["exporter"].split(",")[0] for h in way["hops"]] == [address[r] for r in truth["path"][::-1]]
    )
    assert back["order_known"]
    assert [hop["lost"] for hop in back["hops"]] == [None, 0, 0]


@pytest.mark.parametrize("seed", range(5))
def test_what_records_cover_is_as_by_the_plain_way(seed):
    rng = np.random.default_rng(seed)
    sizes = rng.integers(1, 6, 20)
    starts = np.concatenate([[0], np.cumsum(sizes)])
    first = rng.integers(0, 100, int(starts[-1]))
    for a, b in pairwise(starts.tolist()):
        first[a:b].sort()
    last = first + rng.integers(0, 30, first.size)
    reach, covered = np.zeros(20, np.int64), np.zeros(20, np.int64)
    _cover(starts, first, last, reach, covered)
    for g, (a, b) in enumerate(pairwise(starts.tolist())):
        times = {t for k in range(a, b) for t in range(first[k], last[k])}
        assert (covered[g], reach[g]) == (len(times), max(last[a:b]))
