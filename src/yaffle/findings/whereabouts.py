"""Who was where in a period, as hosts and devices knew it: which hardware address had which IP address, what was behind
which port, what devices said of themselves; and what of that changed.
"""

import difflib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from yaffle.history.layout import ADDRESSES, NEIGHBOURS, REFRESH_NS

if TYPE_CHECKING:
    from yaffle.history.store import History

ADDRESS, PORT = "address", "port"


@dataclass(frozen=True)
class Whereabout:
    """That something was somewhere. what: an IP address, or what was behind a port; who: the hardware address that had
    it, or the port of the other side.
    """

    kind: str
    device: str
    interface: str
    what: str
    who: str
    from_ns: int
    to_ns: int  # when it was seen last
    change: str = ""  # in words, where it took the place of something else in the period


@dataclass(frozen=True)
class DeviceText:
    """A text of a device as it stood at the end of a period, and at its beginning; the same where it did not change."""

    device: str
    name: str
    changed_ns: int  # when it was kept
    before: str
    after: str

    @property
    def is_changed(self) -> bool:
        """Whether it changed in the period."""
        return self.before != self.after

    @property
    def lines(self) -> list[str]:
        """Line by line; of one that changed: "- " went, "+ " came, two spaces stayed."""
        if not self.is_changed:
            return self.after.splitlines()
        both = difflib.ndiff(self.before.splitlines(), self.after.splitlines())
        return [line for line in both if not line.startswith("? ")]


@dataclass(frozen=True)
class Whereabouts:
    """Of one period, changes first."""

    rows: list[Whereabout]
    texts: list[DeviceText]

    @property
    def changes(self) -> int:
        """How many things moved, or were taken over."""
        return sum(1 for row in self.rows if row.change) + sum(1 for text in self.texts if text.is_changed)


def whereabouts(history: "History | None", first_ns: int, last_ns: int) -> Whereabouts:
    """Who was where in a period. Raises HistoryError."""
    if history is None:
        return Whereabouts([], [])
    rows = [*_addresses(history, first_ns, last_ns), *_ports(history, first_ns, last_ns)]
    rows.sort(key=lambda one: (not one.change, one.kind, one.device, one.interface, one.what, one.from_ns))
    texts = sorted(_texts(history, first_ns, last_ns), key=lambda one: (not one.is_changed, one.device, one.name))
    return Whereabouts(rows, texts)


def _addresses(history: "History", first_ns: int, last_ns: int) -> Iterator[Whereabout]:
    found = [
        Whereabout(ADDRESS, r["device"], r["interface"], r["address"], r["hardware"], r["from_ns"], r["to_ns"])
        for r in history.intervals(ADDRESSES, first_ns, last_ns).to_pylist()
    ]
    yield from _told(found, lambda one: one.who, first_ns)


def _ports(history: "History", first_ns: int, last_ns: int) -> Iterator[Whereabout]:
    found = [
        Whereabout(PORT, r["device"], r["interface"], r["neighbour"], r["neighbour_port"], r["from_ns"], r["to_ns"])
        for r in history.intervals(NEIGHBOURS, first_ns, last_ns).to_pylist()
    ]
    yield from _told(found, lambda one: one.interface, first_ns)


_Key = Callable[[Whereabout], str]


def _told(found: list[Whereabout], place: _Key, first_ns: int) -> Iterator[Whereabout]:
    """With what changed in the period: the same thing elsewhere before, and not there any more."""
    before: dict[tuple[str, str], Whereabout] = {}
    for one in sorted(found, key=lambda row: (row.from_ns, row.to_ns)):
        thing = one.device, one.what
        former = before.get(thing)
        change = ""
        # Seen at both places at once, it moved nowhere: a router's second way, or two who claim one address.
        if former is not None and place(former) != place(one) and one.from_ns >= first_ns:
            if former.to_ns <= one.from_ns + REFRESH_NS:
                change = f"before: {place(former)}"
            elif one.kind == ADDRESS:
                change = f"also {place(former)}, at the same time"
        before[thing] = one
        yield Whereabout(one.kind, one.device, one.interface, one.what, one.who, one.from_ns, one.to_ns, change)


def _texts(history: "History", first_ns: int, last_ns: int) -> Iterator[DeviceText]:
    before = {name: text for name, text, _ in history.latest_texts(until_ns=first_ns)}
    for name, text, changed_ns in history.latest_texts(until_ns=last_ns):
        device, _, own = name.partition("\n")
        yield DeviceText(device, own, changed_ns, before.get(name, text), text)
