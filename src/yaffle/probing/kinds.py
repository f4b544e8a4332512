"""The kinds of tests by name."""

from collections.abc import Awaitable, Callable

from yaffle.errors import YaffleError
from yaffle.probing.result import Result
from yaffle.probing.wanted import Wanted

Test = Callable[[Wanted], Awaitable[list[Result]]]
KINDS = ("reach", "connect", "page", "name", "route", "delay", "speed", "voice", "video", "sweep", "storm")


def test_of(kind: str) -> Test:
    """What does a test of a kind. Raises YaffleError."""
    if kind not in KINDS:
        raise YaffleError(f"{kind}: there is no such test; these are: {', '.join(KINDS)}")
    # Libraries of one kind are not loaded for another.
    if kind == "reach":
        from yaffle.probing.reach import reach as test
    elif kind == "connect":
        from yaffle.probing.connect import connect as test
    elif kind == "page":
        from yaffle.probing.page import page as test
    elif kind == "name":
        from yaffle.probing.name import name as test
    elif kind == "route":
        from yaffle.probing.route import route as test
    elif kind == "delay":
        from yaffle.probing.delay import delay as test
    elif kind == "speed":
        from yaffle.probing.speed import speed as test
    elif kind == "sweep":
        from yaffle.probing.sweep import sweep as test
    elif kind == "storm":
        from yaffle.probing.storm import storm as test
    else:
        from yaffle.probing.media import media as test
    return test


async def asked(wanted: Wanted) -> list[Result]:
    """One test. Raises YaffleError where it cannot be asked at all."""
    return await test_of(wanted.kind)(wanted)
