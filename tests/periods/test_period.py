"""A period of a history: what was waited for and where, what was carried, what happened; as pages; by command; sent."""

import asyncio
import json
import subprocess
import sys
import time
from dataclasses import replace
from email import message_from_bytes

import html5lib
import numpy as np
import pypdfium2
import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.handlers import Message

from tests.ports import free_port
from tests.session.kept_history import DAYS, EVENING, QUICK_NS, START_NS, write_kept
from yaffle.collector.configuration import read_configuration
from yaffle.collector.report_configuration import Reporting
from yaffle.collector.report_task import FILE, _make
from yaffle.collector.report_task import _last_due as last_due
from yaffle.desktop.report.period_figures import period_figures
from yaffle.errors import YaffleError
from yaffle.history.layout import DAY_NS, EVENTS, HOUR_NS
from yaffle.history.writer import HistoryWriter
from yaffle.ledger import causes
from yaffle.periods.pages import WAITS, period_page
from yaffle.periods.period import period_of
from yaffle.programs.case import open as open_evidence
from yaffle.units import day
from yaffle.watching.event_rows import Event, table_of
from yaffle.watching.service_levels import LevelKept, ServiceLevel, keep_levels

LEVEL = ServiceLevel("desks", "wait_median", "site", "", "above", 1000.0, 99.0, HOUR_NS)


@pytest.fixture(scope="module")
def kept(tmp_path_factory):
    folder = write_kept(tmp_path_factory.mktemp("kept") / "h")
    keep_levels(folder, [LEVEL])
    raised = Event(START_NS + 5 * HOUR_NS, "line", "line 1", "raised", "critical", 97.0, 90.0, "%", "it is full")
    over = Event(
        START_NS + 7 * HOUR_NS, "line", "line 1", "cleared", "critical", 3.0, 90.0, "%", "over", about=raised.id
    )
    effect = Event(
        START_NS + 7 * HOUR_NS, "line", "line 1", "effect", "critical", words="limit helped", about=raised.id
    )
    writer = HistoryWriter(folder, now_ns=lambda: START_NS + 4 * DAY_NS, settle=False)
    writer.append_rows(EVENTS, table_of([raised, over, effect]))
    writer.close()
    return folder


@pytest.fixture(scope="module")
def period(kept):
    return period_of(open_evidence(kept).opened, "all")


def test_waits_are_those_that_were_kept(period):
    (one,) = period.waits.applications
    assert (one.application, one.exchanges, one.clients) == ("remote desktop", DAYS * 144 * 20, 2)
    assert abs(one.median_ns / QUICK_NS - 1) < 0.02
    assert sum(site.exchanges for site in period.waits.by_site) == one.exchanges
    assert np.isclose(sum(float(site.parties.sum()) for site in period.waits.by_site), float(one.parties.sum()))
    assert one.parties[causes.PARTIES.index(causes.NETWORK)] > 0


def test_what_happened_is_counted_with_how_long_it_lasted(period):
    (one,) = period.happened.noticed
    assert (one.watch, one.times, one.lasted_ns) == ("line", 1, 2 * HOUR_NS)
    assert [effect.words for effect in period.happened.effects] == ["limit helped"]


def test_hours_of_a_weekly_rhythm_that_break_it_are_the_worst(tmp_path):
    from tests.periods.rhythm import BAD_HOURS, MONDAY_NS, write_weeks

    found = period_of(open_evidence(write_weeks(tmp_path / "h")).opened, "last week")
    assert found.span.first_ns == MONDAY_NS
    assert {one.first_ns for one in found.waits.bad_hours} == set(BAD_HOURS)
    assert {(one.application, one.site, one.party) for one in found.waits.bad_hours} == {("desk", "pier", "network")}
    assert found.waits.by_site[0].change.words(found.waits.by_site[0].median_ns) == "as the baseline"


def test_pages_are_valid_html_and_tell_what_matters(period, qapp):
    figures = period_figures(period, lambda *_: True)
    assert figures[WAITS][0].sentence.startswith("wait median over months")
    page = period_page(period, figures, title="The piers' week")
    tree = html5lib.HTMLParser(strict=True, namespaceHTMLElements=False).parse(page)
    text = " ".join(tree.itertext())
    for words in ("remote desktop", "limit helped", "desks", "Summary", "Method and limits", "The piers' week"):
        assert words in text
    assert all(image.get("alt") for image in tree.iter("img") if image.get("class") != "logo")


def test_a_period_without_a_history_or_without_anything_is_said(analysed_morning, tmp_path):
    from tests.history.two_weeks import write_two_weeks
    from yaffle.session.investigation import Opened

    with pytest.raises(YaffleError, match="of a history"):
        period_of(Opened(analysed_morning), "all")
    found = period_of(open_evidence(write_two_weeks(tmp_path / "h", days=3)).opened, "last 24 h")
    assert found.waits is None and found.traffic is not None
    carried = found.traffic.by["application"]
    assert sum(one.share for one in carried) <= 1 + 1e-9 and carried[0].octets > 0
    assert "Traffic" in period_page(found, {})


def test_the_command_writes_html_and_pdf(kept, tmp_path):
    for name in ("week.html", "week.pdf"):
        command = [
            sys.executable,
            "-m",
            "yaffle",
            "report",
            str(kept),
            "--period",
            "all",
            "--out",
            str(tmp_path / name),
        ]
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr
    assert "remote desktop" in (tmp_path / "week.html").read_text()
    document = pypdfium2.PdfDocument(tmp_path / "week.pdf")
    assert 2 <= len(document) <= 5
    document.close()
    command = [sys.executable, "-m", "yaffle", "report", str(kept), "--out", str(tmp_path / "week.doc")]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 2 and "ends in .html or .pdf" in done.stderr


class _Kept(Message):
    def __init__(self):
        super().__init__()
        self.messages = []

    def handle_message(self, message):
        self.messages.append(message_from_bytes(message.as_bytes()))


def test_a_collector_makes_what_was_due_and_sends_it(kept, tmp_path):
    handler = _Kept()
    server = Controller(handler, hostname="127.0.0.1", port=free_port(), ready_timeout=10)
    server.start()
    port = server.server.sockets[0].getsockname()[1]
    (kept / FILE).write_text(json.dumps({"week": time.time() - 3 * 86_400}))
    path = tmp_path / "c.toml"
    path.write_text(
        f'''history = "{kept}"
[[notify]]
name = "office"
kind = "mail"
url = "smtp://127.0.0.1:{port}"
from = "yaffle@harbourline.example"
to = ["office@harbourline.example"]
[[service_level]]
name = "desks"
measure = "wait_median"
of = "site"
over = "1h"
above = 1000
target = 99
[[report]]
name = "week"
at = "0 * * * *"
period = "last week"
format = "html"
title = "The piers' week"
mail = "office"
into = "out"
'''
    )
    collector = subprocess.Popen([sys.executable, "-m", "yaffle", "collect", str(path)], stderr=subprocess.PIPE)
    until = time.monotonic() + 90
    while not handler.messages and time.monotonic() < until:
        assert collector.poll() is None
        time.sleep(0.2)
    time.sleep(1.0)
    collector.terminate()
    collector.communicate(timeout=30)
    server.stop()
    (message,) = handler.messages
    assert message["To"] == "office@harbourline.example" and "The piers' week" in message["Subject"]
    (attached,) = [part for part in message.walk() if part.get_filename()]
    (written,) = (tmp_path / "out").iterdir()
    assert attached.get_filename() == written.name and attached.get_payload(decode=True) == written.read_bytes()
    assert json.loads((kept / FILE).read_text())["week"] > time.time() - 60


def test_a_report_that_is_made_late_is_of_the_period_that_it_was_due_for(kept, tmp_path):
    due_s = (START_NS + 2 * DAY_NS) / 1e9 + 6 * 3600
    told = Reporting(name="days", period="yesterday", format="html", into=str(tmp_path))
    asyncio.run(_make(told, None, kept, due_s))
    (written,) = tmp_path.glob("days-*.html")
    first, last = (day(START_NS + k * DAY_NS) for k in (1, 2))
    assert f"Yesterday: {first} 00:00 to {last} 00:00" in " ".join(written.read_text().split())


def test_levels_of_which_nothing_was_measured_were_not_kept(period):
    level, none = ServiceLevel("desks", "wait_median", "site"), ((), ())
    told = [LevelKept(level, "pier", 100, 0, 0, *none), LevelKept(level, "quay", 0, 0, 100, *none)]
    text = " ".join(
        html5lib.parse(period_page(replace(period, levels=told), {}), namespaceHTMLElements=False).itertext()
    )
    assert "0 of 2 service levels missed; 1 not measured." in text
    assert "1 without a violation; 1 not measured." in text


def test_a_schedule_knows_when_it_was_due_last():
    monday = 1_773_619_200.0  # 2026-03-16 00:00 UTC
    assert last_due("0 6 * * mon", monday + 7 * 3600) == monday + 6 * 3600
    assert last_due("0 6 * * mon", monday + 5 * 3600) == monday + 6 * 3600 - 7 * 86_400


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('[[report]]\nname = "w"\nat = "every monday"', "minute, hour, day"),
        ('[[report]]\nname = "w"\nperiod = "next week"', "one of yesterday"),
        ('[[report]]\nname = "../w"', "report.0.name"),
        ('[[report]]\nname = "w"\nmail = "office"', "no [[notify]] of kind mail"),
        ('[[report]]\nname = "w"\nformat = "doc"', "one of pdf, html"),
        ('[[service_level]]\nname = "l"\nmeasure = "nope"\nabove = 3', "measure of the catalogue"),
        ('[[service_level]]\nname = "l"\nmeasure = "wait_p95"', "one of both"),
        ('[[service_level]]\nname = "l"\nmeasure = "wait_p95"\nabove = 3\nof = "interface"', "of: wait_p95 is told by"),
        ('[[service_level]]\nname = "l"\nmeasure = "wait_p95"\nabove = 3\nwhere = "nope = 1"', "where"),
        ('[[service_level]]\nname = "l"\nmeasure = "wait_p95"\nabove = 3\ntarget = 100', "less than 100"),
    ],
)
def test_a_wrong_configuration_is_said_with_its_line(tmp_path, text, words):
    path = tmp_path / "c.toml"
    path.write_text(f'history = "h"\n{text}\n')
    with pytest.raises(YaffleError) as told:
        read_configuration(path)
    assert words in str(told.value) and f"{path}:" in str(told.value)


def test_evenings_stand_among_what_is_long(period):
    hours = {(one.first_ns - START_NS) // HOUR_NS % 24 for one in period.waits.bad_hours}
    assert hours <= {EVENING}
