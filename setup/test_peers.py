"""Puts programs that tests talk to (an SNMP agent, an LLDP speaker, a web and a name server) into a folder, unpacked
and not installed: nothing
is started on this machine. Where they cannot be had, the tests that need them are left out and say so.

    python3 setup/test_peers.py FOLDER
"""

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

PACKAGES = ("snmpd", "lldpd", "nginx", "dnsmasq-base")
PROGRAMS = ("snmpd", "lldpd", "nginx", "dnsmasq")


def _run(*words: str, folder: str | None = None) -> str:
    done = subprocess.run(words, cwd=folder, capture_output=True, text=True, check=False)
    return done.stdout if done.returncode == 0 else ""


def _wanted() -> list[str]:
    """The packages and what they need that is not installed."""
    planned = _run("apt-get", "-s", "--no-install-recommends", "install", *PACKAGES)
    return [line.split()[1] for line in planned.splitlines() if line.startswith("Inst ")]


def main() -> int:
    """Always 0: tests are left out without."""
    folder, words = Path(sys.argv[1]), ", ".join(PROGRAMS)
    if all(shutil.which(name) or (folder / "usr/sbin" / name).exists() for name in PROGRAMS):
        return 0
    if not (shutil.which("apt-get") and shutil.which("dpkg")):
        print(f"no apt-get here: tests against {words} are left out")
        return 0
    if not (wanted := _wanted()) and os.geteuid() == 0:
        _run("apt-get", "update", "-q")
        wanted = _wanted()
    with tempfile.TemporaryDirectory() as place:
        _run("apt-get", "download", "-q", *wanted, folder=place)
        for package in Path(place).glob("*.deb"):
            _run("dpkg", "-x", str(package), str(folder))
    if not all((folder / "usr/sbin" / name).exists() for name in PROGRAMS):
        print(f"{words} cannot be had here: tests against them are left out")
    return 0


if __name__ == "__main__":
    sys.exit(main())
