"""Which protocol a connection speaks, told by its first bytes."""

from yaffle.protocols import dns_stream, http1, http2, ldap, mysql, postgres, redis, smb, tls

FIRST = 64  # Bytes by which a protocol is told.
SHORT = 16  # Fewer of a side are too few where more follow.
_LOOKS_LIKE = (
    ("http", http1.looks_like), ("http2", http2.looks_like), ("tls", tls.looks_like),
    ("postgresql", postgres.looks_like), ("redis", redis.looks_like), ("mysql", mysql.looks_like),
    ("smb", smb.looks_like), ("ldap", ldap.looks_like),
)  # fmt: skip


def spoken(client: bytes, server: bytes, port: int) -> str:
    """The protocol of a connection that begins like this; empty where none matches."""
    for protocol, looks_like in _LOOKS_LIKE:
        if looks_like(client, server):
            return protocol
    return "dns" if dns_stream.looks_like(client, port) else ""
