"""Pages and names of servers as they are found in the world."""

import asyncio
import socket

import pytest

from tests.probing.peers import NAME, names, web
from tests.real.peers import lacking
from yaffle.errors import YaffleError
from yaffle.probing.kinds import asked
from yaffle.probing.result_words import line
from yaffle.probing.wanted import Wanted

pytestmark = pytest.mark.skipif(bool(lacking("nginx", "dnsmasq")), reason=lacking("nginx", "dnsmasq") or "-")


def ask(kind, target, **more):
    return asyncio.run(asked(Wanted(kind, target, **more)))[0]


@pytest.fixture
def known(monkeypatch):
    """The name leads to this host."""
    found = socket.getaddrinfo

    def own(host, *more, **words):
        return found("127.0.0.1" if host in (NAME, NAME.encode()) else host, *more, **words)

    monkeypatch.setattr(socket, "getaddrinfo", own)


def test_pages_over_http_and_https(tmp_path, monkeypatch, known):
    with web(tmp_path, 40) as (plain, sealed, ends):
        monkeypatch.setenv("SSL_CERT_FILE", str(tmp_path / "ca.pem"))
        one = ask("page", f"http://{NAME}:{plain}/index.html", text="ferry")
        assert one.ok and one.more["status"] == 200 and one.more["bytes"] == 11
        moved = ask("page", f"http://{NAME}:{plain}/moved")
        assert moved.ok and moved.more["redirects"] == 1
        assert "404" in ask("page", f"http://{NAME}:{plain}/gone").why
        assert ask("page", f"http://{NAME}:{plain}/gone", status=404).ok
        over = ask("page", f"https://{NAME}:{sealed}/index.html")
        assert (
            over.ok
            and over.more["encryption_ms"] > 0
            and over.more["certificate_end_ns"] == int(ends.timestamp()) * 10**9
        )
        assert "not trusted" in ask("page", f"https://127.0.0.1:{sealed}/").why
        monkeypatch.delenv("SSL_CERT_FILE")
        assert "not trusted" in ask("page", f"https://{NAME}:{sealed}/").why
    assert "refused" in ask("page", f"http://{NAME}:{plain}/").why
    assert "http" in ask("page", "ftp://192.0.2.1/").why


def test_one_servers_answer_against_anothers(tmp_path):
    for folder in ("one", "other"):
        (tmp_path / folder).mkdir()
    with names(tmp_path / "one") as port, names(tmp_path / "other", "203.0.113.99") as wrong:
        same, own = f"127.0.0.1:{port}", f"127.0.0.1:{wrong}"
        alike = ask("name", NAME, server=same, against=same)
        assert alike.ok and alike.more["against"]["answers"] == ["203.0.113.22"]
        other = ask("name", NAME, server=same, against=own)
        assert not other.ok and other.why == f"{same} answers 203.0.113.22, {own} answers 203.0.113.99"
    gone = ask("name", NAME, server="127.0.0.1:1", against=own)
    assert not gone.ok and gone.more["against"]["outcome"] == ""


PAGE = """<html><head><base href="/parts/"><link rel="stylesheet" href="sea.css"><link rel="canonical" href="/x">
<script src="boats.js"></script></head><body>ferry<img src="quay.png#top"><img src="quay.png"><img src="data:,x">
<img src="/gone.png"><a href="/elsewhere">more</a>
<iframe src="mailto:desk@harbourline.example"></iframe></body></html>"""


def test_a_page_with_its_elements(tmp_path, known):
    with web(tmp_path, 40) as (plain, _, _):
        (tmp_path / "page.html").write_text(PAGE)
        (tmp_path / "parts").mkdir()
        for name, size in (("sea.css", 3_000), ("boats.js", 20_000), ("quay.png", 90_000)):
            (tmp_path / "parts" / name).write_bytes(bytes(size))
        one = ask("page", f"http://{NAME}:{plain}/page.html", text="ferry", elements=True)
        (tmp_path / "gone.png").write_bytes(b"x")
        whole = ask("page", f"http://{NAME}:{plain}/page.html", elements=True)
    found = {part["url"].rpartition("/")[2]: part for part in one.more["elements"]}
    assert not [part["why"] for part in list(found.values())[:3] if part["why"]]
    assert list(found) == ["sea.css", "boats.js", "quay.png", "gone.png"]
    assert [part["bytes"] for part in found.values()][:3] == [3_000, 20_000, 90_000]
    assert all(0 < part["begin_ms"] <= part["end_ms"] <= one.more["total_ms"] for part in found.values())
    assert not one.ok and one.why.startswith("1 of 4 elements failed") and "404" in one.why
    assert whole.ok and "quay.png" in line(whole) and "90,000 bytes" in line(whole)


def test_a_page_by_a_proxy(tmp_path):
    with web(tmp_path, 40) as (plain, _, _):  # It answers whatever name it is asked for, as a proxy is.
        one = ask("page", "http://nowhere.example/index.html", proxy=f"http://127.0.0.1:{plain}", text="ferry")
        assert one.ok and one.more["status"] == 200 and one.more["connect_ms"] > 0
        assert "name unknown" in ask("page", "http://nowhere.example/").why
    gone = ask("page", "http://nowhere.example/", proxy=f"http://127.0.0.1:{plain}")
    assert gone.why.startswith("the proxy: refused"), gone.why
    assert "a proxy is http" in ask("page", "http://nowhere.example/", proxy="socks9://x").why


def test_an_ended_certificate_is_named_with_its_day(tmp_path, monkeypatch, known):
    with web(tmp_path, -30) as (_, sealed, ends):
        monkeypatch.setenv("SSL_CERT_FILE", str(tmp_path / "ca.pem"))
        one = ask("page", f"https://{NAME}:{sealed}/")
        assert one.why == f"certificate ended on {ends:%Y-%m-%d}" and one.round_trip_ms is None


def test_names_and_what_is_wrong_with_them(tmp_path):
    with names(tmp_path) as port:
        server = f"127.0.0.1:{port}"
        one = ask("name", NAME, server=server)
        assert one.ok and one.more["answers"] == ["203.0.113.22"] and one.more["outcome"] == "NOERROR"
        assert one.more["server"] == server and 0 < one.round_trip_ms < 1000
        mail = ask("name", "harbourline.example", server=server, record="MX", over="tcp")
        assert mail.ok and mail.more["answers"] == [f"10 {NAME}."]
        long = ask("name", "long.harbourline.example", server=server, record="TXT")
        assert long.ok and len(long.more["answers"][0]) > 1000  # Cut short over UDP, whole over TCP.
        gone = ask("name", "nobody.harbourline.example", server=server)
        assert not gone.ok and gone.more["outcome"] == "NXDOMAIN" and "no such name" in gone.why
        refused = ask("name", "elsewhere.example", server=server)
        assert not refused.ok and refused.why
    assert "refused" in ask("name", NAME, server=server).why
    assert "unanswered" in ask("name", NAME, server="192.0.2.77", timeout_s=0.2).why
    for wrong in ({"record": "NOPE"}, {"over": "pigeon"}):
        with pytest.raises(YaffleError):
            ask("name", NAME, server=server, **wrong)
