"""Flow records made of packets are those of counting packet by packet."""

from pathlib import Path

import pytest

from yaffle.capture.reader import read_captures
from yaffle.flow_export.of_packets import flows_of_packets

_DATA = Path(__file__).parents[1] / "data"


def plain(capture):
    """By point and ends: packets and bytes."""
    found = {}
    packets, flows = capture.packets, capture.conversations
    for row in range(packets.flow.size):
        flow = int(packets.flow[row])
        ends = (int(flows.a_lo[flow]), int(flows.a_port[flow])), (int(flows.b_lo[flow]), int(flows.b_port[flow]))
        if packets.direction[row]:
            ends = ends[::-1]
        key = (int(flows.point[flow]), *ends)
        count, octets = found.get(key, (0, 0))
        found[key] = (count + 1, octets + int(packets.wire_bytes[row]))
    return found


@pytest.mark.parametrize("name", ["services/clocks.pcap.gz", "services/names-own.pcap.gz", "flows/routers-v9.pcap.gz"])
def test_packets_and_bytes_are_those_of_the_capture(name):
    capture = read_captures([_DATA / name])
    found = flows_of_packets(capture)
    sums = {}
    for row in found.rows:
        key = (
            int(row["exporter"]),
            (int(row["src_lo"]), int(row["src_port"])),
            (int(row["dst_lo"]), int(row["dst_port"])),
        )
        count, octets = sums.get(key, (0, 0))
        sums[key] = (count + int(row["packets"]), octets + int(row["octets"]))
        assert 0 <= row["last_ns"] - row["first_ns"] < 60 * 10**9
    assert sums == plain(capture)
    assert [e.address for e in found.exporters] == capture.points
    assert sum(e.flow_records for e in found.exporters) == found.rows.size


def test_without_packets_there_are_none(tmp_path):
    assert flows_of_packets(read_captures([])).rows.size == 0
