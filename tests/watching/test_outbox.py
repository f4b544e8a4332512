"""What waits goes out once: grouped, not too often, held during maintenance, tried again."""

from itertools import pairwise

import pytest

from yaffle.watching.book import Book
from yaffle.watching.channels import Channel, NotSentError
from yaffle.watching.event_rows import Event
from yaffle.watching.outbox import Maintenance, Outbox, wanted
from yaffle.watching.watch import Watch

S, NOW = 10**9, 1_795_860_000 * 10**9


class Taking(Channel):
    def send(self, events, more=0):
        if FAILS:
            raise NotSentError("nobody there")
        SENT.append(([one.subject for one in events], more))
        return "taken"


SENT: list = []
FAILS: list = []


@pytest.fixture
def book(tmp_path):
    SENT.clear()
    FAILS.clear()
    own = Book(tmp_path)
    yield own
    own.close()


def raised(subject, at=NOW, state="raised", about="", name="w"):
    return Event(at, name, subject, state, "warning", words="slow", about=about)


def fates(book):
    return [(event.subject, event.words) for _, event, _ in book.unwritten() if event.state == "notice"]


def test_from_five_on_they_go_together(book):
    outbox = Outbox(book, {"c": Taking("c", "webhook")})
    with book.together():
        book.send([("c", raised(f"s{k}")) for k in range(4)], NOW)
    assert outbox.go_through(NOW) == 0  # What trips at the same time is waited for.
    assert outbox.go_through(NOW + 2 * S) == 4 and all(len(subjects) == 1 for subjects, _ in SENT)
    with book.together():
        book.send([("c", raised(f"t{k}")) for k in range(60)], NOW + 3 * S)
    assert outbox.go_through(NOW + 5 * S) == 1
    assert len(SENT[-1][0]) == 50 and SENT[-1][1] == 10
    assert len(fates(book)) == 64 and not book.waiting()


def test_not_more_than_so_many_a_minute_and_none_is_lost(book):
    outbox = Outbox(book, {"c": Taking("c", "webhook", most_per_minute=2)})
    for k in range(12):
        with book.together():
            book.send([("c", raised(f"s{k}"))], NOW + k * 4 * S)
        outbox.go_through(NOW + k * 4 * S + 2 * S)
    assert len(SENT) == 2
    outbox.go_through(NOW + 70 * S)
    assert [one for subjects, _ in SENT for one in subjects] == [f"s{k}" for k in range(12)] and len(SENT) == 3


def test_it_is_tried_again_with_growing_pauses(book):
    outbox = Outbox(book, {"c": Taking("c", "webhook")})
    FAILS.append(1)
    with book.together():
        book.send([("c", raised("a"))], NOW)
    tries = []
    for second in range(1, 1200):
        before = book.waiting()[0].tries
        outbox.go_through(NOW + second * S)
        if book.waiting()[0].tries > before:
            tries.append(second)
    pauses = [b - a for a, b in pairwise(tries)]
    assert len(tries) > 6 and pauses[0] <= 4 and pauses[-1] > 100 and max(pauses) <= 361
    assert book.waiting()[0].trouble == "nobody there"
    FAILS.clear()
    outbox.go_through(NOW + 1700 * S)
    assert SENT == [(["a"], 0)] and fates(book)[0][1].endswith("sent by c: taken")


def test_maintenance_holds_and_what_was_over_by_then_is_not_sent(book):
    quiet = Maintenance("works", NOW, NOW + 600 * S)
    outbox = Outbox(book, {"c": Taking("c", "webhook")}, [quiet])
    first, second = raised("a"), raised("b")
    with book.together():
        book.send([("c", first), ("c", second)], NOW)
    outbox.go_through(NOW + 10 * S)
    with book.together():
        book.send([("c", raised("a", NOW + 60 * S, "cleared", first.id))], NOW + 60 * S)
    outbox.go_through(NOW + 70 * S)
    assert not SENT
    assert {subject for subject, words in fates(book) if "began and ended during maintenance" in words} == {"a"}
    outbox.go_through(NOW + 602 * S)
    assert SENT == [(["b"], 0)]


def test_a_weekly_maintenance_and_whom_it_is_about():
    weekly = Maintenance("night", day=5, minutes=(540, 660), subjects="^core")  # NOW is a Saturday, 10:00.
    event = raised("core-1")
    assert weekly.end(event, NOW) == NOW + 3600 * S and weekly.end(event, NOW + 3600 * S) == 0
    assert weekly.end(raised("desk"), NOW) == 0
    assert weekly.end(event, NOW + 86_400 * S) == 0


def test_what_is_acknowledged_sends_nothing_more(book):
    outbox = Outbox(book, {"c": Taking("c", "webhook")})
    first = raised("a")
    with book.together():
        book.hold("acknowledged", [first.id])
        book.send([("c", raised("a", NOW, "cleared", first.id))], NOW)
    outbox.go_through(NOW + 5 * S)
    assert not SENT and "it was acknowledged" in fates(book)[0][1]


def test_who_is_told_goes_by_severity_subject_day_and_hour():
    own = {
        "all": Channel("all", "webhook"),
        "critical": Channel("critical", "webhook", severities=("critical",)),
        "pier": Channel("pier", "webhook", subjects="^pier"),
        "night": Channel("night", "webhook", hours=(22 * 60, 6 * 60)),
        "day": Channel("day", "webhook", hours=(6 * 60, 22 * 60)),
        "monday": Channel("monday", "webhook", days=(0,)),
    }
    watch = Watch("w", "volume", notify=tuple(own))
    hour = (NOW // (3600 * S)) % 24
    assert wanted(own, watch, raised("pier 3")) == ["all", "pier", "night" if hour >= 22 or hour < 6 else "day"]
    assert wanted(own, watch, raised("pier 3", state="unknown")) == []
