"""Speed against any web server: how fast a page comes (GET), and how fast a stated number of bytes goes (PUT).

Throughput is of the body, from its first byte on, over one connection (RFC 6349, section 3.3, as far as one end sees).
The delay is that of openings of connections, idle and while the body is under way.
"""

import socket
import ssl
import threading
import time
from collections.abc import Iterator
from typing import Any
from urllib.parse import urlsplit

import httpx

from yaffle.probing.result import Result, spread
from yaffle.probing.throughput import kernel_counts
from yaffle.probing.wanted import Wanted

KIND, THERE, BACK = "speed", "there", "back"
_PIECE = bytes(64 << 10)
_IDLE, _PAUSE_S = 5, 0.2
_FIRST_ERROR = 400


class _Openings:
    """How long connections to a server take to open."""

    def __init__(self, url: str, timeout_s: float) -> None:
        told = urlsplit(url)
        self._at = told.hostname or "", told.port or (443 if told.scheme == "https" else 80)
        self._timeout_s = timeout_s

    def one(self) -> float:
        """Milliseconds. Raises OSError."""
        began = time.monotonic_ns()
        socket.create_connection(self._at, self._timeout_s).close()
        return (time.monotonic_ns() - began) / 1e6

    def while_it_lasts(self, done: threading.Event, found: list[float]) -> None:
        """Again and again, until it is done."""
        while not done.wait(_PAUSE_S):
            try:
                found.append(self.one())
            except OSError:  # The server takes no more connections meanwhile: that says nothing of the way.
                return


def web_speed(wanted: Wanted) -> list[Result]:
    """One run back, and one there where bytes to send are stated."""
    ways = ((THERE, _put),) if wanted.put_bytes else ()
    return [_run(wanted, way, work) for way, work in (*ways, (BACK, _get))]


def _run(wanted: Wanted, way: str, work: Any) -> Result:
    at_ns, more = time.time_ns(), {"direction": way}
    openings = _Openings(wanted.target, wanted.timeout_s)
    done, loaded = threading.Event(), list[float]()
    try:
        idle = [openings.one() for _ in range(_IDLE)]
        looking = threading.Thread(target=openings.while_it_lasts, args=(done, loaded), daemon=True)
        looking.start()
        try:
            with httpx.Client(timeout=max(wanted.timeout_s, wanted.seconds), follow_redirects=True,
                              verify=ssl.create_default_context()) as client:  # fmt: skip
                told = work(client, wanted)
        finally:
            done.set()
            looking.join()
    except (httpx.HTTPError, httpx.InvalidURL, OSError) as error:
        return Result(KIND, wanted.target, at_ns, False, _why(error, wanted), None, more)
    low, high = spread(idle), spread(loaded)
    assert low is not None
    mean = sum(loaded) / len(loaded) if loaded else low["min"]
    delay = {"idle_ms": low["median"], "loaded_ms": high["median"] if high else None,
             "buffer_delay_percent": 100 * (mean - low["min"]) / low["min"] if low["min"] > 0 else None}  # fmt: skip
    why = told.pop("why")
    return Result(KIND, wanted.target, at_ns, not why, why, low["median"], more | told | delay)


def _get(client: httpx.Client, wanted: Wanted) -> dict[str, Any]:
    """Reads the page, again while time is left."""
    octets, spent_ns, status = 0, 0, 0
    until = time.monotonic() + wanted.seconds
    while not status or (time.monotonic() < until and status < _FIRST_ERROR and octets):
        with client.stream("GET", wanted.target, headers={"Accept-Encoding": "identity"}) as answer:
            status, began = answer.status_code, time.monotonic_ns()
            for piece in answer.iter_raw():
                octets += len(piece)
                if time.monotonic() >= until:
                    break
            spent_ns += time.monotonic_ns() - began
    why = f"the server answers {status}" if status >= _FIRST_ERROR else "" if octets else "the page is empty"
    return _figures(octets, spent_ns, status, why)


def _put(client: httpx.Client, wanted: Wanted) -> dict[str, Any]:
    """Sends so many bytes; what the kernel repeated of them is read when the last one was taken."""
    counts: dict[str, int] = {}

    def body() -> Iterator[bytes]:
        left = wanted.put_bytes
        while left > 0:
            yield _PIECE[: min(left, len(_PIECE))]
            left -= len(_PIECE)

    request = client.build_request(
        "PUT", wanted.target, content=body(), headers={"Content-Length": str(wanted.put_bytes)}
    )
    began = time.monotonic_ns()
    answer = client.send(request, stream=True)
    spent_ns = time.monotonic_ns() - began
    stream = answer.extensions.get("network_stream")
    own = stream.get_extra_info("socket") if stream is not None else None
    if own is not None:
        counts = kernel_counts(own)
    answer.close()
    why = f"the server does not take it ({answer.status_code})" if answer.status_code >= _FIRST_ERROR else ""
    out, sent = counts.get("segments_out", 0), counts.get("octets_sent", 0)
    return _figures(wanted.put_bytes, spent_ns, answer.status_code, why) | {
        "retransmitted_percent": 100 * counts["segments_again"] / out if out else None,
        "efficiency_percent": 100 * (sent - counts["octets_again"]) / sent if sent else None,
    }


def _figures(octets: int, spent_ns: int, status: int, why: str) -> dict[str, Any]:
    rate = 8e9 * octets / spent_ns if spent_ns else 0.0
    return {"bps": rate, "seconds": spent_ns / 1e9, "bytes": octets, "status": status, "why": why}


def _why(error: Exception, wanted: Wanted) -> str:
    if isinstance(error, ConnectionRefusedError):
        return "refused: no web server listens there"
    if isinstance(error, httpx.TimeoutException | TimeoutError):
        return f"unanswered within {wanted.timeout_s:g} s"
    return str(error).lower() or type(error).__name__
