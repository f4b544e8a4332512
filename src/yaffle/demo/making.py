"""The demo's morning made by a process of its own, so that whoever waits for it can go on and can stop it."""

import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

from yaffle.errors import Cancelled, YaffleError

_CODE = (
    "import sys; from pathlib import Path; from yaffle.demo.morning import make_morning;"
    " make_morning(Path(sys.argv[1]))"
)
_USUAL_S = 12.0
_LOOK_EVERY_S = 0.1


def make_in_child(folder: Path, progress: Callable[[float, str], bool]) -> None:
    """Makes the three captures unless they are there. Raises Cancelled when `progress` says so, YaffleError."""
    child = subprocess.Popen([sys.executable, "-c", _CODE, str(folder)], stderr=subprocess.PIPE)
    began = time.monotonic()
    while True:
        try:
            _, said = child.communicate(timeout=_LOOK_EVERY_S)
            break
        except subprocess.TimeoutExpired:
            share = min(0.95, (time.monotonic() - began) / _USUAL_S)
            if not progress(share, "simulating the demo's morning, once"):
                child.kill()
                child.communicate()
                raise Cancelled from None
    if child.returncode:
        raise YaffleError(f"the demo cannot be made: {said.decode(errors='replace').strip()[-300:]}")
