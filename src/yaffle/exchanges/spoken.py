"""Which protocol a connection speaks, told by its first bytes."""

from yaffle.protocols import dns, http1, http2, ldap, mysql, postgres, redis, smb, tls

FIRST = 64  # Bytes by which a protocol is told.
SHORT = 16  # Fewer of a side are too few where more follow.


def spoken(client: bytes, server: bytes, port: int) -> str:
    """The protocol of a connection that begins like this; empty where none matches."""
    if http1.looks_like(client, server):
        return "http"
    if http2.looks_like(client, server):
        return "http2"
    if tls.looks_like(client, server):
        return "tls"
    if postgres.looks_like(client, server):
        return "postgresql"
    if redis.looks_like(client, server):
        return "redis"
    if mysql.looks_like(client, server):
        return "mysql"
    if smb.looks_like(client, server):
        return "smb"
    if ldap.looks_like(client, server):
        return "ldap"
    if dns.looks_like_stream(client, port):
        return "dns"
    return ""
