"""Who may ask, how much, and for how long: stands in front of everything that the interface answers."""

import asyncio
import hmac
import logging
from collections.abc import Awaitable, Callable, MutableMapping
from dataclasses import dataclass
from typing import Any

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[MutableMapping[str, Any], Receive, Send], Awaitable[None]]

_LOG = logging.getLogger(__name__)
_LOCAL = ("localhost", "127.0.0.1", "[::1]")


@dataclass(frozen=True)
class Limits:
    """Of what one asks, and of all together."""

    body_bytes: int = 64 << 10
    rows: int = 1_000_000  # of one answer
    exchanges: int = 200_000  # of a case whose whole document is told
    intervals: int = 10_000  # of a series
    packets_bytes: int = 1 << 30
    at_once: int = 8  # that are worked on; others wait
    waiting_s: float = 30.0
    send_s: float = 30.0  # in which a reader has to take the next piece
    streams: int = 32


class Guard:
    """An ASGI application around another. token: empty where everybody on this machine may ask."""

    def __init__(self, app: App, token: str, limits: Limits) -> None:
        self._app, self._token, self._limits = app, token.encode(), limits

    async def __call__(self, scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
        """Answers, or refuses before anything else has looked at what was asked."""
        if scope["type"] == "lifespan":
            await self._app(scope, receive, send)
            return
        if scope["type"] != "http":
            return
        headers = {key.decode("latin-1").lower(): value for key, value in scope["headers"]}
        if not self._may(headers):
            await _refuse(send, 401, [(b"www-authenticate", b"Bearer")])
        elif not self._token and not _is_local(headers.get("host", b"").decode("latin-1")):
            await _refuse(send, 421)  # A page of elsewhere whose name leads here.
        elif not _fits(headers.get("content-length", b"0"), self._limits.body_bytes):
            await _refuse(send, 413)
        else:
            await self._answer(scope, self._bounded(receive), send)

    def _may(self, headers: dict[str, bytes]) -> bool:
        if not self._token:
            return True
        kind, _, told = headers.get("authorization", b"").partition(b" ")
        return kind.lower() == b"bearer" and hmac.compare_digest(told.strip(), self._token)

    def _bounded(self, receive: Receive) -> Receive:
        """A body without a length is read no further than one with it."""
        taken = 0

        async def received() -> Message:
            nonlocal taken
            message = await receive()
            if message["type"] == "http.request":
                taken += len(message.get("body", b""))
                if taken > self._limits.body_bytes:
                    return {"type": "http.disconnect"}
            return message

        return received

    async def _answer(self, scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
        """Who does not take what was asked for is let go."""
        slow = False

        async def sent(message: Message) -> None:
            nonlocal slow
            try:
                async with asyncio.timeout(self._limits.send_s):
                    await send(message)
            except TimeoutError:
                slow = True
                raise

        try:
            await self._app(scope, receive, sent)
        except Exception:
            if not slow:
                raise
            _LOG.info("%s was not taken within %g s", scope["path"], self._limits.send_s)


def _fits(length: bytes, most: int) -> bool:
    return length.isdigit() and int(length[:12]) <= most


def _is_local(host: str) -> bool:
    name = host if host.endswith("]") else host.rpartition(":")[0] if ":" in host else host
    return name.lower() in _LOCAL


async def _refuse(send: Send, status: int, headers: list[tuple[bytes, bytes]] | None = None) -> None:
    """An answer that tells nothing."""
    told = [(b"content-length", b"0"), *(headers or [])]
    await send({"type": "http.response.start", "status": status, "headers": told})
    await send({"type": "http.response.body", "body": b""})
