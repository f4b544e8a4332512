"""Devices that say what is plugged into them (LLDP), as places and links of the map."""

from yaffle.history.layout import NEIGHBOURS
from yaffle.history.store import History

NAME = "name"  # the text under which a device keeps what it calls itself


def cables(history: History | None, first_ns: int, last_ns: int) -> list[tuple[str, str, str]]:
    """(device, device, the ports of both ends) of what was plugged together in a period, each once; devices by their
    address where that is known. Raises HistoryError.
    """
    if history is None:
        return []
    names = {}
    for key, text, _ in history.latest_texts(until_ns=last_ns):
        device, _, own = key.partition("\n")
        if own == NAME:
            names[text] = device
    found: dict[frozenset[tuple[str, str]], tuple[str, str, str]] = {}
    for row in history.intervals(NEIGHBOURS, first_ns, last_ns).to_pylist():
        if not row["neighbour_port"]:
            continue  # A bridge's table: hosts by their hardware addresses, which are no places.
        other = names.get(row["neighbour"], row["neighbour"])
        ends = frozenset({(row["device"], row["interface"]), (other, row["neighbour_port"])})
        found.setdefault(ends, (row["device"], other, f"{row['interface']} to {row['neighbour_port']}"))
    return sorted(found.values())
