"""What the hellos of TLS say in clear: the name that is asked for, the version that is settled on."""

_VERSIONS = {0x0301: "TLS 1.0", 0x0302: "TLS 1.1", 0x0303: "TLS 1.2", 0x0304: "TLS 1.3"}
NEWEST = "TLS 1.3"
CLIENT, SERVER = b"\x01", b"\x02"  # what a hello begins with
_SERVER_NAME, _SUPPORTED_VERSIONS = 0, 43
_AFTER_RANDOM = 4 + 2 + 32


def _extensions(body: bytes, at: int) -> dict[int, bytes]:
    found: dict[int, bytes] = {}
    if at + 2 > len(body):
        return found
    stop = min(len(body), at + 2 + int.from_bytes(body[at : at + 2], "big"))
    at += 2
    while at + 4 <= stop:
        kind, size = int.from_bytes(body[at : at + 2], "big"), int.from_bytes(body[at + 2 : at + 4], "big")
        found[kind] = body[at + 4 : min(stop, at + 4 + size)]
        at += 4 + size
    return found


def server_name(hello: bytes) -> str:
    """The name in a ClientHello (RFC 6066 section 3); empty where there is none."""
    at = _AFTER_RANDOM
    for size_octets in (1, 2, 1):  # session, cipher suites, compression
        if at + size_octets > len(hello):
            return ""
        at += size_octets + int.from_bytes(hello[at : at + size_octets], "big")
    names = _extensions(hello, at).get(_SERVER_NAME, b"")
    size = int.from_bytes(names[3:5], "big")
    return names[5 : 5 + size].decode("ascii", "replace") if len(names) > 5 and names[2] == 0 else ""


def version(hello: bytes) -> str:
    """The version that a ServerHello settles on; empty where it does not say."""
    at = _AFTER_RANDOM
    if at >= len(hello):
        return ""
    at += 1 + hello[at] + 3
    chosen = _extensions(hello, at).get(_SUPPORTED_VERSIONS, b"")
    return _VERSIONS.get(int.from_bytes(chosen[:2] or hello[4:6], "big"), "")
