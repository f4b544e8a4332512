"""A night of the demo played to the watches and to real receivers: `python -m benchmarks.player [FOLDER]`; with
`--days N` so many days of it instead, against what the watches' definitions say of its evidence, and the same killed
fifty times on its way.

How fast it is played, how soon after its data an event comes, and whether each is told once; then with fifty kills,
receivers down for an hour, a full disk and data that come twenty minutes late.
"""

import sys
import tempfile
from pathlib import Path

from tests.watching.plain_watch import expected
from tests.watching.player import EXPECTED, MINUTES, write_source
from tests.watching.test_player import by_subject, delays, played

KILLS = 50
FAULTS = {"down": (12, 72), "full": (122, 130), "late": (40, 50)}
Events = dict[tuple[str, str], list[str]]


def _tell(words: str, events: list[dict[str, str]], told: dict[str, list[str]], wanted: Events = EXPECTED) -> None:
    found = by_subject(events)
    right = "each expected event once, none else" if found == wanted else f"wrong: {found}, not {wanted}"
    words += f", {len(events)} events"
    twice = sum(len(told[name]) - len(set(told[name])) for name in ("hook", "mail"))
    missing = sum(len({one["id"] for one in events} - set(told[name])) for name in ("hook", "mail"))
    print(f"{words}: {right}; notices told twice: {twice}, not told: {missing}", flush=True)


def whole_days(folder: Path, days: int) -> None:
    """Plays days, without faults and with all of them."""
    source, minutes = folder / "days", days * 24 * 60
    source.mkdir(exist_ok=True)
    write_source(source, days * 24 + 2)
    events, told, spent = played(folder / "played", source, minutes=minutes)
    wanted = expected(source, minutes)
    _tell(f"{days} days, {minutes * 60 / spent:,.0f} times as fast", events, told, wanted)
    life_s = spent / KILLS
    events, told, _ = played(
        folder / "faulty", source, kills=KILLS, lives_s=(0.3 * life_s, 1.5 * life_s), minutes=minutes, **FAULTS
    )
    _tell(f"killed {KILLS} times, receivers down for an hour, a full disk, late data", events, told, wanted)


def main(folder: Path) -> None:
    """Plays it twice."""
    source = folder / "night"
    source.mkdir(exist_ok=True)
    write_source(source)
    events, told, spent = played(folder / "plain", source)
    _tell(f"{MINUTES} minutes, {MINUTES * 60 / spent:,.0f} times as fast", events, told)
    for name, minutes in delays(events).items():
        print(f"    {name}: {minutes:.1f} min after its data")
    events, told, _ = played(folder / "faulty", source, kills=KILLS, lives_s=(0.3, 1.2), **FAULTS)
    _tell(f"killed {KILLS} times, receivers down for an hour, a full disk, late data", events, told)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory(prefix="yaffle-bench-") as own:
        if sys.argv[1:2] == ["--days"]:
            whole_days(Path(own), int(sys.argv[2]))
        else:
            main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path(own))
