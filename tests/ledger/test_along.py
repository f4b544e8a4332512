"""The network's part of each wait split over the path: adds up for every exchange, and is as a plain way tells it."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.path.test_scenarios import NAMES, sides
from yaffle.analysis import analyse
from yaffle.findings.location import network_by_segment, where_waited
from yaffle.ledger import causes
from yaffle.ledger.along import CAUSES, ENDS, _given, along
from yaffle.report.document import document


@given(
    st.lists(
        st.tuples(st.integers(0, 1 << 55), st.lists(st.floats(0, 1e12), min_size=4, max_size=4)),
        min_size=1,
        max_size=30,
    )
)
def test_a_charge_is_given_away_whole(rows):
    charge, weights = np.array([c for c, _ in rows]), np.array([[*w, 0.0] for _, w in rows])
    found = _given(charge, weights)
    assert (found >= 0).all()
    assert found.sum(axis=1).tolist() == charge.tolist()
    for own, (_, shares) in zip(found, rows, strict=True):
        if sum(shares) == 0:
            assert own[:-1].sum() == 0


def plain_weights(analysis, row, segment):
    """(floor of both ways, mean above it, packets lost) of one exchange on one segment, packet by packet."""
    account, packets = analysis.account, analysis.capture.packets
    connection = int(account.of_exchange("connection")[row])
    own = {f for f in range(analysis.same.size) if analysis.same[f] == analysis.same[account.flow[connection]]}
    begin = int(account.of_exchange("first_ns")[row]) - int(account.of_exchange("set_up_ns")[row])
    if account.exchange_charges[row, causes.SET_UP]:
        begin = min(begin, int(account.fact("first_ns")[connection]))
    end = int(account.of_exchange("end_ns")[row])
    floor = over = lost = 0
    for way in (segment.up, segment.down):
        delays = iter(way.delay_ns.tolist())
        passed = [
            (int(sent), next(delays) if arrived >= 0 else None)
            for sent, arrived in zip(way.sent.tolist(), way.arrived.tolist(), strict=True)
        ]
        mine = [(int(packets.time_ns[sent]), delay) for sent, delay in passed if int(packets.flow[sent]) in own]
        least = min((d for _, d in mine if d is not None), default=0)
        during = [d for t, d in mine if begin // 1000 <= t // 1000 <= end // 1000]
        came = [d - least for d in during if d is not None]
        floor, over, lost = floor + least, over + (sum(came) / len(came) if came else 0), lost + during.count(None)
    return floor, over, lost


@pytest.mark.parametrize(
    "name", [name for name in ("tail-loss", "narrow-deep", "loss-down", "duplicates") if name in NAMES]
)
def test_every_exchange_is_split_as_by_the_plain_way(name, tmp_path):
    analysis = analyse(sides(name, tmp_path)[0])
    account = analysis.account
    speaking = analysis.speaker[account.of_exchange("connection")] == account.of_exchange("connection")
    rows = np.flatnonzero(speaking)
    split = along(analysis.capture, account, analysis.path, analysis.same, rows)
    assert (split.charges >= 0).all()
    assert (split.charges.sum(axis=1) == account.exchange_charges[rows][:, list(CAUSES)]).all()
    (segment,) = analysis.path.segments
    place = split.stretches.index((segment.near, segment.far))
    assert split.stretches[-1] == (ENDS, ENDS)
    for k in np.linspace(0, rows.size - 1, min(rows.size, 12)).astype(int).tolist():
        floor, over, lost = plain_weights(analysis, int(rows[k]), segment)
        charges = account.exchange_charges[rows[k]]
        outer = (
            split.charges[k, :, CAUSES.index(causes.ROUND_TRIP)].sum()
            - split.charges[k, place, CAUSES.index(causes.ROUND_TRIP)]
        )
        if charges[causes.ROUND_TRIP] and floor > 1_000_000:
            assert outer < 0.2 * charges[causes.ROUND_TRIP]  # Both points stand next to their hosts.
        told = split.charges[k, :, CAUSES.index(causes.LOSS)]
        assert told[place] == (charges[causes.LOSS] if lost else 0)
        if over == 0:
            assert split.charges[k, place, CAUSES.index(causes.QUEUEING)] == 0
    waited = where_waited(analysis, rows)
    assert sum(one.ns for one in waited) == int(
        account.exchange_charges[rows][:, causes.party_columns(causes.NETWORK)].sum()
    )
    assert (waited[0].between, waited[0].start, waited[0].end) == (True, "Near client", "Near server")


def test_the_document_splits_the_network_of_each_connection(tmp_path):
    analysis = analyse(sides("tail-loss", tmp_path)[0])
    found = document(analysis)
    split = [c for own in found["connections"] for c in own["charges"] if "segments" in c]
    assert split
    assert {c["party"] for c in split} == {"network"}
    for charge in split:
        assert sum(s["ms"] for s in charge["segments"]) == pytest.approx(charge["ms"], abs=1e-6)
    (told,) = [f for f in found["findings"] if f["cause"] == "loss"] or [None]
    if told is not None:
        assert told["grounds"]["waited"][0]["from"] == "Near client"


def test_one_point_alone_splits_nothing(tmp_path):
    analysis = analyse(sides("tail-loss", tmp_path)[0][:1])
    assert network_by_segment(analysis) == {}
    assert where_waited(analysis, np.arange(3)) == []
