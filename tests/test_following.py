"""Captures that grow: each look gives the same as one run over all that is there."""

import gzip
import json
from pathlib import Path

import pytest

from tests.tiers.truth import DATA
from yaffle.analysis import analyse
from yaffle.following import Followed
from yaffle.report.document import document

CAPTURES = sorted(Path(__file__).parent.glob("data/**/*.pcap*.gz")) or sorted(DATA.rglob("*.gz"))


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
