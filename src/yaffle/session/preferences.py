"""What the user prefers, kept between sessions: units, zone, theme, letters, thresholds, recent cases, filters kept."""

import json
import os
import zoneinfo
from dataclasses import asdict, dataclass, replace
from datetime import UTC, tzinfo
from pathlib import Path

import platformdirs

from yaffle.session.former_words import present_filter

MOST_RECENT = 12


@dataclass(frozen=True)
class Preferences:
    """One set. Whatever is out of range falls back to its default when it is read."""

    theme: str = "light"
    zone: str = "UTC"
    font_points: int = 0  # 0: the desktop's own
    octet_rates: bool = False  # B/s instead of bit/s
    silence_ms: float = 30.0
    recent: tuple[str, ...] = ()
    filters: tuple[tuple[str, str], ...] = ()  # (name, expression)

    def with_recent(self, path: str) -> "Preferences":
        """With a case or capture at the top of the recent ones."""
        return replace(self, recent=(path, *(p for p in self.recent if p != path))[:MOST_RECENT])

    def with_filter(self, name: str, expression: str) -> "Preferences":
        """With a filter kept under a name; an empty expression forgets it."""
        others = tuple(entry for entry in self.filters if entry[0] != name)
        return replace(self, filters=(*others, (name, expression)) if expression else others)

    @property
    def tzinfo(self) -> tzinfo:
        """The zone that times are shown in; UTC where it is not known here."""
        try:
            return UTC if self.zone == "UTC" else zoneinfo.ZoneInfo(self.zone)
        except (zoneinfo.ZoneInfoNotFoundError, ValueError):
            return UTC


def file_of_preferences() -> Path:
    """Where they are kept."""
    base = os.environ.get("YAFFLE_CONFIG_DIR") or platformdirs.user_config_dir("yaffle")
    return Path(base) / "preferences.json"


def load() -> Preferences:
    """The kept ones; defaults for what is missing or makes no sense."""
    try:
        data = json.loads(file_of_preferences().read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return Preferences()
    if not isinstance(data, dict):
        return Preferences()
    plain = Preferences()
    theme, zone, points, silence = (data.get(key) for key in ("theme", "zone", "font_points", "silence_ms"))
    filters = data.get("filters")
    recent = data.get("recent")
    return Preferences(
        theme if theme in ("light", "dark") else plain.theme,
        zone if isinstance(zone, str) else plain.zone,
        points if isinstance(points, int) and (points == 0 or 6 <= points <= 32) else plain.font_points,
        bool(data.get("octet_rates", False)),
        float(silence) if isinstance(silence, int | float) and 0.001 <= silence <= 3_600_000 else plain.silence_ms,
        tuple(str(p) for p in recent)[:MOST_RECENT] if isinstance(recent, list) else (),
        (
            tuple((str(f[0]), present_filter(str(f[1]))) for f in filters if isinstance(f, list) and len(f) == 2)
            if isinstance(filters, list)
            else ()
        ),
    )


def save(preferences: Preferences) -> None:
    """Keeps them, whole or not at all. Raises OSError."""
    path = file_of_preferences()
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(path.name + ".part")
    part.write_text(json.dumps(asdict(preferences), indent=1), encoding="utf-8")
    part.replace(path)
