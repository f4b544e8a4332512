"""The network's part by node and on the air: adds up whatever is told, and goes where it was spent."""

from struct import pack

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.frames import ACK, FIN, PSH, SYN, ether, ip, pcap, tcp
from tests.hops.frames import hop_by_hop, trace_option
from tests.hops.test_traces import DATA, node
from tests.radio import air
from tests.radio.air import AP1, AP2
from tests.radio.test_air import RADIOTAP
from yaffle.analysis import analyse
from yaffle.case.folder import open_case, save_case
from yaffle.findings.inside import inside_of_connection
from yaffle.ledger import causes
from yaffle.ledger.along import CAUSES
from yaffle.ledger.at_nodes import _split
from yaffle.ledger.on_air import _overlap
from yaffle.radio.held_up import SPAN
from yaffle.report.document import document

A, B = "2001:db8:c::1", "2001:db8:5::1"
S0, MS = 1_795_000_000 * 10**9, 10**6


@settings(max_examples=200, deadline=None)
@given(st.data())
def test_every_split_adds_up_and_gives_no_more_than_was_told(data):
    rows, nodes = data.draw(st.integers(1, 4)), data.draw(st.integers(1, 3))

    def drawn(most, *shape):
        return np.array(
            data.draw(st.lists(st.integers(0, most), min_size=int(np.prod(shape)), max_size=int(np.prod(shape))))
        ).reshape(shape)

    charges, floors = drawn(10**10, rows, len(CAUSES)), drawn(10**9, rows, nodes)
    over, dropped, trips = drawn(10**9, rows, nodes), drawn(3, rows, nodes), drawn(10**9, rows)
    found = _split(charges, floors.astype(float), over.astype(float), dropped.astype(float), trips)
    assert (found.sum(axis=1) == charges).all() and (found >= 0).all()
    queues = [CAUSES.index(cause) for cause in (causes.QUEUEING, causes.RATE)]
    assert (found[:, :-1, queues].sum(axis=2) <= over + 1).all()
    assert (found[:, :-1, CAUSES.index(causes.NAME)] == 0).all()


@settings(max_examples=200, deadline=None)
@given(
    st.lists(st.tuples(st.integers(0, 100), st.integers(0, 30)), max_size=8), st.integers(0, 100), st.integers(0, 60)
)
def test_overlap_counts_each_moment_once(spans, first, length):
    rows = np.zeros(len(spans), SPAN)
    for k, (begin, size) in enumerate(spans):
        rows[k] = 0, 0, begin, begin + size
    moments = {m for begin, size in spans for m in range(begin, begin + size)}
    found = _overlap(rows, np.array([first]), np.array([first + length]))
    assert found.tolist() == [len(moments & set(range(first, first + length)))]


def traced(packet, at_us, waits_us):
    """A packet with the traces of three nodes; the second one held it up."""
    times = [at_us, at_us + 100, at_us + 200 + waits_us]
    nodes = [node(k + 1, at, 63 - k) for k, at in enumerate(times)]
    return ether(hop_by_hop(packet, trace_option((0, 1, 2, 3, 6), nodes[::-1])))


@pytest.fixture
def held(tmp_path):
    """A connection seen beside its server, whose request waited 50 ms in node 2, and another one that did not."""
    frames = []
    for number, waits_us in enumerate((0, 50_000, 0)):
        at = 1_000_000 * number
        port = 4000 + number
        up = [(0, SYN, 1, 0, b""), (20_000, ACK, 2, 10, b""), (20_050, ACK | PSH, 2, 10, b"GET / HTTP/1.1\r\n\r\n"),
              (100_000, FIN | ACK, 20, 37, b"")]  # fmt: skip
        down = [(300, SYN | ACK, 9, 2, b""), (90_000, ACK | PSH, 10, 20, b"HTTP/1.1 204 No Content\r\n\r\n"),
                (101_000, FIN | ACK, 37, 21, b"")]  # fmt: skip
        for when, flags, seq, ack, body in up:
            more = waits_us if when == 20_050 else 0
            segment = tcp(A, port, B, 80, seq, ack, flags, body)
            frames.append((at + when + 300 + more, traced(segment, at + when, more)))
        frames += [
            (at + when + 400, ether(tcp(B, 80, A, port, seq, ack, flags, body))) for when, flags, seq, ack, body in down
        ]
    path = pcap(tmp_path / "held.pcap", [(S0 + us * 1000, frame) for us, frame in sorted(frames)])
    return analyse([path])


def test_nodes_get_what_they_told_and_the_rest_stays_untold(held):
    told = held.at_nodes
    network = held.account.exchange_charges[:, causes.party_columns(causes.NETWORK)].sum(axis=1)
    assert told.rows.tolist() == [0, 1, 2] and (told.charges.sum(axis=(1, 2)) == network[told.rows]).all()
    by_node = [dict(told.of_exchange(row)) for row in range(3)]
    assert all(own.get(2, 0) < 2 * MS for own in (by_node[0], by_node[2]))
    assert {one["node"] for one in document(held)["exchanges"][1]["network_by_node"]} >= {None}
    for exchange in document(held)["exchanges"]:
        assert sum(one["ms"] for one in exchange["network_by_node"]) == pytest.approx(exchange["network_ms"])


def on_the_air(tmp_path):
    """A connection by the air: its request was sent again for 40 ms, its answer came after a move of 300 ms."""
    client, server = "10.0.0.5", "203.0.113.20"
    packets = [
        (0, True, tcp(client, 4000, server, 80, 1, 0, SYN, ip_id=1), AP1),
        (10, False, tcp(server, 80, client, 4000, 9, 2, SYN | ACK, ip_id=7), AP1),
        (12, True, tcp(client, 4000, server, 80, 2, 10, ACK, ip_id=2), AP1),
        (20, True, tcp(client, 4000, server, 80, 2, 10, ACK | PSH, b"GET / HTTP/1.1\r\n\r\n", ip_id=3), AP1),
        (80, False, tcp(server, 80, client, 4000, 10, 20, ACK, ip_id=8), AP1),
        (
            700,
            False,
            tcp(server, 80, client, 4000, 10, 20, ACK | PSH, b"HTTP/1.1 204 No Content\r\n\r\n", ip_id=9),
            AP2,
        ),
        (710, True, tcp(client, 4000, server, 80, 20, 37, FIN | ACK, ip_id=4), AP2),
        (720, False, tcp(server, 80, client, 4000, 37, 21, FIN | ACK, ip_id=10), AP2),
    ]
    frames = [(-5, air.beacon(AP1, 1)), (-4, air.beacon(AP2, 1))]
    for k, (at, up, packet, bssid) in enumerate(packets):
        frame = air.data(up, bssid, 100 + k, air.snap(0x0800, packet))
        frames.append((at, frame))
        if at == 20:
            frames += [
                (20 + more, air.data(up, bssid, 100 + k, air.snap(0x0800, packet), retry=True)) for more in (15, 40)
            ]
    body = pack("<HH", 0, 0) + AP1 + air.element(0, b"pier")
    frames += [
        (390, air.management(2, AP2, air.STA, AP2, 5, body)),
        (395, air.management(3, air.STA, AP2, AP2, 6, pack("<HHH", 0, 0, 1))),
    ]
    head = air.radiotap()
    path = tmp_path / "air.pcap"
    pcap(path, [(S0 + int(at * MS), head + frame) for at, frame in sorted(frames)], RADIOTAP)
    return analyse([path])


def test_what_was_on_the_air_is_told_as_part_of_the_network(tmp_path):
    found = on_the_air(tmp_path)
    (exchange,) = document(found)["exchanges"]
    spent = exchange["on_air"]
    assert found.on_air.rows.tolist() == [0]
    assert spent["moves_ms"] + spent["retries_ms"] <= exchange["network_ms"] + 1e-9
    spans = {(int(row["kind"]), int(row["to_ns"] - row["from_ns"])) for row in found.radio.held.spans}
    assert (0, 40 * MS) in spans and any(kind == 1 and ns >= 300 * MS for kind, ns in spans)
    assert "On the air at least" in inside_of_connection(found, 0)
    save_case(tmp_path / "air.yaffle", found, {})
    again = open_case(tmp_path / "air.yaffle")[0]
    assert document(again)["exchanges"] == document(found)["exchanges"]


def test_without_telemetry_and_radio_nothing_is_said(tmp_path):
    frames = [(S0, ether(ip("192.0.2.1", "192.0.2.2", 17, b"\0" * 12)))]
    found = analyse([pcap(tmp_path / "plain.pcap", frames)])
    assert found.at_nodes is None and found.on_air is None


def test_a_recorded_queue_is_found_where_it_stood():
    found = analyse([DATA / "silent.pcap.gz"])
    told = found.at_nodes
    (dearest, ns), (untold, _) = sorted(told.of_rows(told.rows), key=lambda one: one[0] is None)
    network = found.account.exchange_charges[told.rows][:, causes.party_columns(causes.NETWORK)].sum()
    assert dearest is not None and untold is None and 0.3 < ns / network < 0.5
    assert any(f"in node {dearest}" in inside_of_connection(found, c) for c in range(found.account.flow.size))
