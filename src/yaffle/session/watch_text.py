"""A watch as text of a configuration, put at its end: what stands there, comments too, stays as it is."""

import json
from pathlib import Path

from yaffle.collector.configuration import read_configuration
from yaffle.errors import YaffleError
from yaffle.watching.watch import ABOVE, ABSENT, AVAILABLE, BELOW, OUTSIDE, Watch

_NS = 10**9


def _duration(value_ns: int) -> str:
    for size, unit in ((86_400 * _NS, "d"), (3600 * _NS, "h"), (60 * _NS, "min"), (_NS, "s")):
        if value_ns and value_ns % size == 0:
            return f"{value_ns // size}{unit}"
    return f"{value_ns // 10**6}ms"


def text_of(watch: Watch) -> str:
    """The table of a watch. JSON's texts are texts of TOML."""
    told: list[tuple[str, str]] = [("name", json.dumps(watch.name)), ("measure", json.dumps(watch.measure))]
    for key, value in (("of", watch.of), ("where", watch.where)):
        if value:
            told.append((key, json.dumps(value)))
    told.append(("over", json.dumps(_duration(watch.over_ns))))
    if watch.rule in (ABSENT, OUTSIDE):
        told.append((watch.rule, "true"))
    else:
        told.append((watch.rule, repr(watch.limit)))
    for key, minute in ((ABOVE, watch.minute_above), (BELOW, watch.minute_below)):
        if watch.rule == AVAILABLE and minute is not None:
            told.append((key, repr(minute)))
    if watch.for_ns:
        told.append(("for", json.dumps(_duration(watch.for_ns))))
    if watch.clear_at is not None:
        told.append(("clear", repr(watch.clear_at)))
    told.append(("severity", json.dumps(watch.severity)))
    return "\n[[watch]]\n" + "".join(f"{key} = {value}\n" for key, value in told)


def add_watch(path: Path, watch: Watch) -> None:
    """Adds a watch to a configuration, whole or not at all; what would be wrong then is not written. Raises
    YaffleError.
    """
    part = path.with_name(f"{path.name}.part")
    try:
        former = path.read_text(encoding="utf-8")
        part.write_text(former.rstrip("\n") + "\n" + text_of(watch), encoding="utf-8")
        part.chmod(path.stat().st_mode & 0o777)
        try:
            read_configuration(part)
        except YaffleError as error:
            raise YaffleError(str(error).replace(str(part), str(path))) from error
        part.replace(path)
    except OSError as error:
        raise YaffleError(f"{path}: cannot be written ({error.strerror or error})") from error
    finally:
        part.unlink(missing_ok=True)
