"""Tests between two others: a responder that shares the key is asked to test another one, and tells its results.

So one place that holds the key can have all pairs of sites tested (a mesh). A responder does it only for who holds its
key, only towards addresses that it answers itself, and only kinds that go from one host to one other.
"""

import asyncio
import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from yaffle.probing.agreed import MOST_S, ask
from yaffle.probing.kinds import asked
from yaffle.probing.result import Result, result_of
from yaffle.probing.speed import connected, words_of
from yaffle.probing.wanted import RESPONDER_PORT, UnknownNameError, Wanted, host_and_port, resolved

KINDS = ("reach", "connect", "route", "delay", "speed", "voice", "video")
_PASSED_ON = ("timeout_s", "packets", "interval_s", "seconds", "dscp", "codec", "over", "streams")
_MOST_PACKETS, _LEAST_INTERVAL_S, _MOST_RESULTS, _SLACK_S = 1000, 0.005, 16, 30.0


def tested(wish: dict[str, Any], key: bytes, allowed: Callable[[str], bool]) -> list[Result]:
    """What is wished, done by this host. Raises ValueError where it must not be, YaffleError where it cannot."""
    kind, target = str(wish["kind"]), str(wish["target"])
    if kind not in KINDS:
        raise ValueError(f"{kind} is not done for others")
    wanted = Wanted(
        kind, target, min(MOST_S, float(wish["timeout_s"])), packets=min(_MOST_PACKETS, int(wish["packets"])),
        interval_s=max(_LEAST_INTERVAL_S, float(wish["interval_s"])), seconds=min(MOST_S, float(wish["seconds"])),
        dscp=int(wish["dscp"]) & 63, codec=str(wish["codec"]), over=str(wish["over"]), key=key,
        streams=int(wish["streams"]),
    )  # fmt: skip

    async def within() -> list[Result]:
        host, port = host_and_port(target, RESPONDER_PORT)
        end = await resolved(host, port, wanted)
        if not allowed(end.address):
            raise ValueError(f"{end.address} is not within the networks that are answered")
        return await asked(wanted)

    return asyncio.run(within())


async def asked_of(source: str, wanted: Wanted) -> list[Result]:
    """A test of one responder by another one. Its results carry `source`."""
    at_source = replace(wanted, target=source)
    try:
        host, port = host_and_port(source, RESPONDER_PORT)
        end = await resolved(host, port, at_source)
        results = await asyncio.to_thread(_told, at_source, wanted, end)
    except (UnknownNameError, OSError, ValueError, KeyError, TypeError) as error:
        why = str(error) if isinstance(error, UnknownNameError) else words_of(error, wanted)
        return [Result(wanted.kind, wanted.target, time.time_ns(), False, f"{source}: {why}", None, {"source": source})]
    return [replace(one, more=one.more | {"source": source}) for one in results]


def _told(at_source: Wanted, wanted: Wanted, end: Any) -> list[Result]:
    with connected(end, at_source) as own:
        wish = {"do": "test", "kind": wanted.kind, "target": wanted.target}
        line = ask(own, wanted.key, wish | {key: getattr(wanted, key) for key in _PASSED_ON})
        own.settimeout(2 * wanted.seconds + wanted.timeout_s + _SLACK_S)
        found: list[Result] = []
        while not (told := line.read()).get("done"):
            if "refused" in told:
                raise ValueError(f"it does not do that: {told['refused']}")
            found.append(result_of(told))
            if len(found) > _MOST_RESULTS:
                raise ValueError("more results than a test has")
    if not found:
        raise ValueError("it told no result")
    return found
