"""Devices that say what is plugged into them, in the map."""

import pyarrow as pa
import pytest

from tests.findings.test_whereabouts import at, held
from yaffle.analysis import analyse
from yaffle.history.layout import NEIGHBOURS, TEXTS
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.session.investigation import Investigation, Opened
from yaffle.session.map_neighbours import cables
from yaffle.session.map_view import map_picture


@pytest.fixture
def history(tmp_path):
    """A switch and a router that name each other, a phone that nobody asks, and a host by its hardware address."""
    writer = HistoryWriter(tmp_path, settle=False)
    told = {
        "time_ns": [at(0)] * 2,
        "device": ["192.0.2.1", "192.0.2.2"],
        "name": ["name"] * 2,
        "text": ["quay", "pier"],
    }
    writer.append_rows(TEXTS, pa.table(told))
    writer.close()
    held(
        tmp_path, NEIGHBOURS,
        ("192.0.2.1", "port 1", "pier", "uplink", at(0), at(50)),
        ("192.0.2.2", "uplink", "quay", "port 1", at(0), at(50)),
        ("192.0.2.1", "port 2", "phone", "lan", at(0), at(50)),
        ("192.0.2.1", "port 3", "02:00:00:00:00:09", "", at(0), at(50)),
        ("192.0.2.1", "port 4", "crane", "eth0", at(0), at(5)),
    )  # fmt: skip
    return tmp_path


def test_both_ends_name_one_cable(history):
    assert cables(History(history), at(10), at(60)) == [
        ("192.0.2.1", "192.0.2.2", "port 1 to uplink"),
        ("192.0.2.1", "phone", "port 2 to lan"),
    ]
    assert len(cables(History(history), at(0), at(60))) == 3
    assert cables(None, 0, 1) == []


def test_they_stand_in_the_map(history):
    model = Investigation()
    model.open(Opened(analyse([history])))
    picture = map_picture(model.scene)
    words = {(one.one, one.two): one.words for one in picture.links}
    assert {"LLDP: port 1 to uplink", "LLDP: port 2 to lan", "LLDP: port 4 to eth0"} == set(words.values())
    assert {place.label for place in picture.places} >= {"192.0.2.1", "192.0.2.2", "phone"}
    assert {place.words for place in picture.places} == {"device"}
