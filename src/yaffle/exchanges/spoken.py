"""Which protocol a connection speaks, told by its first bytes."""

import numpy as np

from yaffle.arrays import Bools, Int64s, Uint16s
from yaffle.protocols import dns_stream, http1, http2, ldap, mysql, postgres, redis, smb, tls

FIRST = 64  # Bytes by which a protocol is told.
SHORT = 16  # Fewer of a side are too few where more follow.
_LOOKS_LIKE = (
    ("http", http1.looks_like), ("http2", http2.looks_like), ("tls", tls.looks_like),
    ("postgresql", postgres.looks_like), ("redis", redis.looks_like), ("mysql", mysql.looks_like),
    ("smb", smb.looks_like), ("ldap", ldap.looks_like),
)  # fmt: skip


def _octets() -> Bools:
    """By its value, whether what is said first in any of them may begin with an octet; at -1 that it does not."""
    found = np.zeros(257, bool)
    for module in (http1, http2, tls, postgres, redis, smb, ldap):
        found[list(module.BEGINS)] = True
    return found


_BEGINS = _octets()


def spoken(client: bytes, server: bytes, port: int) -> str:
    """The protocol of a connection that begins like this; empty where none matches."""
    for protocol, looks_like in _LOOKS_LIKE:
        if looks_like(client, server):
            return protocol
    return "dns" if dns_stream.looks_like(client, port) else ""


def may_be_spoken(asked: Int64s, answered: Int64s, versions: Int64s, ports: Uint16s) -> Bools:
    """Which of many connections may speak a known protocol: what `spoken` need be asked about.

    asked, answered: the first octet of either side; versions: the octet of the server's that would tell MySQL's; each
    -1 where it is not known. ports: of the servers.
    """
    begins = _BEGINS[np.where(asked >= 0, asked, answered)]
    return np.asarray(begins | (versions == mysql.VERSION) | (ports == dns_stream.PORT))
