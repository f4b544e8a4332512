"""How fast flow records are decoded: IPFIX messages in memory, of the size that fits a datagram, to rows of the flow
table; on one core.
"""

import statistics
import sys
import time
from struct import pack

from yaffle.records.intake import Intake

MESSAGES, EACH = 40_000, 30
_FIELDS = ((8, 4), (12, 4), (7, 2), (11, 2), (4, 1), (5, 1), (10, 4), (14, 4), (2, 4), (1, 4), (152, 8), (153, 8))


def _messages() -> list[bytes]:
    specs = b"".join(pack("!HH", *f) for f in _FIELDS)
    template = pack("!HHHH", 2, 8 + len(specs), 300, len(_FIELDS)) + specs
    now = 1_790_000_000
    found = []
    for k in range(MESSAGES):
        one = pack(
            "!IIHHBBIIIIQQ",
            0xC6336400 + k % 250,
            0xCB007100 + k % 90,
            1024 + k % 60_000,
            443,
            6,
            0,
            1,
            2,
            10,
            9000,
            now * 1000,
            now * 1000 + 500,
        )
        data = pack("!HH", 300, 4 + EACH * len(one)) + one * EACH
        body = (template if k % 1000 == 0 else b"") + data
        found.append(pack("!HHIII", 10, 16 + len(body), now, k * EACH, 1) + body)
    return found


def main() -> None:
    """Three rounds; the median counts. As a ratio: to adding the bytes up."""
    messages = _messages()
    rates, ratios = [], []
    for _ in range(3):
        began = time.perf_counter()
        intake = Intake()
        for k, data in enumerate(messages):
            intake.take(1_790_000_000 * 10**9 + k, "192.0.2.1", data)
        found = intake.finish()
        spent = time.perf_counter() - began
        began = time.perf_counter()
        total = sum(sum(data) for data in messages[::10])
        plain = 10 * (time.perf_counter() - began)
        assert (found.rows.size, found.exporters[0].lost_records) == (MESSAGES * EACH, 0) and total
        rates.append(found.rows.size / spent)
        ratios.append(spent / plain)
    print(
        f"IPFIX: {statistics.median(rates):,.0f} records/s; {statistics.median(ratios):.2f} of the time that adding up"
        " the bytes takes in plain Python"
    )


if __name__ == "__main__":
    sys.exit(main())
