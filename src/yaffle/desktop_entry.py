"""The desktop entry, the icon and the kinds of files, put where desktops look for them (freedesktop.org)."""

import os
import shutil
import subprocess
from pathlib import Path

from yaffle.errors import YaffleError

SHARE = Path(__file__).parent / "share"
PLACES = {
    "yaffle.desktop": "applications",
    "yaffle.svg": "icons/hicolor/scalable/apps",
    "yaffle.xml": "mime/packages",
}
_REFRESH = (("update-desktop-database", "applications"), ("update-mime-database", "mime"))


def install_desktop(base: Path | None = None) -> list[Path]:
    """Copies them for this user, and gives what was written. Raises YaffleError where that cannot be written."""
    base = base or Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")
    written = []
    try:
        for name, place in PLACES.items():
            target = base / place / name
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(SHARE / name, target)
            written.append(target)
    except OSError as error:
        raise YaffleError(f"{base}: {error.strerror or error}") from error
    for command, place in _REFRESH:  # Desktops without these look by themselves.
        if shutil.which(command):
            subprocess.run([command, str(base / place)], check=False, capture_output=True)
    return written
