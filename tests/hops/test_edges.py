"""What edges of a domain wrote for each other: sequence numbers, times, what nodes are asked to export."""

import math
import random
from struct import pack

import pytest

from tests.hops.frames import trace_option
from tests.hops.test_traces import S0, node, packet, told
from yaffle.analysis import analyse
from yaffle.case.folder import open_case, save_case
from yaffle.hops.edges import DIRECT_EXPORT, EDGE_TO_EDGE
from yaffle.report.document import document


def edge_option(sequence, at_us=None, wide=False, namespace=7):
    """An edge-to-edge option: a sequence number of either width, and a time of entry (seconds, microseconds)."""
    kind = (1 << 15 if wide else 1 << 14) | (3 << 12 if at_us is not None else 0)
    body = pack("!Q" if wide else "!I", sequence)
    if at_us is not None:
        body += pack("!II", S0 + at_us // 1_000_000, at_us % 1_000_000)
    own = bytes([0, 3]) + pack("!HH", namespace, kind) + body
    return bytes([0x11, len(own)]) + own


def export_option(sequence, flow=None, asked=0xF00000):
    """An option of direct export, with its optional numbers."""
    flags = (1 << 7 if flow is not None else 0) | (1 << 6 if sequence is not None else 0)
    body = pack("!HBBI", 9, 0, flags, asked << 8)
    body += pack("!I", flow) if flow is not None else b""
    body += pack("!I", sequence) if sequence is not None else b""
    own = bytes([0, 4]) + body
    return bytes([0x11, len(own)]) + own


@pytest.mark.parametrize(("wide", "first"), [(False, 5), (True, 5), (False, 2**32 - 40), (True, 2**40)])
def test_what_edges_counted_is_lost_late_or_double_by_their_numbers(tmp_path, wide, first):
    order = [k for k in range(100) if k not in (20, 21, 70)]
    order[40], order[41] = order[41], order[40]
    order.insert(60, order[59])
    numbers = [(first + k) % (2**32 if not wide else 2**62) for k in order]
    frames = [(1000 * at, packet(5000, edge_option(number, wide=wide))) for at, number in enumerate(numbers)]
    (one,) = told(tmp_path, frames).edges
    assert (one.kind, one.namespace, one.packets, one.alone) == (EDGE_TO_EDGE, 7, 98, True)
    assert (one.lost, one.reordered, one.doubled) == (3, 1, 1) and math.isnan(one.over_ns[0])


def test_numbers_of_a_whole_namespace_are_told_from_those_of_flows(tmp_path):
    dice, frames = random.Random(3), []
    for number in range(300):
        if number not in (50, 120):
            frames.append((1000 * number, packet(5000 + dice.randrange(3), edge_option(number))))
    found = told(tmp_path, frames).edges
    assert len(found) == 3 and not any(one.alone for one in found) and sum(one.lost for one in found) == 2


def test_delay_is_told_above_its_least_whatever_the_edges_clock_says(tmp_path):
    frames = [
        (10_000 * k + (3000 if k % 10 == 9 else 200), packet(5000, edge_option(k, at_us=10_000 * k + 77_000_000)))
        for k in range(50)
    ]
    (one,) = told(tmp_path, frames).edges
    assert one.over_ns == (0, 2_800_000, 2_800_000) and one.lost == 0


def test_direct_export_says_what_nodes_are_asked_and_of_which_flow(tmp_path):
    frames = [(1000 * k, packet(5000, export_option(k, flow=77))) for k in range(40) if k != 9]
    frames += [(1000 * k + 1, packet(5001, export_option(None))) for k in range(5)]
    first, second = told(tmp_path, frames).edges
    assert (first.kind, first.flow_id, first.asked, first.lost) == (DIRECT_EXPORT, 77, 0xF00000, 1)
    assert (second.flow_id, second.lost, second.reordered, second.packets) == (-1, -1, -1, 5)


def test_a_case_and_the_document_hold_them_beside_traces(tmp_path):
    frames = [(1000 * k, packet(5000, edge_option(k))) for k in range(10)]
    frames += [
        (1000 * k + 500, packet(6000, trace_option((0, 1, 2, 3, 6), [node(2, 1000 * k, 63)]))) for k in range(10)
    ]
    found = told(tmp_path, frames)
    assert len(found.edges) == 1 and len(found.flows) == 1
    analysis = analyse([tmp_path / "one.pcap"])
    (one,) = document(analysis)["hops"]["edges"]
    assert (one["kind"], one["src_port"], one["sequence_of"], one["lost"]) == ("edge to edge", 5000, "flow", 0)
    save_case(tmp_path / "one.yaffle", analysis, {})
    again = open_case(tmp_path / "one.yaffle")[0]
    assert document(again)["hops"] == document(analysis)["hops"]


def test_what_is_cut_off_is_no_edge(tmp_path):
    dice = random.Random(8)
    frames = []
    for k in range(500):
        data = bytearray(packet(5000, dice.choice((edge_option(k, 5), export_option(k, 3)))))
        data[dice.randrange(54, 80)] = dice.randrange(256)
        frames.append((k, bytes(data[: dice.randrange(54, len(data) + 1)])))
    assert told(tmp_path, frames).edges is not None
