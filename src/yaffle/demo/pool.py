"""Calls a server makes before it answers: a few connections to another server, each lent to one request at a time."""

from collections import deque
from collections.abc import Callable
from typing import NamedTuple

from yaffle.demo.network import Hop, World
from yaffle.demo.tcp_model import Endpoint, Host, Recv, Script, Send, Sleep, Until, pair


class Call(NamedTuple):
    """What is asked of the server behind, how long it thinks, what it answers."""

    request: int
    think_ns: int
    response: int
    asks: bytes = b""
    tells: bytes = b""


class _Job(NamedTuple):
    call: Call
    done: Callable[[], None]


class _Ends:
    """A lent connection: its two scripts go on when they are given a job."""

    def __init__(self, opening: Call, free: Callable[["_Ends"], None]) -> None:
        self._opening, self._free = opening, free
        self._asking: Callable[[], None] | None = None
        self._answering: Callable[[], None] | None = None
        self._job: _Job | None = None
        self._to_serve: deque[Call] = deque()

    def take(self, job: _Job) -> None:
        """Asks on this connection, which is idle."""
        self._job = job
        if self._asking is not None:
            self._asking()

    def _wait_for_job(self, wake: Callable[[], None]) -> None:
        self._asking = wake
        self._free(self)

    def client(self) -> Script:
        """Signs on, then asks what it is given."""
        self._serve(self._opening)
        yield Send(self._opening.request, self._opening.asks)
        yield Recv(self._opening.response)
        while True:
            yield Until(self._wait_for_job)
            assert self._job is not None
            call, done = self._job
            self._serve(call)
            yield Send(call.request, call.asks)
            yield Recv(call.response)
            done()

    def _serve(self, call: Call) -> None:
        self._to_serve.append(call)
        if self._answering is not None:
            wake, self._answering = self._answering, None
            wake()

    def _wait_for_call(self, wake: Callable[[], None]) -> None:
        if self._to_serve:
            wake()
        else:
            self._answering = wake

    def server(self) -> Script:
        """Answers one call after another."""
        while True:
            yield Until(self._wait_for_call)
            call = self._to_serve.popleft()
            yield Recv(call.request)
            yield Sleep(call.think_ns)
            yield Send(call.response, call.tells)


class Pool:
    """Connections of one server to another. Who finds none free waits its turn."""

    def __init__(
        self,
        world: World,
        hosts: tuple[Host, Host],
        port: int,
        ways: tuple[list[Hop], list[Hop]],
        size: int,
        opening: Call,
    ) -> None:
        self._idle: deque[_Ends] = deque()
        self._waiting: deque[_Job] = deque()
        for k in range(size):
            ends = _Ends(opening, self._freed)
            one = Endpoint(hosts[0], hosts[0].port(), ends.client())
            pair(one, Endpoint(hosts[1], port, ends.server()), *ways)
            world.at((20 + 7 * k) * 1_000_000, one.connect)

    def ask(self, call: Call, done: Callable[[], None]) -> None:
        """Makes the call on a free connection, or on the next that becomes free."""
        job = _Job(call, done)
        if self._idle:
            self._idle.popleft().take(job)
        else:
            self._waiting.append(job)

    def _freed(self, ends: _Ends) -> None:
        if self._waiting:
            ends.take(self._waiting.popleft())
        else:
            self._idle.append(ends)
