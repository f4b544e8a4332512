"""How the user arranged tables and panes, kept between sessions: widths and order of columns, sizes of panes."""

import json
import logging
from dataclasses import dataclass, field
from pathlib import Path

from yaffle.session.preferences import file_of_preferences

_LOG = logging.getLogger(__name__)
_MOST_PIXELS = 20_000


@dataclass
class LayoutMemory:
    """What was arranged by hand; what never was is not in it."""

    widths: dict[str, dict[str, int]] = field(default_factory=dict)  # table -> title of the column -> pixels
    orders: dict[str, list[str]] = field(default_factory=dict)  # table -> titles from left to right
    panes: dict[str, list[int]] = field(default_factory=dict)  # group of panes -> their sizes

    def forget_table(self, table: str) -> None:
        """Its columns fit their content again."""
        self.widths.pop(table, None)
        self.orders.pop(table, None)
        self.save()

    def save(self) -> None:
        """Keeps it, whole or not at all. What cannot be kept is logged: it is no reason to stop anybody's work."""
        path = _file()
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            part = path.with_name(path.name + ".part")
            part.write_text(
                json.dumps({"widths": self.widths, "orders": self.orders, "panes": self.panes}, indent=1),
                encoding="utf-8",
            )
            part.replace(path)
        except OSError as error:
            _LOG.warning("the arrangement of tables cannot be kept: %s", error)


def _file() -> Path:
    return file_of_preferences().with_name("arrangement.json")


def _pixels(value: object) -> int | None:
    return value if isinstance(value, int) and not isinstance(value, bool) and 0 <= value <= _MOST_PIXELS else None


def load_layout() -> LayoutMemory:
    """The kept one; whatever makes no sense is left out."""
    try:
        data = json.loads(_file().read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return LayoutMemory()
    found = LayoutMemory()
    if not isinstance(data, dict):
        return found
    parts = {name: data.get(name) for name in ("widths", "orders", "panes")}
    widths, orders, panes = (part if isinstance(part, dict) else {} for part in parts.values())
    for table, columns in widths.items():
        if isinstance(columns, dict):
            kept = {str(title): _pixels(value) for title, value in columns.items()}
            found.widths[str(table)] = {title: value for title, value in kept.items() if value}
    for table, titles in orders.items():
        if isinstance(titles, list):
            found.orders[str(table)] = [str(title) for title in titles]
    for name, sizes in panes.items():
        checked = [_pixels(size) for size in sizes] if isinstance(sizes, list) else []
        if checked and None not in checked:
            found.panes[str(name)] = [size for size in checked if size is not None]
    return found
