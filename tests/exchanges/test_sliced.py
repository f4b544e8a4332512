"""The same captures of real servers with their packets sliced: as many exchanges, the same waits, and what the first
bytes still tell.
"""

import gzip
import struct
from pathlib import Path

import pytest

from yaffle.analysis import analyse
from yaffle.report.document import document

_DATA = Path(__file__).parents[1] / "data" / "services"


def sliced(name, kept, tmp_path):
    """The capture with `kept` bytes a packet."""
    data = gzip.decompress((_DATA / f"{name}.pcap.gz").read_bytes())
    out, at = [data[:24]], 24
    while at + 16 <= len(data):
        seconds, rest, have, wire = struct.unpack_from("<4I", data, at)
        size = min(have, kept)
        out.append(struct.pack("<4I", seconds, rest, size, wire) + data[at + 16 : at + 16 + size])
        at += 16 + have
    path = tmp_path / f"{name}.pcap"
    path.write_bytes(b"".join(out))
    return path


@pytest.mark.parametrize(
    ("name", "kept"), [("web-pages", 128), ("database", 128), ("tickets", 110), ("directory", 100), ("files", 250)]
)
def test_sliced_packets_cost_details_not_exchanges(tmp_path, name, kept):
    whole = document(analyse([_DATA / f"{name}.pcap.gz"]), literals=True)
    cut = document(analyse([sliced(name, kept, tmp_path)]), literals=True)
    assert len(cut["exchanges"]) == len(whole["exchanges"])
    labels, waits = 0, 0
    for a, b in zip(cut["exchanges"], whole["exchanges"], strict=True):
        assert a["protocol"] == b["protocol"]
        assert a["wait_ms"] == pytest.approx(
            sum(a[f"{p}_ms"] for p in ("client", "network", "server", "unexplained")), abs=0.01
        )
        labels += b["label"].startswith(a["label"].strip("…")) and bool(a["label"])
        waits += a["wait_ms"] == pytest.approx(b["wait_ms"], rel=0.02, abs=2)
        assert a["outcome"] in (b["outcome"], "answered", "unanswered")
    assert labels >= 0.85 * len(whole["exchanges"])
    assert waits >= 0.97 * len(whole["exchanges"])
    assert any("truncated" in note for source in cut["sources"] for note in source["notes"])
