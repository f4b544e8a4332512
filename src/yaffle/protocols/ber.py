"""The basic encoding rules (ITU-T X.690), as far as LDAP and SNMP need them: tags of one octet, definite lengths."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Part:
    """One element: its tag, where its contents begin, where they end (which may lie behind the bytes at hand)."""

    tag: int
    start: int
    end: int

    @property
    def size(self) -> int:
        """Octets of its contents."""
        return self.end - self.start


def header(data: bytes, at: int) -> Part | None:
    """The element that begins at a place; None where none does, or its length is not all there."""
    if at + 2 > len(data) or data[at] & 0x1F == 0x1F:
        return None
    size = data[at + 1]
    if size < 0x80:
        return Part(data[at], at + 2, at + 2 + size)
    octets = size & 0x7F
    if not 1 <= octets <= 4 or at + 2 + octets > len(data):
        return None
    return Part(data[at], at + 2 + octets, at + 2 + octets + int.from_bytes(data[at + 2 : at + 2 + octets], "big"))


def places(data: bytes, most: int) -> list[int]:
    """Where the first elements begin, one behind the other."""
    found: list[int] = []
    at = 0
    while at < len(data) and len(found) < most:
        part = header(data, at)
        if part is None:
            break
        found.append(at)
        at = part.end
    return found


def parts(data: bytes, most: int) -> list[bytes]:
    """Contents of the first elements."""
    found = []
    for at in places(data, most):
        part = header(data, at)
        if part is not None:
            found.append(data[part.start : part.end])
    return found


def integer(contents: bytes) -> int:
    """A whole number of up to eight octets; -1 where there is none."""
    return int.from_bytes(contents, "big", signed=True) if 1 <= len(contents) <= 8 else -1
