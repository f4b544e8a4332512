"""QUIC version 1 (RFC 9000, 9001): what anybody on the way may read. Long headers, and the client's hello in its first
packets.

The keys of Initial packets follow from the connection identifier that stands in them (RFC 9001 section 5.2): whoever
sees the first packet can open it. Everything later is closed.
"""

from dataclasses import dataclass, field

from yaffle.protocols.tls_hello import server_name

VERSION = 1
INITIAL, EARLY, HANDSHAKE, RETRY = range(4)
SHORT = -1
_SALT = bytes.fromhex("38762cf7f55934b34d179ae6a4c80cadccbb7f0a")
_LARGEST_HELLO = 1 << 16
_SAMPLE, _TAG = 16, 16


@dataclass(frozen=True, slots=True)
class Packet:
    """One packet of a datagram, as far as its header shows it."""

    kind: int  # SHORT, or one of the long kinds
    destination: bytes
    start: int
    number_at: int  # where the protected packet number stands; 0 where there is none
    end: int


def looks_like(data: bytes) -> bool:
    """Whether a datagram begins with a long header of this version."""
    return len(data) >= 7 and data[0] & 0xC0 == 0xC0 and int.from_bytes(data[1:5], "big") == VERSION and data[5] <= 20


def _varint(data: bytes, at: int) -> tuple[int, int]:
    """A number (RFC 9000 section 16) and the place behind it. Raises ValueError where it is cut off."""
    if at >= len(data):
        raise ValueError("cut off")
    size = 1 << (data[at] >> 6)
    if at + size > len(data):
        raise ValueError("cut off")
    return int.from_bytes(data[at : at + size], "big") & ((1 << (8 * size - 2)) - 1), at + size


def packets(data: bytes) -> list[Packet]:
    """Packets of a datagram; what is cut off or makes no sense ends the list."""
    found: list[Packet] = []
    at = 0
    while at < len(data):
        if not data[at] & 0x80:
            if data[at] & 0x40:
                found.append(Packet(SHORT, b"", at, 0, len(data)))
            break
        if at + 6 > len(data) or int.from_bytes(data[at + 1 : at + 5], "big") != VERSION:
            break
        try:
            place = at + 6 + data[at + 5]
            destination = data[at + 6 : place]
            place += 1 + data[place] if place < len(data) else 1
            kind = data[at] >> 4 & 3
            if kind == RETRY:
                found.append(Packet(kind, destination, at, 0, len(data)))
                break
            if kind == INITIAL:
                size, place = _varint(data, place)
                place += size
            size, place = _varint(data, place)
        except ValueError:
            break
        found.append(Packet(kind, destination, at, place, min(len(data), place + size)))
        if size == 0:
            break
        at = place + size
    return found


def _expanded(secret: bytes, label: str, size: int) -> bytes:
    """HKDF-Expand-Label (RFC 8446 section 7.1) without context."""
    from cryptography.hazmat.primitives.hashes import SHA256
    from cryptography.hazmat.primitives.kdf.hkdf import HKDFExpand

    name = b"tls13 " + label.encode()
    info = size.to_bytes(2, "big") + bytes([len(name)]) + name + b"\0"
    return HKDFExpand(SHA256(), size, info).derive(secret)


def opened(data: bytes, packet: Packet, destination: bytes) -> bytes | None:
    """The frames of a client's Initial packet; None where it does not open. destination: of the client's very first
    packet.
    """
    import hashlib
    import hmac

    from cryptography.exceptions import InvalidTag
    from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
    from cryptography.hazmat.primitives.ciphers.aead import AESGCM

    at = packet.number_at
    if packet.kind != INITIAL or at + 4 + _SAMPLE > packet.end:
        return None
    secret = _expanded(hmac.new(_SALT, destination, hashlib.sha256).digest(), "client in", 32)
    key, vector, veil = (
        _expanded(secret, "quic key", 16),
        _expanded(secret, "quic iv", 12),
        _expanded(secret, "quic hp", 16),
    )
    mask = Cipher(algorithms.AES(veil), modes.ECB()).encryptor().update(data[at + 4 : at + 4 + _SAMPLE])
    head = bytearray(data[packet.start : at + 4])
    head[0] ^= mask[0] & 0x0F
    size = (head[0] & 3) + 1
    for k in range(size):
        head[at - packet.start + k] ^= mask[1 + k]
    head = head[: at - packet.start + size]
    number = int.from_bytes(head[-size:], "big")
    nonce = (int.from_bytes(vector, "big") ^ number).to_bytes(12, "big")
    try:
        return AESGCM(key).decrypt(nonce, data[at + size : packet.end], bytes(head))
    except (InvalidTag, ValueError):
        return None


@dataclass
class Hello:
    """A client's hello, put together from the frames of its first packets, in whatever order they came."""

    _pieces: dict[int, bytes] = field(default_factory=dict)

    def take(self, frames: bytes) -> None:
        """Frames of one Initial packet."""
        at = 0
        try:
            while at < len(frames):
                kind, at = _varint(frames, at)
                if kind in (0, 1):
                    continue
                if kind in (2, 3):
                    at = _past_acknowledgement(frames, at, kind)
                elif kind == 6:
                    offset, at = _varint(frames, at)
                    size, at = _varint(frames, at)
                    if offset + size <= _LARGEST_HELLO:
                        self._pieces[offset] = frames[at : at + size]
                    at += size
                else:
                    return
        except ValueError:
            return

    @property
    def name(self) -> str:
        """The server's name, once what is there of the hello holds it; else empty."""
        whole = b""
        for offset in sorted(self._pieces):
            if offset > len(whole):
                break
            whole = whole[:offset] + self._pieces[offset] + whole[offset + len(self._pieces[offset]) :]
        return server_name(whole) if whole[:1] == b"\x01" else ""


def _past_acknowledgement(frames: bytes, at: int, kind: int) -> int:
    for _ in range(2):
        _, at = _varint(frames, at)
    ranges, at = _varint(frames, at)
    for _ in range(min(2 * ranges + 1 + (3 if kind == 3 else 0), len(frames))):
        _, at = _varint(frames, at)
    return at
