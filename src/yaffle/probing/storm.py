"""Many frames on purpose: what broadcasts, or frames for one station, do to a link and to a host's interrupts.

Frames carry an EtherType for local experiments (IEEE 802, 88-B5), which no host hands to a program.
"""

import asyncio
import socket
import threading
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
    """One storm; target: the interface. Beside a responder: speed with and without it. Raises YaffleError where it was
    not agreed to or cannot be sent.
    """
    return [await asyncio.to_thread(_alone, wanted)]


def _alone(wanted: Wanted) -> Result:
    with Storm(wanted) as storming:
        storming.wait()
    return storming.result()


class Storm:
    """Frames sent by a thread, for the wanted time or until the `with` ends. Raises YaffleError where none can be."""

    def __init__(self, wanted: Wanted) -> None:
        _check(wanted)
        self._wanted, self._at_ns = wanted, time.time_ns()
        self._sent, self._spent_s = 0, 0.0
        try:
            self._socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        except PermissionError as error:
            raise YaffleError("storm needs the right CAP_NET_RAW: run it with sudo") from error
        try:
            self._socket.bind((wanted.target, 0))
            station = bytes.fromhex((wanted.server or BROADCAST).replace(":", ""))
        except (OSError, ValueError) as error:
            self._socket.close()
            raise YaffleError(f"{wanted.target}: {getattr(error, 'strerror', None) or error}") from error
        self._frame = (station + self._socket.getsockname()[4] + _EXPERIMENT).ljust(wanted.size, b"\0")
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._send, daemon=True)

    def __enter__(self) -> "Storm":
        self._thread.start()
        return self

    def __exit__(self, *_error: object) -> None:
        self._ended.set()
        self._thread.join()
        self._socket.close()

    def close(self) -> None:
        """Gives up what was never begun."""
        self._socket.close()

    def wait(self) -> None:
        """Until the wanted time is over."""
        self._thread.join()

    def result(self) -> Result:
        """What was sent."""
        why = "" if self._sent else "nothing could be sent"
        rate = self._sent / self._spent_s if self._spent_s else 0.0
        return Result(KIND, self._wanted.target, self._at_ns, not why, why, None, {"sent": self._sent, "rate": rate})

    def _send(self) -> None:
        wanted, began = self._wanted, time.monotonic()
        self._socket.setblocking(False)
        while (passed := time.monotonic() - began) < wanted.seconds and not self._ended.is_set():
            if self._sent >= wanted.rate * passed:
                time.sleep(_STEP_S)
                continue
            try:
                self._socket.send(self._frame)
                self._sent += 1
            except OSError:  # The device's queue is full.
                time.sleep(_STEP_S)
        self._spent_s = time.monotonic() - began


def _check(wanted: Wanted) -> None:
    """Raises YaffleError where a storm was not agreed to, or is more than is sent."""
    if not wanted.agreed:
        raise YaffleError(
            f"storm: {wanted.rate:,} frames a second of {wanted.size} bytes on {wanted.target} for {wanted.seconds:g} s"
            " disturb everybody on that link; if that is wanted, say --yes"
        )
    if not (_LEAST <= wanted.size <= 1514 and 0 < wanted.rate <= _MOST_RATE and wanted.seconds <= _MOST_S):
        raise YaffleError(
            f"storm: frames of {_LEAST} to 1514 bytes, at most {_MOST_RATE:,} a second, for at most {_MOST_S:g} s"
        )
