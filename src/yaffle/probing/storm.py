"""Many frames on purpose: what broadcasts, or frames for one station, do to a link and to a host's interrupts.

Frames carry an EtherType for local experiments (IEEE 802, 88-B5), which no host hands to a program.
"""

import asyncio
import socket
import time

from yaffle.errors import YaffleError
from yaffle.probing.result import Result
from yaffle.probing.wanted import Wanted

KIND = "storm"
BROADCAST = "ff:ff:ff:ff:ff:ff"
_EXPERIMENT = b"\x88\xb5"
_LEAST, _MOST_S, _MOST_RATE = 60, 60.0, 1_000_000
_STEP_S = 0.001


async def storm(wanted: Wanted) -> list[Result]:
    """One storm; target: the interface. Raises YaffleError where it was not agreed to or cannot be sent."""
    if not wanted.agreed:
        raise YaffleError(
            f"storm: {wanted.rate:,} frames a second of {wanted.size} bytes on {wanted.target} for {wanted.seconds:g} s"
            " disturb everybody on that link; if that is wanted, say --yes"
        )
    if not (_LEAST <= wanted.size <= 1514 and 0 < wanted.rate <= _MOST_RATE and wanted.seconds <= _MOST_S):
        raise YaffleError(
            f"storm: frames of {_LEAST} to 1514 bytes, at most {_MOST_RATE:,} a second, for at most {_MOST_S:g} s"
        )
    return [await asyncio.to_thread(_send, wanted)]


def _send(wanted: Wanted) -> Result:
    at_ns = time.time_ns()
    try:
        own = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
    except PermissionError as error:
        raise YaffleError("storm needs the right CAP_NET_RAW: run it with sudo") from error
    with own:
        try:
            own.bind((wanted.target, 0))
            target = bytes.fromhex((wanted.server or BROADCAST).replace(":", ""))
        except (OSError, ValueError) as error:
            raise YaffleError(f"{wanted.target}: {getattr(error, 'strerror', None) or error}") from error
        sent, rate = _sent(own, target, wanted)
    why = "" if sent else "nothing could be sent"
    return Result(KIND, wanted.target, at_ns, not why, why, None, {"sent": sent, "rate": rate})


def _sent(own: socket.socket, target: bytes, wanted: Wanted) -> tuple[int, float]:
    """How many frames were sent, and how many a second."""
    frame = (target + own.getsockname()[4] + _EXPERIMENT).ljust(wanted.size, b"\0")
    own.setblocking(False)
    sent, began = 0, time.monotonic()
    while (passed := time.monotonic() - began) < wanted.seconds:
        if sent >= wanted.rate * passed:
            time.sleep(_STEP_S)
            continue
        try:
            own.send(frame)
            sent += 1
        except OSError:  # The device's queue is full.
            time.sleep(_STEP_S)
    return sent, sent / (time.monotonic() - began)
