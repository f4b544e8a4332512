"""Checks the system libraries that Qt and the pages on paper need; installs them through apt-get where that is
allowed, else says the command.
"""

import ctypes
import os
import shutil
import subprocess
import sys

NEEDED = {
    "libGL.so.1": "libgl1",
    "libEGL.so.1": "libegl1",
    "libxkbcommon.so.0": "libxkbcommon0",
    "libdbus-1.so.3": "libdbus-1-3",
    "libfontconfig.so.1": "libfontconfig1",
    "libglib-2.0.so.0": "libglib2.0-0",
    "libxkbcommon-x11.so.0": "libxkbcommon-x11-0",
    "libxcb-cursor.so.0": "libxcb-cursor0",
    "libxcb-icccm.so.4": "libxcb-icccm4",
    "libxcb-image.so.0": "libxcb-image0",
    "libxcb-keysyms.so.1": "libxcb-keysyms1",
    "libxcb-randr.so.0": "libxcb-randr0",
    "libxcb-render-util.so.0": "libxcb-render-util0",
    "libxcb-shape.so.0": "libxcb-shape0",
    "libxcb-xinerama.so.0": "libxcb-xinerama0",
    "libxcb-xkb.so.1": "libxcb-xkb1",
}
# Without them everything works but PDF.
WANTED = {
    "libpango-1.0.so.0": "libpango-1.0-0",
    "libpangoft2-1.0.so.0": "libpangoft2-1.0-0",
    "libharfbuzz-subset.so.0": "libharfbuzz-subset0",
}


def _lacking(libraries: dict[str, str]) -> list[str]:
    found = []
    for library, package in libraries.items():
        try:
            ctypes.CDLL(library)
        except OSError:
            found.append(package)
    return found


def missing() -> list[str]:
    """Debian packages without which the window cannot be."""
    found = _lacking(NEEDED)
    if not any(os.path.isdir(p) and os.listdir(p) for p in ("/usr/share/fonts", "/usr/local/share/fonts")):
        found.append("fonts-dejavu-core")
    return found


def main() -> int:
    """Exit code 0 when everything that is needed is there."""
    packages = missing() + _lacking(WANTED)
    if not packages:
        return 0
    command = ["apt-get", "install", "-y", "--no-install-recommends", *packages]
    if shutil.which("apt-get") and (os.geteuid() == 0 or shutil.which("sudo")):
        prefix = [] if os.geteuid() == 0 else ["sudo", "-n"]
        print("installing system libraries:", " ".join(packages), flush=True)
        environment = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
        for words in (["apt-get", "update", "-q"], command):
            subprocess.run([*prefix, *words], env=environment, stdout=subprocess.DEVNULL, check=False)
    needed = missing()
    if packages := needed + _lacking(WANTED):
        what = "Some system libraries are missing" if needed else "PDF reports need system libraries that are missing"
        command_words = "sudo apt-get install " + " ".join(packages)
        print(f"{what} and could not be installed from here. Please run:\n  {command_words}", file=sys.stderr)
    return 1 if needed else 0


if __name__ == "__main__":
    sys.exit(main())
