"""Delay on the path, as exporters tell it of flows: by the usual numbers, by others, in a history, in a document."""

from struct import pack

import numpy as np
import pytest

from tests.frames import ether, pcap, udp
from tests.records.messages import a_set, ipfix, template
from yaffle.analysis import analyse
from yaffle.history.layout import HOPS
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.hops.on_path import path_delay_rows, path_delays
from yaffle.records.catalogue import CATALOGUE
from yaffle.records.intake import Intake
from yaffle.report.document import document
from yaffle.session import kept_stretches
from yaffle.watching.member_values import Question, values
from yaffle.watching.windows import Windows

S = 10**9
NOW = 1_790_000_000 * S
FIELDS = [(8, 4), (12, 4), (7, 2), (11, 2), (4, 1), (2, 4), (1, 8), (152, 8), (153, 8)]
ENDS = bytes([198, 51, 100, 1, 203, 0, 113, 2]) + pack("!HHBIQQQ", 1234, 443, 6, 10, 900, NOW // 10**6, NOW // 10**6)


def message(elements, *delays):
    fields = FIELDS + [(element, 4) for element in elements]
    records = b"".join(ENDS + pack(f"!{len(own)}I", *own) for own in delays)
    return ipfix([template(300, fields), a_set(300, records)])


def taken(data, **more):
    intake = Intake(**more)
    assert intake.take(NOW, "192.0.2.9", data)
    return intake.finish()


@pytest.mark.parametrize("numbers", [(521, 522, 523, 524), (601, 602, 603, 604)])
def test_mean_least_most_and_sum(numbers):
    found = taken(message(numbers, (150, 100, 900, 1500), (20, 10, 30, 200)), path_delay=numbers)
    first, second = path_delays(found)
    assert (first.exporter, first.least_us, first.mean_us, first.most_us) == ("192.0.2.9", 100, 150, 900)
    assert (second.mean_us, second.flow.src, second.flow.dst_port, second.packets) == (20, "198.51.100.1", 443, 10)
    assert not list(path_delays(taken(message(numbers, (1, 1, 1, 1)), path_delay=(1001, 1002, 1003, 1004))))


def test_the_sum_alone_gives_the_mean_and_what_is_not_told_is_not_known():
    (one,) = path_delays(taken(message((524,), (1500,))))
    assert one.mean_us == 150 and np.isnan(one.least_us) and np.isnan(one.most_us)


def test_a_history_answers_by_exporter_beside_what_nodes_told(tmp_path):
    rows = path_delay_rows(taken(message((521, 523), (150, 900), (20, 2500))))
    assert rows["delay_mean_us"].to_pylist() == [150, 20] and rows["delay_min_us"].to_pylist() == [None, None]
    writer = HistoryWriter(tmp_path / "history", settle=False)
    writer.append_rows(HOPS, rows)
    writer.close()
    history, entry = History(tmp_path / "history"), CATALOGUE["path_delay"]
    found = values(Windows(history), Question(entry, "exporter"), NOW - S, 2 * S).of
    assert {name: own.tolist() for name, own in found.items()} == {"192.0.2.9": [2500]}
    assert values(Windows(history), Question(entry), NOW - S, 2 * S).of["all"].tolist() == [2500]
    assert not values(Windows(history), Question(CATALOGUE["hop_delay"], "node"), NOW - S, 2 * S).of
    assert kept_stretches.names(history, entry) == ["192.0.2.9"]


def test_a_capture_of_export_traffic_shows_them(tmp_path):
    frames = [(NOW, ether(udp("192.0.2.9", 4000, "192.0.2.1", 4739, message((521, 522, 523), (150, 100, 900)))))]
    (one,) = document(analyse([pcap(tmp_path / "export.pcap", frames)]))["hops"]["path_delays"]
    assert one["delay_us"] == {"min": 100, "mean": 150, "max": 900} and one["exporter"] == "192.0.2.9"
