import re

import numpy as np
import pytest

from tests.frames import ACK, PSH, C, S, Talk, ether, pcap, udp
from yaffle.analysis import analyse
from yaffle.capture.masking import Masker
from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.ledger import causes
from yaffle.report.answer import answer, write_whole
from yaffle.report.document import document
from yaffle.report.html import render
from yaffle.report.ledger_picture import ledger_picture


def slow_talk():
    talk = Talk().open()
    for k in range(3):
        talk.send(0, 100 + 2000 * k, 200, ACK | PSH)
        talk.send(1, 110 + 2000 * k)
        talk.send(1, 1500 + 2000 * k, 900, ACK | PSH)
        talk.send(0, 1500.1 + 2000 * k)
    return talk.close(9000)


def test_names_from_a_capture_cannot_write_into_the_page(tmp_path):
    path = tmp_path / "a.pcapng"
    frames = [(t, len(f), f) for t, f in sorted(slow_talk().out)]
    write_pcapng(
        path,
        frames,
        names={S: "<script>alert(1)</script>.quay-house.harbourline.example", C: "desk-1.<b>.harbourline.example"},
    )
    page = render(analyse([path]))
    assert "<script>" not in page
    assert "&lt;script&gt;" in page
    assert "<b>." not in page


def test_the_page_says_what_the_answer_says(tmp_path):
    analysis = analyse([slow_talk().write(tmp_path / "a.pcap")])
    page, text = render(analysis), answer(analysis)
    assert "3 exchanges" in text
    assert "3 exchanges" in page
    sentence = document(analysis)["findings"][0]["sentence"]
    assert sentence in " ".join(text.split())
    assert "http" not in re.sub(r"http://www\.w3\.org/\S+", "", page)


def test_a_masked_page_names_no_host_and_no_file_and_says_what_masking_cannot_do(tmp_path):
    path = tmp_path / "harbourline-northpoint.pcapng"
    write_pcapng(path, [(t, len(f), f) for t, f in sorted(slow_talk().out)], names={S: "tickets.harbourline.example"})
    page = render(analyse([path]), masker=Masker(b"k" * 16))
    assert "harbourline" not in page and S not in page
    assert "capture 1" in page and "may recognize" in page


def test_the_ledger_bar_is_as_wide_as_its_share(tmp_path):
    charges = np.zeros(causes.COUNT, np.int64)
    charges[causes.LOSS], charges[causes.PROCESSING] = 250, 750
    widths = [float(w) for w in re.findall(r'width="([\d.]+)" height', ledger_picture(charges, 2000.0, width=400))]
    assert widths[1:] == [50.0, 150.0] or widths == [50.0, 150.0]
    assert ledger_picture(np.zeros(causes.COUNT, np.int64), 0) == ""


def test_a_capture_without_waits_is_told_without_a_finding(tmp_path):
    analysis = analyse([pcap(tmp_path / "a.pcap", [(k, ether(udp(C, 5000, S, 53, b"q"))) for k in range(5)])])
    assert "No finding" in answer(analysis)
    assert "Nothing here is slow" in render(analysis)
    content = document(analysis, 1e6)
    assert content["connections"] == []
    assert content["conversations"][0]["from_client"]["packets"] == 5
    assert content["line"]["line_bps"] == 1e6


def test_numbers_of_the_document_fit_together(tmp_path):
    content = document(analyse([slow_talk().write(tmp_path / "a.pcap")]))
    connection = content["connections"][0]
    assert sum(x["wait_ms"] for x in content["exchanges"]) == pytest.approx(connection["wait_ms"])
    assert connection["exchanges"] == len(content["exchanges"]) == 3
    for x in content["exchanges"]:
        assert x["first_ns"] <= x["asked_ns"] <= x["answered_ns"] <= x["last_ns"]
        assert x["connection"] == 0
    assert (
        connection["round_trip_ms"]["min"]
        <= connection["round_trip_ms"]["median"]
        <= connection["round_trip_ms"]["max"]
    )


def test_a_file_is_written_whole_or_not_at_all(tmp_path):
    path = tmp_path / "out.txt"
    path.write_text("before")
    with pytest.raises(UnicodeEncodeError):
        write_whole(path, "\ud800")
    assert path.read_text() == "before"
