"""Figures with their unit and sensible digits: 1.94 s, 12.3 ms, 840 µs, 3.2 MB, 41 Mbit/s."""

import math
from datetime import UTC, datetime, tzinfo

NS_PER_MS = 1_000_000
NS_PER_S = 1_000_000_000


class _Shown:
    """How times and rates are written on the screen and in reports: the user's choice, one a process."""

    zone: tzinfo = UTC
    octet_rates = False


def show_in(zone: tzinfo, *, octet_rates: bool = False) -> None:
    """Chooses the zone of times, and whether rates are in bytes instead of bits."""
    _Shown.zone, _Shown.octet_rates = zone, octet_rates


def zone() -> tzinfo:
    """The zone of times."""
    return _Shown.zone


def zone_name() -> str:
    """Its name."""
    return getattr(_Shown.zone, "key", "UTC")


def three_digits(value: float) -> str:
    """A number with three significant digits, without an exponent."""
    magnitude = abs(value)
    if magnitude >= 100:
        return f"{value:.0f}"
    if magnitude >= 10:
        return f"{value:.1f}"
    return f"{value:.2f}"


def duration(ns: float | None) -> str:
    """A span of time, in the unit that suits its size; an en dash where it is not known."""
    if ns is None or ns != ns:
        return "–"
    size = abs(ns)
    if size >= 48 * 3600 * NS_PER_S:
        days, hours = divmod(round(size / NS_PER_S / 3600), 24)
        return f"{'-' if ns < 0 else ''}{days} d" + (f" {hours} h" if hours else "")
    if size >= 3600 * NS_PER_S:
        hours, rest = divmod(round(size / NS_PER_S), 3600)
        return f"{'-' if ns < 0 else ''}{hours} h {rest // 60:02d} min"
    if size >= 120 * NS_PER_S:
        minutes, seconds = divmod(round(size / NS_PER_S), 60)
        return f"{'-' if ns < 0 else ''}{minutes} min {seconds:02d} s"
    if size >= 0.9995 * NS_PER_S:
        return f"{three_digits(ns / NS_PER_S)} s"
    if size >= 0.9995 * NS_PER_MS:
        return f"{three_digits(ns / NS_PER_MS)} ms"
    if size == 0:
        return "0"
    if size >= 999.5:
        return f"{three_digits(ns / 1000)} µs"
    return f"{three_digits(ns)} ns"


def _scaled(value: float, unit: str) -> str:
    for factor, prefix in ((1e12, "T"), (1e9, "G"), (1e6, "M"), (1e3, "k")):
        if abs(value) >= 0.9995 * factor:
            return f"{three_digits(value / factor)} {prefix}{unit}"
    return f"{value:.0f} {unit}"


def size(octets: float) -> str:
    """Bytes with a decimal prefix."""
    return _scaled(octets, "B")


def rate(bits_per_second: float) -> str:
    """Bits per second (or bytes, where the user wants those) with a decimal prefix."""
    return _scaled(bits_per_second / 8, "B/s") if _Shown.octet_rates else _scaled(bits_per_second, "bit/s")


def axis_unit(greatest: float, unit: str) -> tuple[str, float]:
    """What an axis whose greatest value is given counts in, and how many of the value's own unit that is.

    Seconds, bits per second and bytes take prefixes; what is counted does not.
    """
    if unit == "s":
        for name, factor in (("s", 1.0), ("ms", 1e-3), ("µs", 1e-6)):
            if greatest >= factor:
                return name, factor
        return "ns", 1e-9
    if unit not in ("bit/s", "B"):
        return unit, 1.0
    octets = unit == "bit/s" and _Shown.octet_rates
    own, name = (8.0, "B/s") if octets else (1.0, unit)
    for factor, prefix in ((1e12, "T"), (1e9, "G"), (1e6, "M"), (1e3, "k")):
        if greatest / own >= factor:
            return prefix + name, factor * own
    return name, own


def many(number: int, noun: str) -> str:
    """How many of something: 1 route, 2 routes."""
    return f"{count(number)} {noun}{'' if number == 1 else 's'}"


def from_ms(value: float) -> str:
    """A duration given in ms; – where there is none."""
    return duration(round(value * 1e6)) if math.isfinite(value) else "–"


def count(number: int) -> str:
    """A count with thousands set apart."""
    return f"{number:,}"


def share(fraction: float) -> str:
    """A share in per cent."""
    percent = 100 * fraction
    return f"{percent:.0f} %" if percent >= 10 or percent == 0 else f"{percent:.1f} %"


def moment(ns: int, digits: int = 3) -> str:
    """Time of day, with as many decimals as asked for (0 to 9)."""
    seconds, rest = divmod(int(ns), NS_PER_S)
    text = datetime.fromtimestamp(seconds, _Shown.zone).strftime("%H:%M:%S")
    return f"{text}.{rest:09d}"[: 9 + digits] if digits else text


def date_and_moment(ns: int) -> str:
    """Date and time of day, to the second."""
    return datetime.fromtimestamp(int(ns) // NS_PER_S, _Shown.zone).strftime("%Y-%m-%d %H:%M:%S")


def day(ns: int) -> str:
    """Weekday and date."""
    return datetime.fromtimestamp(int(ns) // NS_PER_S, _Shown.zone).strftime("%A %d %B %Y")


def hour(ns: int) -> int:
    """Hour of the day."""
    return datetime.fromtimestamp(int(ns) // NS_PER_S, _Shown.zone).hour


_TRANSPORTS = {1: "icmp", 6: "tcp", 17: "udp", 58: "icmpv6", 132: "sctp", 136: "udp-lite"}


def transport_name(protocol: int) -> str:
    """What an IP protocol number (IANA "Assigned Internet Protocol Numbers") is called in documents: tcp, udp, icmp;
    ip-NUMBER where it has no name here.
    """
    return _TRANSPORTS.get(protocol, f"ip-{protocol}")
