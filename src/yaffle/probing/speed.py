"""Speed against a responder: TCP throughput each way after RFC 6349, and what it does to the delay."""

import asyncio
import contextlib
import socket
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import Any

from yaffle.probing.agreed import ask
from yaffle.probing.host_work import HOST_WORK
from yaffle.probing.result import Result, spread
from yaffle.probing.throughput import receive_octets, send_octets
from yaffle.probing.wanted import RESPONDER_PORT, End, UnknownNameError, Wanted, host_and_port, resolved

KIND = "speed"
_GREATEST = ("seconds", "mss", "path_mtu", *HOST_WORK)  # of several connections
THERE, BACK = "there", "back"
RESPONDER = "responder_"  # before what its host did
_IDLE_ECHOES, _PAUSE_S, _LONGEST_S = 10, 0.05, 10.0


class _Echoes:
    """Echoes over a connection of their own: how far the responder is, idle and while it is loaded."""

    def __init__(self, end: End, wanted: Wanted) -> None:
        self._socket = connected(end, wanted)
        ask(self._socket, wanted.key, {"do": "echo"})
        self._socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)

    def one(self) -> float:
        """Milliseconds there and back."""
        began = time.monotonic_ns()
        self._socket.sendall(b"?")
        if not self._socket.recv(1):
            raise ConnectionError("the responder ended")
        return (time.monotonic_ns() - began) / 1e6

    def close(self) -> None:
        """Ends it."""
        self._socket.close()


def connected(end: End, wanted: Wanted) -> socket.socket:
    """A connection to a responder. Raises OSError."""
    own = socket.socket(end.family, socket.SOCK_STREAM)
    own.settimeout(wanted.timeout_s)
    try:
        own.connect((end.address, end.port))
    except OSError:
        own.close()
        raise
    own.settimeout(_LONGEST_S)
    return own


async def speed(wanted: Wanted) -> list[Result]:
    """One run each way; with `both` one more each way, at once. Of a web server what can be had of it."""
    if wanted.target.startswith(("http://", "https://")):
        from yaffle.probing.web_speed import web_speed

        return await asyncio.to_thread(web_speed, wanted)
    host, port = host_and_port(wanted.target, RESPONDER_PORT)
    at_ns = time.time_ns()
    try:
        end = await resolved(host, port, wanted)
    except UnknownNameError as error:
        return [
            Result(KIND, wanted.target, at_ns, False, str(error), None, {"direction": way}) for way in (THERE, BACK)
        ]
    found = [await asyncio.to_thread(_run, end, wanted, way) for way in (THERE, BACK)]
    if wanted.both:
        at_once = (asyncio.to_thread(_run, end, wanted, way) for way in (THERE, BACK))
        found += [replace(one, more=one.more | {"at_once": True}) for one in await asyncio.gather(*at_once)]
    return found


def _run(end: End, wanted: Wanted, way: str) -> Result:
    at_ns = time.time_ns()
    more: dict[str, Any] = {"direction": way}
    try:
        told = _measured(end, wanted, way)
    except (OSError, ValueError, KeyError) as error:
        return Result(KIND, wanted.target, at_ns, False, words_of(error, wanted), None, more)
    return Result(KIND, wanted.target, at_ns, True, "", told["idle_ms"], more | told)


def _measured(end: End, wanted: Wanted, way: str) -> dict[str, Any]:
    echoes = _Echoes(end, wanted)
    idle = [echoes.one() for _ in range(_IDLE_ECHOES)]
    loaded: list[float] = []
    done = threading.Event()

    def look() -> None:
        with contextlib.suppress(OSError):
            while not done.wait(_PAUSE_S):
                loaded.append(echoes.one())

    looking = threading.Thread(target=look, daemon=True)
    looking.start()
    try:
        with ThreadPoolExecutor(wanted.connections) as crew:
            runs = list(crew.map(lambda _: _one_connection(end, wanted, way), range(wanted.connections)))
    finally:
        done.set()
        looking.join()
        echoes.close()
    told, sender = (_together([run[k] for run in runs]) for k in (0, 1))
    own, its = (sender, told) if way == THERE else (told, sender)
    return _summed(told, sender, idle, loaded) | {
        f"{whose}{name}": counts[name] for whose, counts in (("", own), (RESPONDER, its)) for name in HOST_WORK
        if name in counts
    }  # fmt: skip


def _one_connection(end: End, wanted: Wanted, way: str) -> tuple[dict[str, Any], dict[str, Any]]:
    """(what its receiver told, what its sender's kernel counted)."""
    never = threading.Event()
    with connected(end, wanted) as own:
        line = ask(own, wanted.key, {"do": "speed", "direction": way, "seconds": wanted.seconds})
        if way == THERE:
            sender = send_octets(own, wanted.seconds, never)
            own.settimeout(_LONGEST_S)
            return line.read(), sender
        told = receive_octets(own, wanted.seconds, never)
        return told, told["sender"]


def _together(several: list[dict[str, Any]]) -> dict[str, Any]:
    """What several connections at once tell: sums; of times and sizes the greatest."""
    found: dict[str, Any] = {}
    for one in several:
        for key, value in one.items():
            if isinstance(value, int | float):
                found[key] = max(found.get(key, 0), value) if key in _GREATEST else found.get(key, 0) + value
    return found


def _summed(told: dict[str, Any], sender: dict[str, Any], idle: list[float], loaded: list[float]) -> dict[str, Any]:
    """Figures by RFC 6349: efficiency is the share of octets that were no repeats (section 4.2), buffer delay how much
    the round trip grew over the baseline (section 4.3).
    """
    low = spread(idle)
    high = spread(loaded)
    assert low is not None
    base = low["min"]
    mean = sum(loaded) / len(loaded) if loaded else base
    sent, again = sender.get("octets_sent", 0), sender.get("octets_again", 0)
    out, repeats = sender.get("segments_out", 0), sender.get("segments_again", 0)
    return {
        "bps": told["bps"], "seconds": told["seconds"], "bytes": told["bytes"],
        "retransmitted_percent": 100 * repeats / out if out else None, "idle_ms": low["median"],
        "loaded_ms": high["median"] if high else None,
        "efficiency_percent": 100 * (sent - again) / sent if sent else None,
        "buffer_delay_percent": 100 * (mean - base) / base if base > 0 else None,
        "path_mtu_bytes": sender.get("path_mtu") or None,
    }  # fmt: skip


def words_of(error: Exception, wanted: Wanted) -> str:
    """Why a responder could not be used."""
    if isinstance(error, ConnectionRefusedError):
        return "refused: no responder listens there"
    if isinstance(error, TimeoutError):
        return f"unanswered within {wanted.timeout_s:g} s"
    return str(getattr(error, "strerror", None) or error).lower() or type(error).__name__
