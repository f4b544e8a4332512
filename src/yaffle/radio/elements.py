"""Bodies of management frames (IEEE 802.11-2020, 9.3.3 and 9.4): what access points say of themselves, answers with
their status, reasons.
"""

from dataclasses import dataclass
from struct import unpack_from

ASSOCIATION, ASSOCIATED, REASSOCIATION, REASSOCIATED, PROBE, PROBED, BEACON = 0, 1, 2, 3, 4, 5, 8
DISASSOCIATION, AUTHENTICATION, DEAUTHENTICATION = 10, 11, 12
_FIXED = {BEACON: 12, PROBED: 12, ASSOCIATION: 4, REASSOCIATION: 10, ASSOCIATED: 6, REASSOCIATED: 6, PROBE: 0}
FAST_TRANSITION = 2  # authentication algorithm
_GOES_ON = (0, 76, 126, 127)  # status codes of an authentication that is not refused (SAE, RFC 7664 as 802.11 uses it)
_SSID, _DS, _LOAD, _RSN, _HT, _VHT, _VENDOR, _EXTENDED = 0, 3, 11, 48, 61, 192, 221, 255
_HE_OPERATION = 36
_SIX_GHZ, _VHT_INFO, _CO_HOSTED = 0x20000, 0x4000, 0x8000

REASONS = {
    1: "unspecified", 2: "authentication no longer valid", 3: "the station leaves", 4: "inactivity",
    5: "the access point cannot handle all stations", 6: "a data frame without authentication",
    7: "a data frame without association", 8: "the station leaves to another access point", 9: "not authenticated",
    13: "invalid element", 14: "message integrity failed", 15: "4-way handshake timed out",
    16: "group key handshake timed out", 17: "elements differ from the association's", 23: "802.1X failed",
    34: "poor channel conditions",
}  # fmt: skip
STATUSES = {
    1: "refused, unspecified", 12: "refused for reasons outside the standard",
    13: "authentication algorithm not supported",
    14: "authentication out of order", 15: "challenge failed", 16: "authentication timed out", 17: "too many stations",
    30: "refused for now", 53: "invalid pairwise master key identifier",
}  # fmt: skip


@dataclass(frozen=True)
class Told:
    """What elements say. ssid: empty where it is hidden; channel, stations: -1, busy: NaN, width: 0 where they are not
    told; six_ghz: whether the channel is one of 6 GHz.
    """

    ssid: str = ""
    channel: int = -1
    stations: int = -1
    busy_percent: float = float("nan")
    is_open: bool = True
    width_mhz: int = 0
    six_ghz: bool = False


def elements_of(body: bytes, subtype: int) -> Told:
    """The elements of a management frame. Never raises: what is cut off is not told."""
    at = _FIXED.get(subtype, 0)
    is_open = not (subtype in (BEACON, PROBED) and len(body) >= 12 and body[10] & 0x10)
    ssid, channel, stations, busy, width, six = "", -1, -1, float("nan"), 0, False
    while at + 2 <= len(body):
        kind, size = body[at], body[at + 1]
        own = body[at + 2 : at + 2 + size]
        if len(own) < size:
            break
        if kind == _SSID and own.strip(b"\0"):
            ssid = own.decode("utf-8", "replace")
        elif kind == _DS and size >= 1:
            channel = own[0]
        elif kind == _HT and size >= 2:
            channel = own[0] if channel < 0 else channel
            width = max(width, 40 if own[1] & 3 in (1, 3) else 20)
        elif kind == _VHT and size >= 3:
            width = max(width, _vht_width(own))
        elif kind == _LOAD and size >= 3:
            stations, busy = unpack_from("<H", own)[0], 100 * own[2] / 255
        elif kind == _EXTENDED and size >= 7 and own[0] == _HE_OPERATION and (told := _six_ghz(own)) is not None:
            six, (channel, width) = True, told
        at += 2 + size
    return Told(ssid, channel, stations, busy, is_open, width, six)


def _vht_width(own: bytes) -> int:
    """MHz of a VHT operation element (802.11-2020, 9.4.2.158); 0 where it leaves that to the HT operation."""
    kind, first, second = own[:3]
    if kind == 0:
        return 0
    if kind == 1:
        return 80 if second == 0 or abs(second - first) > 16 else 160
    return 160


def _six_ghz(own: bytes) -> tuple[int, int] | None:
    """(primary channel, MHz) of an HE operation element at 6 GHz; None elsewhere."""
    parameters = int.from_bytes(own[1:4], "little")
    at = 7 + (3 if parameters & _VHT_INFO else 0) + (1 if parameters & _CO_HOSTED else 0)
    if not parameters & _SIX_GHZ or at + 1 >= len(own):
        return None
    return own[at], 20 << (own[at + 1] & 3)


def authentication(body: bytes) -> tuple[int, int, int] | None:
    """(algorithm, number in the exchange, status) of an authentication."""
    return unpack_from("<HHH", body) if len(body) >= 6 else None


def is_refusal(status: int) -> bool:
    """Whether an authentication ends with a status."""
    return status not in _GOES_ON


def status_of(body: bytes) -> int:
    """The status of an association's answer; -1 cut off."""
    return int(unpack_from("<H", body, 2)[0]) if len(body) >= 4 else -1


def reason_of(body: bytes) -> int:
    """The reason of a deauthentication or disassociation; -1 cut off, or protected."""
    return int(unpack_from("<H", body)[0]) if len(body) >= 2 else -1


def band_of(channel: int, frequency_mhz: int, *, six_ghz: bool) -> str:
    """The band of a channel, by the frequency where it was heard, else by its number; empty where neither is known."""
    if six_ghz or frequency_mhz >= 5955:
        return "6 GHz"
    if frequency_mhz:
        return "2.4 GHz" if frequency_mhz < 3000 else "5 GHz"
    return "" if channel < 0 else "2.4 GHz" if channel <= 14 else "5 GHz"


def channel_of(frequency_mhz: int) -> int:
    """The channel of a center frequency (IEEE 802.11-2020, annex E); -1 of others."""
    if frequency_mhz == 2484:
        return 14
    if 2412 <= frequency_mhz <= 2472:
        return (frequency_mhz - 2407) // 5
    if 5955 <= frequency_mhz <= 7115:
        return (frequency_mhz - 5950) // 5
    if 5000 <= frequency_mhz <= 5895:
        return (frequency_mhz - 5000) // 5
    return -1
