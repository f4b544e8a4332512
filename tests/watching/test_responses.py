"""Answers with real commands: what they changed is told, what did harm is undone, and none runs more than it may."""

import asyncio
import sys
import time

import numpy as np
import pyarrow as pa
import pytest

from yaffle.history.layout import READINGS
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.watching.book import Book
from yaffle.watching.event_rows import EFFECT, RAISED, RESPONSE, UNDONE, Event
from yaffle.watching.responses import ASKED, Response, Responses
from yaffle.watching.watch import ABOVE, Watch
from yaffle.watching.windows import Windows

S = 10**9
WATCH = Watch("storage", "storage used", "object", rule=ABOVE, limit=5e9, respond="tidy")


class Scene:
    """A history, a book, and one answer."""

    def __init__(self, folder, **more):
        self.folder, self.now = folder, time.time_ns() // S * S
        HistoryWriter(folder / "history").close()
        self.book = Book(folder)
        command = (sys.executable, "-c", f"open({str(folder / 'done')!r}, 'a').write('done ')")
        undo = (sys.executable, "-c", f"open({str(folder / 'done')!r}, 'a').write('undone ')")
        own = Response("tidy", **({"command": command, "undo": undo, "settle_ns": 3 * S} | more))
        windows = Windows(History(folder / "history"))
        self.responses = Responses(self.book, windows, {"tidy": own}, {"storage": WATCH})

    def read(self, first_ns, level):
        """A reading every second for a minute."""
        dice, count = np.random.default_rng(4), 70
        rows = {"time_ns": first_ns + np.arange(count) * S, "device": ["quay"] * count, "object": ["disk"] * count,
                "measure": ["storage used"] * count, "value": level + dice.normal(0, 1e7, count),
                "unit": ["B"] * count}  # fmt: skip
        writer = HistoryWriter(self.folder / "history", settle=False)
        writer.append_rows(READINGS, pa.table(rows))
        writer.close()

    def ask(self, number=1):
        event = Event(self.now, "storage", "quay disk", RAISED, "warning", 6e9, 5e9, "B", "storage is high")
        with self.book.together():
            self.book.response(f"answer {number}", "tidy", event, self.now, ASKED, {})

    def step(self, now_ns):
        return asyncio.run(self.responses.step(now_ns))

    def told(self, state):
        return [one.words for _, one, _ in self.book.unwritten() if one.state == state]

    @property
    def done(self):
        path = self.folder / "done"
        return path.read_text().split() if path.exists() else []


@pytest.mark.parametrize(
    ("after", "words", "done"),
    [
        (9e9, "made it worse", ["done", "undone"]),
        (1e9, "helped", ["done"]),
        (6e9, "made no difference", ["done"]),
    ],
)
def test_what_an_answer_changed(tmp_path, after, words, done):
    scene = Scene(tmp_path)
    scene.read(scene.now - 70 * S, 6e9)
    scene.ask()
    assert scene.step(scene.now) and scene.done == ["done"]
    assert not scene.step(scene.now + 5 * S)  # It has not settled.
    scene.read(scene.now + S, after)
    assert scene.step(scene.now + 80 * S) and not scene.step(scene.now + 90 * S)
    (effect,) = scene.told(EFFECT)
    assert f"tidy {words}" in effect and scene.done == done
    assert len(scene.told(UNDONE)) == len(done) - 1


def test_without_measurements_nothing_is_said_to_have_helped(tmp_path):
    scene = Scene(tmp_path)
    scene.ask()
    scene.step(scene.now)
    scene.step(scene.now + 80 * S)
    assert "too little was measured" in scene.told(EFFECT)[0] and scene.done == ["done"]


def test_it_runs_no_more_than_it_may(tmp_path):
    scene = Scene(tmp_path, cooldown_ns=0, most_per_hour=2)
    for number in range(4):
        scene.ask(number)
        scene.step(scene.now + number * S)
    assert scene.done == ["done", "done"]
    assert sum("not run: it ran 2 times within an hour" in words for words in scene.told(RESPONSE)) == 2


def test_a_pause_and_a_dry_run_do_nothing(tmp_path):
    for folder, more, words in (("a", {}, "not run: it ran within"), ("b", {"dry_run": True}, "dry run, not done")):
        (tmp_path / folder).mkdir()
        scene = Scene(tmp_path / folder, **more)
        for number in range(2):
            scene.ask(number)
            scene.step(scene.now + number * S)
        assert words in scene.told(RESPONSE)[-1]
        assert scene.done == ([] if more else ["done"])


def test_what_takes_too_long_is_ended_with_all_it_began(tmp_path):
    slow = (sys.executable, "-c", "import subprocess, sys; subprocess.run(['sleep', '60'])")
    scene = Scene(tmp_path, command=slow, timeout_s=1.0)
    scene.ask()
    began = time.monotonic()
    scene.step(scene.now)
    assert time.monotonic() - began < 30
    assert "it took too long" in scene.told(RESPONSE)[0] and not scene.told(EFFECT)
