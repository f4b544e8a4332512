"""Answers to what tripped: a command or a web hook, at most so often, and whether it helped.

A command runs without a shell, with the event as JSON on its standard input, in a session of its own, for a bounded
time. Its effect is the judged measure before it began and after `settle`, by the rank test of `normal.comparison`;
where it made things worse, and there is an undo, that is run. What a collector left under way is not run again.
"""

import asyncio
import json
import math
import os
import pwd
import signal
import time
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from uuid import uuid4

import numpy as np

from yaffle.arrays import Float64s
from yaffle.errors import YaffleError
from yaffle.normal.comparison import SURE, Comparison, compare
from yaffle.records.catalogue import entry_of
from yaffle.units import duration
from yaffle.watching.book import Book
from yaffle.watching.channels import Channel
from yaffle.watching.event_rows import EFFECT, RESPONSE, UNDONE, Event
from yaffle.watching.event_words import figure
from yaffle.watching.member_values import GROUPS, Question, values
from yaffle.watching.watch import BELOW, FALLING, OUTSIDE, Watch
from yaffle.watching.windows import Windows

ASKED, RUNNING, SETTLING, DONE = "asked", "running", "settling", "done"
_NS = 10**9
_HOUR_NS = 3600 * _NS
_KEPT_NS = 7 * 24 * _HOUR_NS
_OUTPUT, _SHORTEST_NS, _SAMPLES = 2000, 10 * _NS, 30
_CLOSE = 5.0  # seconds between the signal to end and the one that ends


@dataclass(frozen=True)
class Response:
    """One answer. judge: a measure of the catalogue, empty: the watch's own; settle_ns: before it is judged."""

    name: str
    command: tuple[str, ...] = ()
    webhook: str = ""
    secret: str = ""
    user: str = ""
    timeout_s: float = 30.0
    cooldown_ns: int = 300 * _NS
    most_per_hour: int = 12
    dry_run: bool = False
    undo: tuple[str, ...] = ()
    judge: str = ""
    settle_ns: int = 30 * _NS


async def run(command: tuple[str, ...], told: dict[str, Any], timeout_s: float, user: str = "") -> tuple[bool, str]:
    """(whether it went well, what it said) of a command. Never raises for what the command does."""
    extra: dict[str, Any] = {}
    environment = {key: os.environ[key] for key in ("PATH", "LANG", "HOME") if key in os.environ}
    try:
        if user:
            own = pwd.getpwnam(user)
            extra = {"user": own.pw_uid, "group": own.pw_gid, "extra_groups": []}
            environment["HOME"] = own.pw_dir
        child = await asyncio.create_subprocess_exec(
            *command, stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.STDOUT,
            start_new_session=True, env=environment, cwd="/", **extra,
        )  # fmt: skip
    except (OSError, KeyError, ValueError) as error:
        reason = f"there is no user {user}" if isinstance(error, KeyError) else getattr(error, "strerror", "") or error
        return False, f"{command[0]} could not be run: {reason}"
    try:
        output, _ = await asyncio.wait_for(child.communicate(json.dumps(told).encode()), timeout_s)
    except TimeoutError:
        await _ended(child)
        return False, f"ended after {timeout_s:g} s: it took too long"
    except asyncio.CancelledError:
        await _ended(child)
        raise
    words = " ".join(output[:_OUTPUT].decode("utf-8", "replace").split())
    if child.returncode:
        return False, f"ended with {child.returncode}" + (f": {words}" if words else "")
    return True, words or "went well"


async def _ended(child: asyncio.subprocess.Process) -> None:
    """Ends a command with all that it began."""
    for number in (signal.SIGTERM, signal.SIGKILL):
        try:
            os.killpg(child.pid, number)
        except ProcessLookupError:
            return
        try:
            await asyncio.wait_for(child.wait(), _CLOSE)
        except TimeoutError:
            continue
        return


class Responses:
    """All answers of one collector, one step at a time."""

    def __init__(
        self, book: Book, windows: Windows, responses: Mapping[str, Response], watches: Mapping[str, Watch]
    ) -> None:
        self._book, self._windows, self._responses, self._watches = book, windows, responses, watches

    async def step(self, now_ns: int) -> bool:
        """Runs what is asked for, and judges what has settled. Whether anything was done. Raises sqlite3.Error."""
        done = False
        for own_id, name, event, began_ns, state, told in self._book.responses():
            response, watch = self._responses.get(name), self._watches.get(event.watch)
            if state == DONE:
                continue
            if response is None or watch is None:
                self._write(own_id, name, event, began_ns, DONE, told)
            elif state == ASKED:
                await self._answer(own_id, response, event, now_ns)
            elif state == RUNNING:  # A collector was ended meanwhile.
                words = f"{name}: the collector was ended while it ran; it is not run again"
                self._write(own_id, name, event, began_ns, SETTLING, told, _of(event, RESPONSE, words, now_ns))
            elif now_ns >= self._due(response, watch, int(told.get("ended_ns", began_ns))):
                await self._judge(own_id, response, watch, event, began_ns, told, now_ns)
            else:
                continue
            done = True
        if done:
            with self._book.together():
                self._book.forget_responses(now_ns - _KEPT_NS, DONE)
        return done

    def _write(
        self, own_id: str, name: str, event: Event, began_ns: int, state: str, told: dict[str, Any], *events: Event
    ) -> None:
        with self._book.together():
            self._book.response(own_id, name, event, began_ns, state, told)
            self._book.tell(events)

    def _due(self, response: Response, watch: Watch, ended_ns: int) -> int:
        return ended_ns + response.settle_ns + max(_SHORTEST_NS, watch.over_ns)

    def _refused(self, own_id: str, response: Response, now_ns: int) -> str:
        """Why it is not run now; empty where it may be."""
        former = [
            began for own, name, _, began, state, told in self._book.responses()
            if own != own_id and name == response.name and state != ASKED and told.get("ran")
        ]  # fmt: skip
        if any(now_ns - began < response.cooldown_ns for began in former):
            return f"not run: it ran within the last {duration(response.cooldown_ns)}"
        if sum(now_ns - began < _HOUR_NS for began in former) >= response.most_per_hour:
            return f"not run: it ran {response.most_per_hour} times within an hour"
        if response.dry_run:
            asked = " ".join(response.command) or response.webhook
            return f"dry run, not done: {asked}"
        return ""

    async def _answer(self, own_id: str, response: Response, event: Event, now_ns: int) -> None:
        if why := self._refused(own_id, response, now_ns):
            told = _of(event, RESPONSE, f"{response.name}: {why}", now_ns)
            self._write(own_id, response.name, event, now_ns, DONE, {}, told)
            return
        self._write(own_id, response.name, event, now_ns, RUNNING, {"ran": True})
        if response.command:
            well, words = await run(response.command, event.as_json(), response.timeout_s, response.user)
        else:
            well, words = await asyncio.to_thread(_called, response, event)
        ended_ns = now_ns + max(0, time.time_ns() - now_ns)
        words = f"{response.name}: {words}"
        state = SETTLING if well else DONE
        self._write(own_id, response.name, event, now_ns, state, {"ran": True, "ended_ns": ended_ns},
                    _of(event, RESPONSE, words, ended_ns))  # fmt: skip

    async def _judge(
        self, own_id: str, response: Response, watch: Watch, event: Event, began_ns: int, told: dict[str, Any],
        now_ns: int,
    ) -> None:  # fmt: skip
        ended_ns = int(told.get("ended_ns", began_ns))
        before, after, width_ns, unit = await asyncio.to_thread(
            self._samples, response, watch, event, began_ns, ended_ns + response.settle_ns
        )
        found = compare(before, after)
        words, worse = effect_words(found, unit, _lower_is_better(watch, event))
        back = _back_within(watch, after, width_ns, response.settle_ns) if words.startswith("helped") else ""
        events = [_of(event, EFFECT, f"{response.name} {words}{back}", now_ns, found.medians[1])]
        if worse and response.undo:
            well, said = await run(response.undo, event.as_json(), response.timeout_s, response.user)
            turn = "undone" if well else "undo failed"
            events.append(_of(event, UNDONE, f"{response.name} {turn}: {said}", time.time_ns()))
        self._write(own_id, response.name, event, began_ns, DONE, told, *events)

    def _samples(
        self, response: Response, watch: Watch, event: Event, began_ns: int, from_ns: int
    ) -> tuple[Float64s, Float64s, int, str]:
        """(values before it began, after it settled, ns between them, unit)."""
        measure = response.judge or watch.measure
        entry = entry_of(measure, watch.of)
        of = watch.of if watch.of in GROUPS[entry.table] else ""
        asked = Question(entry, of, watch.where if entry.table == watch.entry.table else "")
        span = max(_SHORTEST_NS, watch.over_ns)
        width = max(_NS, span // _SAMPLES)
        count = int(span // width)
        subject = event.subject if of else "all"
        try:
            two = [values(self._windows, asked, first, width, count) for first in (began_ns - count * width, from_ns)]
        finally:
            self._windows.forget()
        nothing = np.full(count, np.nan)
        return two[0].of.get(subject, nothing), two[1].of.get(subject, nothing), width, entry.unit


def effect_words(found: Comparison, unit: str, lower_is_better: bool) -> tuple[str, bool]:
    """(what an answer changed, in words; whether it made things worse for sure)."""
    before, after = found.medians
    if not all(found.counts) or math.isnan(found.chance):
        return "changed nothing that can be told: too little was measured before or after it", False
    own = f"{figure(before, unit)} to {figure(after, unit)}"
    sure = found.chance < SURE and after != before
    certainty = "sure" if sure else f"not sure ({found.counts[0]} and {found.counts[1]} values)"
    if not sure:
        return f"made no difference that is sure: {own}, {certainty}", False
    if (after < before) == lower_is_better:
        return f"helped: {own}, {certainty}", False
    return f"made it worse: {own}, {certainty}", True


def _lower_is_better(watch: Watch, event: Event) -> bool:
    if watch.rule == OUTSIDE:
        return not event.value < event.limit
    return watch.rule not in (BELOW, FALLING)


def _back_within(watch: Watch, after: Float64s, width_ns: int, settle_ns: int) -> str:
    good = [k for k in range(after.size) if watch.finding(float(after[k])) == "good"]
    return f", back within its limit after at most {duration(settle_ns + (good[0] + 1) * width_ns)}" if good else ""


def _called(response: Response, event: Event) -> tuple[bool, str]:
    try:
        return True, Channel(response.name, "webhook", response.webhook, secret=response.secret).send([event])
    except YaffleError as error:
        return False, str(error)


def _of(event: Event, state: str, words: str, now_ns: int, value: float = float("nan")) -> Event:
    return Event(now_ns, event.watch, event.subject, state, event.severity, value, event.limit, event.unit, words,
                 uuid4().hex, event.id)  # fmt: skip
