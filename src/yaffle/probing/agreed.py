"""What is agreed on over a connection: who asks proves that it holds the key, then names what it wants.

Lines of JSON. The responder begins with a number used once; the answer is the wish and, where there is a key, its
HMAC-SHA-256 over that number and the wish.
"""

import hashlib
import hmac
import json
import secrets
import socket
import threading
from collections.abc import Callable
from typing import Any

from yaffle.errors import YaffleError
from yaffle.probing.streams import MOST_STREAMS, codec_of, receive_media, send_media
from yaffle.probing.throughput import receive_octets, send_octets

_LONGEST_LINE = 4096
_PATIENCE_S = 10.0
MOST_S = 120.0
_MOST_DSCP = 63


class Line:
    """Lines of JSON over a connection, none longer than it may be."""

    def __init__(self, own: socket.socket) -> None:
        self.socket, self._held = own, b""
        self.told: dict[str, Any] = {}  # the last one that was read

    def send(self, told: dict[str, Any]) -> None:
        """Sends one."""
        self.socket.sendall(json.dumps(told).encode() + b"\n")

    def read(self) -> dict[str, Any]:
        """The next one. Raises OSError and ValueError."""
        while b"\n" not in self._held:
            if len(self._held) > _LONGEST_LINE:
                raise ValueError("a line that is too long")
            more = self.socket.recv(_LONGEST_LINE)
            if not more:
                raise ConnectionError("the other side ended")
            self._held += more
        line, _, self._held = self._held.partition(b"\n")
        try:
            told = json.loads(line)
        except RecursionError as error:
            raise ValueError("no wish") from error
        if not isinstance(told, dict):
            raise ValueError("no wish")
        self.told = told
        return told


def proof(key: bytes, once: str, wish: str) -> str:
    """That a wish comes from who holds the key."""
    return hmac.new(key, f"{once}{wish}".encode(), hashlib.sha256).hexdigest()


def ask(own: socket.socket, key: bytes, wish: dict[str, Any]) -> Line:
    """Asks for something; the connection for what follows. Raises OSError, and PermissionError where it is refused."""
    own.settimeout(_PATIENCE_S)
    line = Line(own)
    hello = line.read()
    text = json.dumps(wish)
    line.send({"wish": text, "proof": proof(key, str(hello["once"]), text) if key else ""})
    if not line.read().get("granted"):
        raise PermissionError("the responder does not grant it: another key?")
    return line


class Agreed:
    """The responder's side of one connection."""

    def __init__(
        self, own: socket.socket, key: bytes, ended: threading.Event, allowed: Callable[[str], bool] = lambda _: False
    ) -> None:
        self._line, self._key, self._ended, self._allowed = Line(own), key, ended, allowed
        own.settimeout(_PATIENCE_S)

    def serve(self) -> None:
        """Does what is wished. Raises OSError, ValueError, KeyError, TypeError."""
        once = secrets.token_hex(16)
        self._line.send({"yaffle": 1, "once": once})
        told = self._line.read()
        text = str(told["wish"])
        if self._key and not hmac.compare_digest(proof(self._key, once, text), str(told.get("proof", ""))):
            self._line.send({"granted": False})
            return
        wish = json.loads(text)
        serve: Callable[[dict[str, Any]], None] = {
            "speed": self._speed, "media": self._media, "echo": self._echo, "test": self._test,
        }[wish["do"]]  # fmt: skip
        serve(wish)

    def _speed(self, wish: dict[str, Any]) -> None:
        seconds = min(MOST_S, max(0.1, float(wish["seconds"])))
        self._line.send({"granted": True})
        own = self._line.socket
        if wish["direction"] == "there":
            self._line.send(receive_octets(own, seconds, self._ended))
        else:
            send_octets(own, seconds, self._ended)
            own.shutdown(socket.SHUT_WR)

    def _test(self, wish: dict[str, Any]) -> None:
        """Tests another responder for who asks: only with a key, only within the networks that are answered."""
        from yaffle.probing.for_others import tested

        if not self._key:
            self._line.send({"granted": False})
            return
        self._line.send({"granted": True})
        try:
            for one in tested(wish, self._key, self._allowed):
                self._line.send(one.as_json())
        except (ValueError, YaffleError) as error:
            self._line.send({"refused": str(error)})
        self._line.send({"done": True})

    def _echo(self, _wish: dict[str, Any]) -> None:
        """Octets back as they come, one at a time: how far it is while something else runs."""
        self._line.send({"granted": True})
        own = self._line.socket
        own.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        own.settimeout(_PATIENCE_S)
        while not self._ended.is_set() and (octets := own.recv(16)):
            own.sendall(octets)

    def _media(self, wish: dict[str, Any]) -> None:
        seconds, codec = min(MOST_S, max(0.1, float(wish["seconds"]))), str(wish["codec"])
        codec_of(codec)
        dscp = int(wish.get("dscp", 0)) & _MOST_DSCP
        many = max(1, min(MOST_STREAMS, int(wish.get("streams", 1))))
        own = self._line.socket
        family = own.family
        with socket.socket(family, socket.SOCK_DGRAM) as media:
            media.bind((own.getsockname()[0], 0))
            token = secrets.token_bytes(16)
            self._line.send({"granted": True, "port": media.getsockname()[1], "token": token.hex()})
            peer = _proven(media, token, own.getpeername()[0])
            if peer is None:
                return
            media.connect(peer)
            sending = threading.Thread(target=send_media, args=(media, codec, seconds, dscp, self._ended, many))
            sending.start()
            heard = receive_media(media, codec, seconds, self._ended, many)
            sending.join()
        self._line.send(heard)


def _proven(media: socket.socket, token: bytes, address: str) -> tuple[str, int] | None:
    """Where the other side's media come from: it sends the token that it got over the connection."""
    media.settimeout(_PATIENCE_S)
    for _ in range(64):
        data, peer = media.recvfrom(64)
        if data == token and peer[0] == address:
            return str(peer[0]), int(peer[1])
    return None
