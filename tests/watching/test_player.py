"""A night of the demo played fast to real receivers: every event once and none else, with kills at random moments,
receivers that are down for an hour, a full disk and data that come late. `benchmarks.player` plays it without faults,
too, and kills fifty times.
"""

import contextlib
import csv
import json
import subprocess
import sys
import time
from collections import defaultdict
from email import message_from_bytes

import pytest
from aiosmtpd.controller import Controller

from tests.ports import free_port
from tests.watching import plain_watch, player
from tests.watching.player import BEGIN_NS, DESK, EXPECTED, MINUTE_NS, MINUTES
from tests.watching.receivers import Hooks, notification_daemon, syslog_server
from yaffle.session.table_export import write_rows

KILLS = 8
NEVER = (1 << 20, 1 << 20)


@pytest.fixture(scope="module")
def night(tmp_path_factory):
    path = tmp_path_factory.mktemp("night")
    player.write_source(path)
    return path


class Mails:
    """A mail server that keeps what it is told."""

    def __init__(self):
        self.taken = []

    async def handle_DATA(self, _server, _session, envelope):
        self.taken.append(message_from_bytes(envelope.content))
        return "250 kept"


class Unsteady(Hooks):
    """Down while the player's clock is in some minutes."""

    def __init__(self, folder, down):
        self._folder, self._down = folder, [BEGIN_NS + minute * MINUTE_NS for minute in down]
        super().__init__()

    @property
    def up(self):
        try:
            return not self._down[0] <= int((self._folder / "now").read_text()) < self._down[1]
        except (OSError, ValueError):
            return True

    @up.setter
    def up(self, _always):
        pass


def desk(folder):
    """Who shows notices on a desktop, where there can be one."""
    return notification_daemon(folder) if DESK else contextlib.nullcontext([])


def played(folder, source, kills=0, lives_s=(0.3, 0.9), down=NEVER, full=NEVER, late=NEVER, minutes=MINUTES):
    """(events, notices by receiver, seconds) of a night."""
    folder.mkdir()
    hook, mails = Unsteady(folder, down), Mails()
    mail = Controller(mails, hostname="127.0.0.1", port=free_port(), ready_timeout=10)
    mail.start()
    port = mail.server.sockets[0].getsockname()[1]
    try:
        with syslog_server() as (log, lines), desk(folder) as shown:
            settings = {
                "folder": str(folder), "source": str(source), "kills": kills, "lives_s": lives_s, "seed": 7,
                "full": full, "late": late, "minutes": minutes,
                "notify": [
                    {"name": "hook", "kind": "webhook", "url": hook.url},
                    {"name": "log", "kind": "syslog", "url": f"udp://127.0.0.1:{log}"},
                    {"name": "mail", "kind": "mail", "url": f"smtp://127.0.0.1:{port}", "from": "y@harbourline.example",
                     "to": ["duty@harbourline.example"]},
                    *({"name": name, "kind": "desktop"} for name in DESK),
                ],
            }  # fmt: skip
            (folder / "settings.json").write_text(json.dumps(settings))
            command = [sys.executable, "-m", "tests.watching.player", str(folder / "settings.json")]
            began = time.monotonic()
            done = subprocess.run(command, capture_output=True, text=True, check=False, timeout=280 + minutes)
            spent = time.monotonic() - began
            assert done.returncode == 0, done.stderr[-2000:]
            time.sleep(0.2)
    finally:
        mail.stop()
        hook.close()
    write_rows(folder, "events", folder / "events.csv")
    with (folder / "events.csv").open() as file:
        events = [one for one in csv.DictReader(file) if one["state"] in ("raised", "cleared")]
    told = {"hook": [one["id"] for one in hook.told], "log": lines}
    told["desk"] = [body[4] for body in shown]
    told["mail"] = [json.loads(one["X-Yaffle-Event"])["id"] for one in mails.taken]
    return events, told, spent


def by_subject(events):
    found = defaultdict(list)
    for one in sorted(events, key=lambda one: int(one["time_ns"])):
        found[one["watch"], one["subject"]].append(one["state"])
    return dict(found)


def delays(events):
    """How long after its data each event came, minutes, where that is known to the minute."""
    at = {(one["watch"], one["state"]): (int(one["time_ns"]) - BEGIN_NS) / MINUTE_NS for one in events}
    return {
        # Five minutes are judged, and it lasts for five.
        "line nearly full": at["line nearly full", "raised"] - (player.COPY + 5),
        "silent": at["router gone silent", "raised"] - (player.GAP[0] + 9),  # The last reading is of the minute before.
        "heard again": at["router gone silent", "cleared"] - player.GAP[1],
    }  # fmt: skip


def test_what_is_expected_is_what_the_definitions_say(night):
    assert plain_watch.expected(night, MINUTES) == EXPECTED


def test_kills_dead_receivers_a_full_disk_and_late_data_change_no_event(tmp_path, night):
    faults = {"down": (12, 72), "full": (122, 130), "late": (40, 50)}
    events, told, _ = played(tmp_path / "h", night, kills=KILLS, **faults)
    assert by_subject(events) == EXPECTED
    ids = sorted(one["id"] for one in events)
    assert sorted(set(told["hook"])) == sorted(set(told["mail"])) == ids
    assert not DESK or all(any(one["words"] in text for text in told["desk"]) for one in events)
    # A kill between a receiver's answer and its being written down is the one that nobody can tell from no answer.
    assert len(told["hook"]) + len(told["mail"]) <= 2 * len(ids) + 1
    assert all(0 <= minutes <= 15 for minutes in delays(events).values()), delays(events)  # Killed, it lost a while.
