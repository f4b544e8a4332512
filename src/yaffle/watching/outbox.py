"""Sends what waits: grouped when many tripped together, tried again with growing pauses, held during maintenance, not
more than so many a minute. What became of each notice is an event itself.
"""

import random
import re
from collections import defaultdict, deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from yaffle.errors import YaffleError
from yaffle.units import duration
from yaffle.watching.book import Book, Waiting
from yaffle.watching.channels import Channel
from yaffle.watching.event_rows import CLEARED, NOTICE, Event
from yaffle.watching.states import RAISED
from yaffle.watching.watch import Watch

GROUPED_FROM = 5
_NS, _MINUTE_NS = 10**9, 60 * 10**9
_TOGETHER_NS = _NS  # So long it is waited for what trips at the same time.
_FIRST_PAUSE_S, _LONGEST_PAUSE_S = 2.0, 300.0
_GIVEN_UP_NS = 3 * 86_400 * _NS


@dataclass(frozen=True)
class Maintenance:
    """An announced time in which notices are held. from_ns, to_ns: once; day, minutes: each week (0 Monday, UTC)."""

    words: str = ""
    from_ns: int = 0
    to_ns: int = 0
    day: int = -1
    minutes: tuple[int, int] = (0, 0)
    subjects: str = ""

    def end(self, event: Event, now_ns: int) -> int:
        """When it ends, where it holds an event now; 0 else."""
        if self.subjects and not re.search(self.subjects, event.subject):
            return 0
        if self.from_ns <= now_ns < self.to_ns:
            return self.to_ns
        if self.day >= 0:
            now = datetime.fromtimestamp(now_ns / _NS, UTC)
            minute = now.hour * 60 + now.minute
            if now.weekday() == self.day and self.minutes[0] <= minute < self.minutes[1]:
                return now_ns + (self.minutes[1] - minute) * _MINUTE_NS
        return 0


def wanted(channels: Mapping[str, Channel], watch: Watch, event: Event) -> list[str]:
    """Who is told of an event of a watch: what is raised, over, corrected or happened; not that it is not known."""
    if event.state == "unknown":
        return []
    found = []
    for name in watch.notify:
        own = channels.get(name)
        if own is None or (own.severities and event.severity not in own.severities):
            continue
        if own.subjects and not re.search(own.subjects, event.subject):
            continue
        when = datetime.fromtimestamp(event.time_ns / _NS, UTC)
        minute = when.hour * 60 + when.minute
        if own.hours is not None and not _within(minute, own.hours):
            continue
        if own.days and when.weekday() not in own.days:
            continue
        found.append(name)
    return found


def _within(minute: int, hours: tuple[int, int]) -> bool:
    low, high = hours
    return low <= minute < high if low <= high else minute >= low or minute < high


class Outbox:
    """Sends from the book. acknowledged: alerts, by the event that raised them, of which nothing more is told."""

    def __init__(self, book: Book, channels: Mapping[str, Channel], maintenance: Sequence[Maintenance] = ()) -> None:
        self._book, self._channels, self._maintenance = book, channels, maintenance
        self._sent: dict[str, deque[int]] = defaultdict(deque)  # when, by channel

    def go_through(self, now_ns: int) -> int:
        """Sends what is due; how many notices went out. Raises sqlite3.Error."""
        by_channel: dict[str, list[Waiting]] = defaultdict(list)
        for one in self._book.waiting():
            by_channel[one.channel].append(one)
        count = 0
        for name, waiting in by_channel.items():
            channel = self._channels.get(name)
            if channel is None:
                self._fate([one.number for one in waiting], [one.event for one in waiting], name,
                           "not sent: there is no such channel any more", now_ns)  # fmt: skip
                continue
            held = self._held(waiting, now_ns)
            due = [one for one in held if one.due_ns <= now_ns]
            if due and (due[0].tries or now_ns - due[0].due_ns >= _TOGETHER_NS):
                count += self._send(channel, due, now_ns)
        return count

    def _held(self, waiting: list[Waiting], now_ns: int) -> list[Waiting]:
        """Those that no maintenance holds; what began and ended within one is only written down."""
        ends = {one.number: max((m.end(one.event, now_ns) for m in self._maintenance), default=0) for one in waiting}
        acknowledged: list[str] = self._book.held("acknowledged") or []
        silenced = [one for one in waiting if one.event.state == CLEARED and one.event.about in acknowledged]
        self._fate([one.number for one in silenced], [one.event for one in silenced], "",
                   "not sent: it was acknowledged", now_ns)  # fmt: skip
        rest = [one for one in waiting if one not in silenced]
        over = {one.event.about: one for one in rest if one.event.state == CLEARED}
        raised = {one.event.id: one for one in rest if one.event.state == RAISED}
        pairs = [pair for key in over.keys() & raised.keys() if ends[raised[key].number]
                 for pair in (raised[key], over[key])]  # fmt: skip
        self._fate([one.number for one in pairs], [one.event for one in pairs], "",
                   "not sent: it began and ended during maintenance", now_ns)  # fmt: skip
        for one in rest:
            if ends[one.number] > now_ns and one.due_ns < ends[one.number] and one not in pairs:
                with self._book.together():
                    self._book.put_off([one.number], ends[one.number], "held during maintenance")
        return [one for one in rest if one not in pairs and not ends[one.number]]

    def _send(self, channel: Channel, due: list[Waiting], now_ns: int) -> int:
        sent = self._sent[channel.name]
        while sent and now_ns - sent[0] >= _MINUTE_NS:
            sent.popleft()
        groups = [due] if len(due) >= GROUPED_FROM else [[one] for one in due]
        room = channel.most_per_minute - len(sent)
        if room <= 0:
            return 0  # They wait; once there is room they go out together.
        if len(groups) > room:
            groups = [*groups[: room - 1], [one for group in groups[room - 1 :] for one in group]]
        count = 0
        for group in groups:
            events = [one.event for one in group]
            listed, more = events[:50], max(0, len(events) - 50)
            numbers = [one.number for one in group]
            try:
                words = channel.send(listed, more)
            except YaffleError as error:
                self._try_again(channel, group, str(error), now_ns)
                break
            sent.append(now_ns)
            self._fate(numbers, events, channel.name, f"sent by {channel.name}: {words}", now_ns)
            count += 1
        return count

    def _try_again(self, channel: Channel, group: list[Waiting], trouble: str, now_ns: int) -> None:
        tries = group[0].tries + 1
        old = [one for one in group if now_ns - one.event.time_ns > _GIVEN_UP_NS]
        self._fate([one.number for one in old], [one.event for one in old], channel.name,
                   f"given up by {channel.name} after {duration(_GIVEN_UP_NS)}: {trouble}", now_ns)  # fmt: skip
        pause_s = min(_LONGEST_PAUSE_S, _FIRST_PAUSE_S * 2 ** (tries - 1)) * random.uniform(0.8, 1.2)
        with self._book.together():
            self._book.put_off([one.number for one in group if one not in old], now_ns + int(pause_s * _NS), trouble)

    def _fate(self, numbers: list[int], events: list[Event], channel: str, words: str, now_ns: int) -> None:
        """A notice is done: what became of it is an event, in the same transaction."""
        if not numbers:
            return
        told = [
            Event(now_ns, one.watch, one.subject, NOTICE, one.severity, one.value, one.limit, one.unit,
                  f"{channel}: {one.state}, {words}" if channel and channel not in words else f"{one.state}, {words}",
                  about=one.id)
            for one in events
        ]  # fmt: skip
        with self._book.together():
            self._book.sent(numbers)
            self._book.tell(told)
