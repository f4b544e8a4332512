"""Receives export datagrams on UDP and IPFIX over TCP (RFC 7011 section 10), and hands what they tell to a history
every second.

One thread receives and decodes, the keeper's writes: a slow disk delays nobody's datagrams. What the kernel had to drop
for
want of room is counted by the kernel itself and told.
"""

import selectors
import socket
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field

from yaffle.errors import YaffleError
from yaffle.history.datagram_socket import ROOM, next_datagram, open_datagrams
from yaffle.history.keeper import Keeper
from yaffle.history.layout import HOPS
from yaffle.hops.on_path import path_delay_rows
from yaffle.records.elements import PATH_DELAY
from yaffle.records.flow_table import FlowRecords
from yaffle.records.intake import Intake

_LARGEST = 1 << 16
_AT_ONCE = 256  # Datagrams of one socket before the others are looked at.
_MOST_SESSIONS = 256
_MOST_UNFRAMED = 1 << 17  # Bytes of a session that wait for the rest of their message.


@dataclass
class Status:
    """How reception goes, in numbers since it began."""

    datagrams: int = 0
    records: int = 0
    refused: int = 0  # datagrams that are none of ours, or broken
    kernel_drops: int = 0
    given_up: int = 0  # records for which there was no room on the disk or no time to write them
    trouble: str = ""
    waiting: int = 0  # flushes that the writer has not come to

    def as_dict(self) -> dict[str, int | str]:
        """For the history's folder."""
        return dict(vars(self))


@dataclass
class _Session:
    """One sender over TCP."""

    address: str
    data: bytearray = field(default_factory=bytearray)


class Reception:
    """Listens from `start` to `stop`. Raises YaffleError where a port cannot be had."""

    def __init__(
        self,
        keeper: Keeper,
        bind: str = "127.0.0.1",
        udp: tuple[int, ...] = (),
        tcp: tuple[int, ...] = (),
        every_s: float = 1.0,
        room: int = ROOM,
        heard: Callable[[Status], None] | None = None,
        path_delay: tuple[int, ...] = PATH_DELAY,
    ) -> None:
        self._keeper, self._every_s, self._room, self._heard = keeper, every_s, room, heard
        self._intake = Intake(path_delay)
        self.status = Status()
        self._drops: dict[int, int] = {}
        self._selector = selectors.DefaultSelector()
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._receive, name="receive", daemon=True)
        self.ports: list[tuple[str, int]] = []
        self._sessions = 0
        try:
            for kind, ports in ((socket.SOCK_DGRAM, udp), (socket.SOCK_STREAM, tcp)):
                for port in ports:
                    self._open(bind, port, kind)
        except OSError as error:
            self._close()
            raise YaffleError(
                f"cannot listen on {bind}: {error.strerror or error}; another port, or another address, may be free"
            ) from error

    def _open(self, bind: str, port: int, kind: int) -> None:
        if kind == socket.SOCK_DGRAM:
            own = open_datagrams(bind, port, self._room)
            self._selector.register(own, selectors.EVENT_READ, self._datagrams)
        else:
            own = socket.socket(socket.AF_INET6 if ":" in bind else socket.AF_INET, kind)
            self._selector.register(own, selectors.EVENT_READ, self._accept)
            own.setblocking(False)
            own.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            own.bind((bind, port))
            own.listen(16)
        self.ports.append(("UDP" if kind == socket.SOCK_DGRAM else "TCP", own.getsockname()[1]))

    def start(self) -> None:
        """Begins, on a thread of its own."""
        self._thread.start()

    def stop(self) -> None:
        """Ends when all that came is handed over."""
        self._stopping.set()
        self._thread.join()
        self._close()

    def _close(self) -> None:
        for key in list(self._selector.get_map().values()):
            key.fileobj.close()  # type: ignore[union-attr]
        self._selector.close()

    # --- receiving ---
    def _receive(self) -> None:
        due = time.monotonic() + self._every_s
        while not self._stopping.is_set():
            for key, _ in self._selector.select(max(0.0, min(0.2, due - time.monotonic()))):
                key.data(key.fileobj)
            if time.monotonic() >= due:
                due = max(due + self._every_s, time.monotonic())
                self._hand_over(self._intake.drain())
        for key in list(self._selector.get_map().values()):  # What is there already is not left behind.
            if key.data == self._datagrams:
                self._datagrams(key.fileobj, all_of_it=True)  # type: ignore[arg-type]
        self._hand_over(self._intake.finish())

    def _hand_over(self, found: FlowRecords) -> None:
        self.status.refused = self._intake.refused
        self.status.records = sum(e.flow_records for e in found.exporters)
        if not self._keeper.put(found):
            self.status.given_up += found.rows.size
        delays = path_delay_rows(found)
        if delays is not None and not self._keeper.put((HOPS, delays)):
            self.status.given_up += delays.num_rows
        self.status.waiting, self.status.trouble = self._keeper.waiting, self._keeper.trouble
        self._keeper.writer.reception = self.status.as_dict()
        if self._heard is not None:
            self._heard(self.status)

    def _datagrams(self, own: socket.socket, all_of_it: bool = False) -> None:
        count = 0
        number = own.fileno()
        take = self._intake.take
        while (count < _AT_ONCE or all_of_it) and (one := next_datagram(own)) is not None:
            data, sender, arrived_ns, dropped = one
            count += 1
            if dropped >= 0:
                self._drops[number] = dropped
            take(arrived_ns or time.time_ns(), sender, data)
        self.status.datagrams += count
        self.status.kernel_drops = sum(self._drops.values())

    # --- IPFIX over TCP ---
    def _accept(self, own: socket.socket) -> None:
        with suppress(BlockingIOError, ConnectionError):
            peer, sender = own.accept()
            if self._sessions >= _MOST_SESSIONS:
                peer.close()
                return
            self._sessions += 1
            peer.setblocking(False)
            session = _Session(sender[0])
            self._selector.register(peer, selectors.EVENT_READ, lambda of: self._stream(of, session))

    def _stream(self, peer: socket.socket, session: _Session) -> None:
        try:
            more = peer.recv(_LARGEST)
        except BlockingIOError:
            return
        except OSError:
            more = b""
        session.data += more
        while len(session.data) >= 16:
            size = int.from_bytes(session.data[2:4], "big")
            if session.data[:2] != b"\0\x0a" or size < 16:  # RFC 7011 section 10.4: such a session is given up.
                self._intake.refused += 1
                more = b""
                break
            if len(session.data) < size:
                break
            self._intake.take(time.time_ns(), session.address, bytes(session.data[:size]))
            self.status.datagrams += 1
            del session.data[:size]
        if not more or len(session.data) > _MOST_UNFRAMED:
            self._sessions -= 1
            self._selector.unregister(peer)
            peer.close()
