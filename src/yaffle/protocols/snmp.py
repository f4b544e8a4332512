"""SNMP, versions 1, 2c and 3 (RFC 1157, 3416, 3412): requests with their responses by number.

Communities and users are not kept.
"""

from dataclasses import dataclass

from yaffle.protocols import ber

_ASKS = {0xA0: "get", 0xA1: "get-next", 0xA3: "set", 0xA5: "get-bulk", 0xA6: "inform"}
_RESPONSE, _REPORT = 0xA2, 0xA8
ERRORS = (
    "noError", "tooBig", "noSuchName", "badValue", "readOnly", "genErr", "noAccess", "wrongType", "wrongLength",
    "wrongEncoding", "wrongValue", "noCreation",
    "inconsistentValue", "resourceUnavailable", "commitFailed", "undoFailed", "authorizationError", "notWritable",
    "inconsistentName",
)  # fmt: skip
ENCRYPTED = "encrypted"


@dataclass(frozen=True, slots=True)
class SnmpMessage:
    """What one message says."""

    kind: str  # get, get-next, set, get-bulk, inform, response, report, encrypted
    number: int
    name: str  # the first object asked for
    outcome: str  # of a response or report


def object_name(contents: bytes) -> str:
    """An object identifier as numbers with dots."""
    if not contents:
        return ""
    numbers, value = [contents[0] // 40, contents[0] % 40], 0
    for octet in contents[1:64]:
        value = value << 7 | octet & 0x7F
        if not octet & 0x80:
            numbers.append(value)
            value = 0
    return ".".join(map(str, numbers))


def parse(data: bytes) -> SnmpMessage | None:
    """One message; None where it is none."""
    outer = ber.header(data, 0)
    if outer is None or outer.tag != 0x30:
        return None
    body = data[outer.start : outer.end]
    places, parts = ber.places(body, 4), ber.parts(body, 4)
    if len(parts) < 3 or body[places[0]] != 2:
        return None
    version = ber.integer(parts[0])
    if version in (0, 1) and body[places[1]] == 4:
        return _unit(body, places[2])
    if version == 3 and len(parts) == 4 and body[places[1]] == 0x30:
        head = ber.parts(parts[1], 1)
        number = ber.integer(head[0]) if head else -1
        if body[places[3]] == 4:
            return SnmpMessage(ENCRYPTED, number, "", "")
        scoped = ber.places(parts[3], 3)
        unit = _unit(parts[3], scoped[2]) if len(scoped) == 3 else None
        return None if unit is None else SnmpMessage(unit.kind, number, unit.name, unit.outcome)
    return None


def _unit(data: bytes, at: int) -> SnmpMessage | None:
    """A protocol data unit."""
    part = ber.header(data, at)
    if part is None or part.tag not in (*_ASKS, _RESPONSE, _REPORT):
        return None
    fields = ber.parts(data[part.start : part.end], 4)
    if len(fields) < 3:
        return None
    objects = ber.parts(fields[3], 1) if len(fields) > 3 else []
    named = ber.parts(objects[0], 1) if objects else []
    number, error = ber.integer(fields[0]), ber.integer(fields[1])
    if part.tag in _ASKS:
        return SnmpMessage(_ASKS[part.tag], number, object_name(named[0]) if named else "", "")
    if part.tag == _REPORT:
        return SnmpMessage("report", number, object_name(named[0]) if named else "", "report")
    return SnmpMessage("response", number, "", ERRORS[error] if 0 <= error < len(ERRORS) else f"error {error}")
