"""Packets side by side with those of their connection, in order of capture, whichever thread laid them."""

import random

import numpy as np
import pytest

from tests.frames import ACK, C, S, ether, pcap, tcp, udp
from yaffle.capture.reader import read_captures
from yaffle.ledger.arrangement import arrange


@pytest.mark.parametrize(("packets", "connections"), [(0, 1), (1, 1), (2, 2), (701, 40), (700, 3)])
def test_order_is_that_of_capture_within_each_connection(tmp_path, packets, connections):
    rnd, frames = random.Random(packets), []
    for k in range(packets):
        port = 20_000 + rnd.randrange(connections)
        payload = (
            udp(C, port, S, 9, b"x") if rnd.random() < 0.2 and packets > 2 else tcp(C, port, S, 80, k, 0, ACK, b"")
        )
        frames.append((10**9 + k * 1000, ether(payload)))
    capture, arranged = arrange(read_captures([pcap(tmp_path / "a.pcap", frames)]))
    flow = capture.packets.flow
    assert arranged.flow.size == np.count_nonzero(capture.conversations.protocol == 6)
    for c, conversation in enumerate(arranged.flow.tolist()):
        rows = arranged.order[arranged.starts[c] : arranged.starts[c + 1]]
        assert rows.tolist() == np.flatnonzero(flow == conversation).tolist()
