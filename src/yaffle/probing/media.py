"""Voice and video against a responder: streams both ways at once, judged by the code that judges captured ones."""

import asyncio
import socket
import threading
import time
from typing import Any

from yaffle.probing.agreed import ask
from yaffle.probing.result import Result
from yaffle.probing.speed import BACK, THERE, connected, words_of
from yaffle.probing.streams import MOST_STREAMS, codec_of, receive_media, send_media
from yaffle.probing.wanted import RESPONDER_PORT, End, UnknownNameError, Wanted, host_and_port, resolved

VOICE, VIDEO = "voice", "video"
_TOKENS, _PAUSE_S = 5, 0.02


async def media(wanted: Wanted) -> list[Result]:
    """One stream each way. Raises YaffleError where the codec is not known."""
    codec_of(wanted.codec)
    host, port = host_and_port(wanted.target, RESPONDER_PORT)
    at_ns = time.time_ns()
    try:
        end = await resolved(host, port, wanted)
        there, back = await asyncio.to_thread(_run, end, wanted)
    except (UnknownNameError, OSError, ValueError, KeyError) as error:
        why = str(error) if isinstance(error, UnknownNameError) else words_of(error, wanted)
        return [
            Result(wanted.kind, wanted.target, at_ns, False, why, None, {"direction": way}) for way in (THERE, BACK)
        ]
    return [_result(wanted, at_ns, way, told) for way, told in ((THERE, there), (BACK, back))]


def _result(wanted: Wanted, at_ns: int, way: str, told: dict[str, Any]) -> Result:
    nothing = told["lost"] == told["packets"]
    why = "none of the packets came: UDP is filtered on the way" if nothing else ""
    return Result(wanted.kind, wanted.target, at_ns, not nothing, why, None, {"direction": way, **told})


def _run(end: End, wanted: Wanted) -> tuple[dict[str, Any], dict[str, Any]]:
    """(what the responder heard, what we heard)."""
    never, many = threading.Event(), max(1, min(wanted.streams, MOST_STREAMS))
    with connected(end, wanted) as own, socket.socket(end.family, socket.SOCK_DGRAM) as stream:
        wish = {"do": "media", "codec": wanted.codec, "seconds": wanted.seconds, "dscp": wanted.dscp,
                "streams": many}  # fmt: skip
        line = ask(own, wanted.key, wish)
        stream.connect((end.address, int(line.told["port"])))
        for _ in range(_TOKENS):  # Some of them may be lost.
            stream.send(bytes.fromhex(str(line.told["token"])))
            time.sleep(_PAUSE_S)
        sending = threading.Thread(
            target=send_media, args=(stream, wanted.codec, wanted.seconds, wanted.dscp, never, many), daemon=True
        )
        sending.start()
        back = receive_media(stream, wanted.codec, wanted.seconds, never, many)
        sending.join()
        own.settimeout(wanted.seconds + wanted.timeout_s + 5)
        return line.read(), back
