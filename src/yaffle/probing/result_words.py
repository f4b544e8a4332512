"""Results of tests on purpose in words."""

from typing import Any

from yaffle.probing.result import Result

_LISTED = ("hops", "found", "ways", "new", "vanished", "elements")


def line(one: Result) -> str:
    """A result in a line, and its hops, or who was found, below."""
    if not one.ok and "hops" not in one.more:
        way = f" {one.more['direction']}" if "direction" in one.more else ""
        return f"{one.target}{way}: {one.why}"
    trip = f"{one.round_trip_ms:.3f} ms" if one.round_trip_ms is not None else ""
    shown = {key: value for key, value in one.more.items() if key not in _LISTED and value not in (None, "", [])}
    parts = [trip, *(f"{key.replace('_', ' ')} {_short(value)}" for key, value in shown.items()), one.why]
    lines = [f"{one.target}: {', '.join(part for part in parts if part)}"]
    for hop in one.more.get("hops", []):
        times = hop["round_trip_ms"]
        told = f"{times['min']:.3f} / {times['median']:.3f} / {times['max']:.3f} ms" if times else "silent"
        lines.append(f"  {hop['ttl']:2}  {hop['address'] or '-'}  {told}, {hop['answered']} of {hop['sent']} answered")
    for taken in one.more.get("ways", []):
        by = ", ".join(address or "-" for address in taken["addresses"])
        lines.append(f"  {taken['flows']} flows by {by}")
    for key, turn in (("new", "new"), ("vanished", "not found any more")):
        lines += [f"  {turn}: {other['address']}  {other['name']}".rstrip() for other in one.more.get(key, [])]
    for part in one.more.get("elements", []):
        came = part["why"] or f"{part['bytes']:,} bytes"
        lines.append(f"  {part['begin_ms']:9.3f} to {part['end_ms']:9.3f} ms  {part['url']}  {came}")
    for one_found in one.more.get("found", []):
        words = [one_found["address"], one_found["hardware"], one_found["name"], ", ".join(one_found["answers"]),
                 one_found.get("may_be", "")]  # fmt: skip
        outside = "  (from outside the subnet)" if one_found["outside"] else ""
        lines.append("  " + "  ".join(word for word in words if word) + outside)
    return "\n".join(lines)


def _short(value: Any) -> str:
    if isinstance(value, float):
        return f"{value:,.3f}".rstrip("0").rstrip(".")
    if isinstance(value, dict):
        return " / ".join(f"{key} {_short(own)}" for key, own in value.items())
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)
