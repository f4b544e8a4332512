"""Answers tests: STAMP on UDP; speed and media by agreement on TCP at the same port.

Only allowed networks are answered, never with more octets than they sent until their address is proven by a connection,
with bounds on rate and number; nothing that is longer than it may be is read.
"""

import contextlib
import ipaddress
import select
import socket
import threading
import time
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass, field

from yaffle.errors import YaffleError
from yaffle.probing import stamp
from yaffle.probing.agreed import Agreed
from yaffle.probing.icmp_words import stamp_of

_LONGEST = 1500  # Octets of a datagram that is read.
_MOST_SESSIONS, _MOST_CONNECTIONS, _MOST_OF_ONE = 4096, 64, 24
_RATE = 5_000  # datagrams a second that one address may send
_IDLE_NS = 60 * 10**9
_LOOK_S = 0.2


@dataclass
class _Peer:
    """One sender of a session: how many of its packets were answered; and its rate."""

    count: int = 0
    latest_ns: int = 0


@dataclass
class Counts:
    """What came, and what was not answered."""

    answered: int = 0
    forbidden: int = 0
    malformed: int = 0
    too_many: int = 0
    served: int = 0


@dataclass
class Responder:
    """From `start` to `stop`. bind: empty for all addresses; allow: networks that are answered."""

    bind: str = "127.0.0.1"
    port: int = 8620
    allow: Sequence[str] = ()
    key: bytes = b""
    counts: Counts = field(default_factory=Counts)

    def start(self) -> None:
        """Begins. Raises YaffleError where the port cannot be had."""
        try:
            self._networks = [ipaddress.ip_network(one, strict=False) for one in self.allow]
        except ValueError as error:
            raise YaffleError(f"--allow: {error}") from error
        family = socket.AF_INET6 if ":" in self.bind else socket.AF_INET
        self._udp = socket.socket(family, socket.SOCK_DGRAM)
        self._tcp = socket.socket(family, socket.SOCK_STREAM)
        try:
            self._tcp.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            self._tcp.bind((self.bind, self.port))
            self.port = self._tcp.getsockname()[1]
            self._udp.bind((self.bind, self.port))
        except OSError as error:
            self._udp.close()
            self._tcp.close()
            raise YaffleError(f"{self.bind} port {self.port}: {error.strerror or error}") from error
        self._tcp.listen(16)
        self._udp.setsockopt(socket.SOL_SOCKET, 35, 1)  # SO_TIMESTAMPNS
        self._udp.setsockopt(socket.IPPROTO_IPV6 if family == socket.AF_INET6 else socket.IPPROTO_IP,
                             51 if family == socket.AF_INET6 else 12, 1)  # fmt: skip  # IPV6_RECVHOPLIMIT, IP_RECVTTL
        self._ended = threading.Event()
        self._peers: OrderedDict[tuple[str, int], _Peer] = OrderedDict()
        self._rates: dict[str, int] = {}
        self._second = 0
        self._open: dict[str, int] = {}
        self._threads = [threading.Thread(target=work, daemon=True) for work in (self._reflect, self._accept)]
        for thread in self._threads:
            thread.start()

    def stop(self) -> None:
        """Ends; sessions under way are cut."""
        self._ended.set()
        for thread in self._threads:
            thread.join()
        self._udp.close()
        self._tcp.close()

    def allowed(self, address: str) -> bool:
        """Whether an address is answered: loopback, and the allowed networks."""
        own = ipaddress.ip_address(address.partition("%")[0])
        own = getattr(own, "ipv4_mapped", None) or own
        return own.is_loopback or any(own.version == net.version and own in net for net in self._networks)

    # --- datagrams ---
    def _reflect(self) -> None:
        while not self._ended.is_set():
            if not select.select([self._udp], [], [], _LOOK_S)[0]:
                continue
            with contextlib.suppress(OSError):
                data, told, flags, peer = self._udp.recvmsg(_LONGEST, 256)
                self._answer(data, told, peer, cut=bool(flags & socket.MSG_TRUNC))

    def _answer(self, data: bytes, told: list[tuple[int, int, bytes]], peer: tuple[str, int], *, cut: bool) -> None:
        received_ns = stamp_of(told) or time.time_ns()
        address = peer[0]
        if not self.allowed(address):
            self.counts.forbidden += 1
            return
        if not self._in_time(address, received_ns):
            self.counts.too_many += 1
            return
        asked = None if cut else stamp.read_ask(data, self.key)
        if asked is None:
            self.counts.malformed += 1
            return
        ttl = next((value[0] for level, kind, value in told if kind in (2, 52) and level != socket.SOL_SOCKET), 255)
        own = self._session(peer[:2], received_ns, first=asked.number == 0)
        reply = stamp.answer(asked, own.count, received_ns, ttl, self.key)
        own.count += 1
        self._udp.sendto(reply[: len(data)], peer)
        self.counts.answered += 1

    def _session(self, peer: tuple[str, int], now_ns: int, *, first: bool) -> _Peer:
        """The session of a sender (stateful reflector); begun anew with number 0, or after a long silence."""
        own = self._peers.get(peer)
        if own is None or now_ns - own.latest_ns > _IDLE_NS or (first and now_ns - own.latest_ns > 10**9):
            own = self._peers[peer] = _Peer()
        self._peers.move_to_end(peer)
        own.latest_ns = now_ns
        while len(self._peers) > _MOST_SESSIONS:
            self._peers.popitem(last=False)
        return own

    def _in_time(self, address: str, now_ns: int) -> bool:
        """Whether an address stays within its rate."""
        second = now_ns // 10**9
        if second != self._second:
            self._second, self._rates = second, {}
        if len(self._rates) >= _MOST_SESSIONS and address not in self._rates:
            return False
        self._rates[address] = self._rates.get(address, 0) + 1
        return self._rates[address] <= _RATE

    # --- connections ---
    def _accept(self) -> None:
        while not self._ended.is_set():
            if not select.select([self._tcp], [], [], _LOOK_S)[0]:
                continue
            with contextlib.suppress(OSError):
                own, peer = self._tcp.accept()
                if not self.allowed(peer[0]):
                    self.counts.forbidden += 1
                    own.close()
                elif sum(self._open.values()) >= _MOST_CONNECTIONS or self._open.get(peer[0], 0) >= _MOST_OF_ONE:
                    self.counts.too_many += 1
                    own.close()
                else:
                    self._open[peer[0]] = self._open.get(peer[0], 0) + 1
                    threading.Thread(target=self._serve, args=(own, peer[0]), daemon=True).start()

    def _serve(self, own: socket.socket, address: str) -> None:
        try:
            with own:
                Agreed(own, self.key, self._ended, self.allowed).serve()
                self.counts.served += 1
        except (OSError, ValueError, KeyError, TypeError, YaffleError):  # Whatever was wished is not to be had.
            self.counts.malformed += 1
        finally:
            self._open[address] -= 1
            if not self._open[address]:
                del self._open[address]
