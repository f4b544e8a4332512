"""The page that goes out: sections as the user arranged them, valid HTML, PDF."""

import re
import zlib
from itertools import pairwise

import html5lib
import pypdfium2
import pytest

from yaffle.capture.masking import Masker
from yaffle.errors import YaffleError
from yaffle.report.figure import Figure
from yaffle.report.html import prepared, render
from yaffle.report.paper import pdf_of
from yaffle.report.plan import Letterhead, ReportPlan
from yaffle.report.sections import Said
from yaffle.session.letterhead import load_letterhead, save_letterhead, with_logo
from yaffle.session.reporting import write_page

PNG = bytes.fromhex(
    "89504e470d0a1a0a0000000d49484452000000010000000108060000001f15c4890000000d49444154789c6360f8cf500f0003860180"
    "5a34e97d0000000049454e44ae426082"
)
SVG = '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><text>198.51.100.7</text><text>198.51.1…</text></svg>'


def headings(page):
    tree = html5lib.parse(page, namespaceHTMLElements=False)
    return [one.text for one in tree.iter() if one.tag in ("h2", "h3")]


def test_sections_stand_in_the_users_order_reworded_and_left_out(analysed_morning):
    usual = headings(render(analysed_morning))
    assert usual[0] == "Answer" and usual[1].startswith("1. ticket database") and "Appendix" in usual
    keys = [one.key for one in prepared(analysed_morning).shown({}).sections]
    plan = ReportPlan("For the database team", order=(keys[2], "answer", keys[1], *keys[3:]),
                      left_out=("method", keys[3]),
                      words={"answer": "It is the <database>.\nAsk them."})  # fmt: skip
    page = render(analysed_morning, plan=plan)
    found = headings(page)
    assert found[:2] == [usual[2], "Answer"] and usual[3] not in found and "Method and limits" not in found
    assert "<title>For the database team</title>" in page and "It is the &lt;database&gt;.<br>Ask them." in page


def test_pinned_findings_only_and_none_pinned_is_said(analysed_morning):
    key = prepared(analysed_morning).pictured[1].key
    only = ReportPlan(pinned_only=True)
    assert [f.key for f in prepared(analysed_morning, Said(pinned=(key,)), plan=only).pictured] == [key]
    assert "No finding was pinned." in render(analysed_morning, plan=only)


def test_what_was_said_of_findings_holds_when_names_are_masked(analysed_morning):
    first, second = prepared(analysed_morning).pictured[:2]
    said = Said(dismissed={first.key: "known"}, remarks={second.key: "told the team"})
    plan = ReportPlan(words={f"finding/{second.key}": "Names are slow."})
    basis = prepared(analysed_morning, said, Masker(b"k" * 16), plan)
    told = basis.pictured
    assert len(told) == len(prepared(analysed_morning, said).pictured)
    assert (told[0].cause == second.cause and told[0].key != second.key) or second.subject == told[0].subject
    page = basis.page({told[0].key: [Figure(SVG, "for 198.51.100.7", "see 198.51.100.7")]})
    assert "told the team" in page and "Names are slow." in page and "198.51.100.7" not in page


def test_figures_are_masked_and_texts_that_were_cut_are_left_out():
    figure = Figure(SVG, "198.51.100.7", "").masked(Masker(b"k" * 16))
    assert "198.51" not in figure.svg and "<text>…</text>" in figure.svg and figure.alt != "198.51.100.7"


def test_the_page_is_valid_html_with_a_text_for_every_figure(analysed_morning):
    found = prepared(analysed_morning).pictured
    page = prepared(analysed_morning).page({found[0].key: [Figure(SVG, 'a "figure"', "sentence")]})
    parser = html5lib.HTMLParser(strict=True, namespaceHTMLElements=False)
    tree = parser.parse(page)
    images = [one for one in tree.iter() if one.tag == "img"]
    assert [one.get("alt") for one in images] == ['a "figure"']
    levels = [int(one.tag[1]) for one in tree.iter() if one.tag in ("h1", "h2", "h3")]
    assert levels[0] == 1 and all(b - a <= 1 for a, b in pairwise(levels))
    assert not [one for one in tree.iter() if one.tag in ("script", "link")]


def test_a_pdf_has_page_numbers_headings_and_embedded_fonts(analysed_morning):
    data = pdf_of(render(analysed_morning))
    document = pypdfium2.PdfDocument(data)
    last = document[len(document) - 1].get_textpage().get_text_range()
    assert f"{len(document)} of {len(document)}" in last
    assert "Answer" in [mark.get_title() for mark in document.get_toc()]
    streams = re.findall(rb"stream\r?\n(.*?)\r?\nendstream", data, re.DOTALL)
    assert any(b"/FontFile" in zlib.decompressobj().decompress(one) for one in streams if one[:1] == b"x")
    document.close()


def test_nothing_is_fetched_from_elsewhere(analysed_morning, monkeypatch):
    import socket

    monkeypatch.setattr(socket.socket, "connect", lambda *_: pytest.fail("it connects"))
    assert pdf_of('<img src="http://192.0.2.1/x.png"><img src="file:///etc/passwd"><p>text').startswith(b"%PDF")


def test_a_letterhead_is_kept_apart_from_cases(tmp_path, monkeypatch, analysed_morning):
    monkeypatch.setenv("YAFFLE_CONFIG_DIR", str(tmp_path))
    assert load_letterhead() == Letterhead()
    (tmp_path / "logo.png").write_bytes(PNG)
    made = with_logo(Letterhead(address="Harbourline Ferries\nQuay House"), tmp_path / "logo.png")
    save_letterhead(made)
    assert load_letterhead() == made
    page = render(analysed_morning, letterhead=load_letterhead())
    assert "data:image/png;base64," in page and "Harbourline Ferries<br>Quay House" in page
    (tmp_path / "letterhead.json").write_text("[]")
    assert load_letterhead() == Letterhead()


def test_what_is_no_picture_is_refused(tmp_path):
    (tmp_path / "logo.png").write_text("<svg onload='x'>")
    (tmp_path / "logo.svg").write_text("<svg/>")
    for name in ("logo.png", "logo.svg", "gone.png"):
        with pytest.raises(YaffleError, match=name):
            with_logo(Letterhead(), tmp_path / name)


def test_another_ending_is_refused_and_a_folder_that_cannot_be_written_is_told(tmp_path):
    with pytest.raises(YaffleError, match=r"ends in \.html or \.pdf"):
        write_page("<p>", tmp_path / "r.doc")
    with pytest.raises(YaffleError, match="cannot be written"):
        write_page("<p>", tmp_path / "gone" / "r.html")
