"""The process that holds the packet sockets: it alone has the right to, and gives it back when they are open.

Reads what is wanted as JSON from its first argument; tells how it is as lines of JSON, the last one when it ended.
"""

import json
import signal
import sys
from typing import Any

from yaffle.errors import YaffleError
from yaffle.live.capturing import Capturing, Wanted, drop_rights


def main() -> int:
    """Exit code 0, or 2 where nothing could be captured."""
    told = json.loads(sys.argv[1])
    for name in ("interfaces", "hosts", "ports"):
        told[name] = tuple(told[name])
    ended = []
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: ended.append(True))

    def tell(document: dict[str, Any]) -> None:
        try:
            print(json.dumps(document), flush=True)
        except BrokenPipeError:  # Nobody listens any more.
            ended.append(True)

    try:
        capturing = Capturing(Wanted(**told), drop_rights)
        tell(capturing.told)
        capturing.run(lambda: bool(ended), tell)
    except (YaffleError, OSError) as error:
        tell({"error": str(error)})
        return 2
    tell({**capturing.told, "ended": True})
    return 0


if __name__ == "__main__":
    sys.exit(main())
