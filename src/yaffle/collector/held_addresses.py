"""Which hardware address has which IP address on which interface of this host, as intervals that go on over
restarts.
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any

import pyarrow as pa

SCHEMA = pa.schema(
    [
        ("device", pa.string()),
        ("interface", pa.string()),
        ("address", pa.string()),
        ("hardware", pa.string()),
        ("from_ns", pa.int64()),
        ("to_ns", pa.int64()),
    ]
)
GAP_NS = 600 * 10**9  # Absent for longer, it is another interval: neighbors are forgotten and learnt again.
REFRESH_NS = 300 * 10**9  # So often it is written that it is still there.
_GOOD = 0x02 | 0x04 | 0x08 | 0x10 | 0x40 | 0x80  # reachable, stale, delay, probe, noarp, permanent (neighbour.h)

Held = tuple[str, str, str]  # interface, address, hardware


def held_now() -> set[Held]:
    """The own addresses and those of neighbors, of both IP versions, as the kernel knows them now."""
    from pyroute2 import IPRoute

    with IPRoute() as kernel:
        links = {link["index"]: _attributes(link) for link in kernel.get_links()}
        names = {number: str(told.get("IFLA_IFNAME", number)) for number, told in links.items()}
        found = set(_own(kernel.get_addr(), links, names))
        for one in kernel.get_neighbours():
            told = _attributes(one)
            if one["state"] & _GOOD and told.get("NDA_LLADDR") and told.get("NDA_DST") and one["ifindex"] in names:
                hardware = str(told["NDA_LLADDR"])
                if hardware.strip("0:"):  # Of loopback and of multicast there is none.
                    found.add((names[one["ifindex"]], str(told["NDA_DST"]), hardware))
    return {one for one in found if not _is_multicast(one[1])}


def _own(addresses: Iterable[Any], links: dict[int, dict[str, Any]], names: dict[int, str]) -> Iterator[Held]:
    for one in addresses:
        told = _attributes(one)
        address = told.get("IFA_LOCAL") or told.get("IFA_ADDRESS")
        hardware = str(links.get(one["index"], {}).get("IFLA_ADDRESS", ""))
        if address and hardware.strip("0:"):
            yield names[one["index"]], str(address), hardware


def _attributes(message: Any) -> dict[str, Any]:
    return dict(message["attrs"])


def _is_multicast(address: str) -> bool:
    from ipaddress import ip_address

    return ip_address(address).is_multicast


@dataclass
class _Interval:
    from_ns: int
    to_ns: int
    written_ns: int


@dataclass
class HeldAddresses:
    """What is held, and since when."""

    device: str
    _open: dict[Held, _Interval] = field(default_factory=dict)

    def go_on(self, former: pa.Table, now_ns: int) -> None:
        """Takes over what a former run saw last, where that is not long ago. former: rows of the table."""
        for row in former.to_pylist():
            if row["device"] == self.device and 0 <= now_ns - row["to_ns"] <= GAP_NS:
                self._open[row["interface"], row["address"], row["hardware"]] = _Interval(
                    row["from_ns"], row["to_ns"], row["to_ns"]
                )

    def seen(self, held: set[Held], now_ns: int) -> pa.Table:
        """What has to be written of a look: what is new, and now and then that something is still there."""
        told = []
        for one in sorted(held):
            own = self._open.get(one)
            if own is None or now_ns - own.to_ns > GAP_NS or now_ns < own.from_ns:  # A clock that was set back.
                own = self._open[one] = _Interval(now_ns, now_ns, now_ns - REFRESH_NS)
            own.to_ns = max(own.to_ns, now_ns)
            if now_ns - own.written_ns >= REFRESH_NS:
                own.written_ns = now_ns
                told.append((one, own))
        for one in [one for one, own in self._open.items() if now_ns - own.to_ns > GAP_NS]:
            del self._open[one]
        return self._rows(told)

    def last(self) -> pa.Table:
        """All that was still open, with when it was seen last."""
        return self._rows([(one, own) for one, own in self._open.items() if own.to_ns > own.written_ns])

    def _rows(self, told: list[tuple[Held, _Interval]]) -> pa.Table:
        columns = [
            [self.device] * len(told),
            *([one[k] for one, _ in told] for k in range(3)),
            [own.from_ns for _, own in told],
            [own.to_ns for _, own in told],
        ]
        return pa.table([pa.array(v, f.type) for v, f in zip(columns, SCHEMA, strict=True)], schema=SCHEMA)
