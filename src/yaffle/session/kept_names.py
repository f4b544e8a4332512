"""Names of kept waits: as the user names an application now, else as it was called when it was kept."""

from yaffle.history.wait_sums import Grouping, WaitHistory, text
from yaffle.inventory.places import BY_USER, Places


def application_of(kept: WaitHistory, places: Places, first_ns: int, last_ns: int) -> str:
    """The application of a row, as SQL. Raises HistoryError."""
    if not places.rules:
        return "application"
    keys = {"application": "application", "server": "server", "port": "port"}
    changed = []
    for row in kept.asked(Grouping(keys, "application <> ''"), first_ns, last_ns).to_pylist():
        server, port = row["server"], row["port"]
        own = places.application(server, port)
        if own != row["application"] and places.told(server, port) == BY_USER:
            changed.append(f"WHEN server = {text(server)} AND port = {port} THEN {text(own)}")
    return f"CASE {' '.join(changed)} ELSE application END" if changed else "application"
