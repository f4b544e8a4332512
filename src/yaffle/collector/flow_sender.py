"""Sends this host's flow records on to a collector elsewhere: IPFIX over UDP (RFC 7011 section 10.3)."""

import socket
from urllib.parse import urlsplit

from yaffle.errors import YaffleError
from yaffle.records.flow_table import FlowRecords
from yaffle.records.ipfix_writer import messages

_EACH = 8  # Records of a datagram: with the templates before them they fit into 1,500 octets of any network.
_DOMAIN = 1


def address_of(url: str) -> tuple[str, int]:
    """Host and port of udp://HOST:PORT. Raises ValueError."""
    told = urlsplit(url)
    if told.scheme != "udp" or not told.hostname or not told.port or told.path.strip("/"):
        raise ValueError('where to, as "udp://192.0.2.9:4739"')
    return told.hostname, told.port


class FlowSender:
    """To one collector. Raises YaffleError where its name is not known."""

    def __init__(self, url: str) -> None:
        host, port = address_of(url)
        try:
            family, kind, _, _, address = socket.getaddrinfo(host, port, type=socket.SOCK_DGRAM)[0]
        except OSError as error:
            raise YaffleError(f"{url}: this name is not known ({error.strerror or error})") from error
        self._socket = socket.socket(family, kind)
        self._socket.connect(address)
        self._sequence = 0
        self.refused = 0  # datagrams that this host or the other one did not take

    def send(self, found: FlowRecords) -> None:
        """Sends records of one exporter; those that nobody takes are counted, the next ones may find somebody."""
        begun = self._sequence
        for message, told in messages(found.rows, found.exporters[0], _DOMAIN, begun, _EACH):
            self._sequence = begun + told & 0xFFFFFFFF
            try:
                self._socket.send(message)
            except OSError:
                self.refused += 1

    def close(self) -> None:
        """Ends it."""
        self._socket.close()
