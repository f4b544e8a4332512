"""What bands of usual values raise in weeks in which nothing is wrong, and how soon they see a real rise.

A measure by minute with a rhythm of the day and of the week, noise that scales with it, and two holidays that are like
weekends: one week to learn, four to be judged; then a rise of three deviations. Of waits only more than usual counts.

    python -m benchmarks.false_alarms [MEMBERS]
"""

import sys

import numpy as np

from yaffle.watching.bands import Bands, settings_for

MINUTE_NS = 60 * 10**9
START_NS = 1_795_392_000 * 10**9 // (7 * 86_400 * 10**9) * (7 * 86_400 * 10**9)
WEEK, LEARNT, QUIET = 7 * 1440, 1, 4
HOLIDAYS = (16, 24)  # days since the beginning
NOISE, DEVIATIONS, SOON = 0.15, 3, 15


def level(minutes: np.ndarray) -> np.ndarray:
    """What is usual in each minute; on holidays what is usual on a weekend."""
    hour, day = minutes // 60 % 24, minutes // 1440
    free = (day % 7 >= 5) | np.isin(day, HOLIDAYS)
    return 10 + 30 * np.exp(-((hour - 13) ** 2) / 18.0) * np.where(free, 0.3, 1.0)


def judged(only_above: bool, members: int) -> tuple[float, float, float]:
    """(false alarms by member and week, those of holidays by member and holiday, share of rises that are seen soon)."""
    dice = np.random.default_rng(7)
    bands = Bands(float(DEVIATIONS), settings_for(MINUTE_NS), only_above=only_above)
    names = [f"member {k}" for k in range(members)]
    usual = level(np.arange((LEARNT + QUIET) * WEEK + SOON))
    false, free, before = 0, 0, np.zeros(members, bool)
    quiet = (LEARNT + QUIET) * WEEK - 12 * 60  # The rise comes in working hours.
    for minute in range(quiet):
        values = usual[minute] * (1 + NOISE * dice.standard_normal(members))
        raised = bands.take(names, values, START_NS + minute * MINUTE_NS).side != 0
        new = int((raised & ~before).sum()) if minute >= LEARNT * WEEK else 0
        if minute // 1440 in HOLIDAYS:
            free += new
        else:
            false += new
        before = raised
    seen = np.zeros(members, bool)
    for minute in range(quiet, quiet + SOON):
        values = usual[minute] * (1 + NOISE * (dice.standard_normal(members) + DEVIATIONS))
        seen |= bands.take(names, values, START_NS + minute * MINUTE_NS).side > 0
    return false / members / QUIET, free / members / len(HOLIDAYS), float(seen.mean())


def main(members: int) -> None:
    """Prints the figures."""
    for only_above, words in ((True, "waits, losses, errors (only more counts)"), (False, "everything else")):
        false, free, seen = judged(only_above, members)
        print(f"{words}: {false:.3f} false alarms a member and week, {free:.1f} more on each holiday;")
        print(f"  {100 * seen:.1f} % of rises are seen within {SOON} min")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 100)
