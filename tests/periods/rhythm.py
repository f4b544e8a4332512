"""Five weeks of waits with a daily rhythm; in the last one two hours of the pier break it."""

from tests.session.kept_history import QUICK_NS, SITES, row
from yaffle.history.layout import DAY_NS, HOUR_NS, WAITS
from yaffle.history.wait_rows import rows_of
from yaffle.history.writer import HistoryWriter

MONDAY_NS = 1_773_014_400 * 10**9  # 2026-03-09, of the last of the weeks
BAD_HOURS = (MONDAY_NS + 9 * HOUR_NS, MONDAY_NS + 3 * DAY_NS + 14 * HOUR_NS)


def write_weeks(folder):
    """Every hour ten exchanges at either site, longer at night, when copies run: that is usual."""
    first, last = MONDAY_NS - 28 * DAY_NS, MONDAY_NS + 7 * DAY_NS
    rows = []
    for at in range(first, last, HOUR_NS):
        for site, client in SITES.items():
            usual = 2 * QUICK_NS if at % DAY_NS < 5 * HOUR_NS else QUICK_NS // 10
            more = 6 * QUICK_NS if site == "pier" and at in BAD_HOURS else 0
            rows.append(row(at, site, client, usual + more) | {"application": "desk"})
    writer = HistoryWriter(folder, now_ns=lambda: last + HOUR_NS, settle=False)
    writer.append_rows(WAITS, rows_of({name: [one[name] for one in rows] for name in rows[0]}))
    writer.tidy()
    writer.close()
    return folder
