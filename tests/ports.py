"""Ports of this host's loopback for servers that a test starts."""

import contextlib
import itertools
import os
import socket

FIRST, LAST = 12_000, 32_000  # below what the kernel gives to connections that choose none
_WORKERS = 16
_EACH = (LAST - FIRST) // _WORKERS


def _of_this_worker():
    """The numbers of this worker of the tests, one after another; two workers share none."""
    worker = int(os.environ.get("PYTEST_XDIST_WORKER", "gw0").removeprefix("gw")) % _WORKERS
    first = FIRST + worker * _EACH
    start = os.getpid() % _EACH  # another run of the tests beside this one begins elsewhere
    return itertools.cycle(first + (start + step) % _EACH for step in range(_EACH))


_numbers = _of_this_worker()


def _free(port):
    with contextlib.ExitStack() as held:
        for kind in (socket.SOCK_DGRAM, socket.SOCK_STREAM):
            own = held.enter_context(socket.socket(socket.AF_INET, kind))
            try:
                own.bind(("127.0.0.1", port))
            except OSError:
                return False
    return True


def free_port():
    """A port that nobody holds by UDP or TCP and that no other test is given."""
    return next(port for port in itertools.islice(_numbers, _EACH) if _free(port))
