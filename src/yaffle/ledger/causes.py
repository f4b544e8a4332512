"""Parties and causes. A charge column is a pair of both; its number is the index everywhere."""

CLIENT, NETWORK, SERVER, UNEXPLAINED, NONE = "client", "network", "server", "unexplained", "none"
PARTIES = (CLIENT, NETWORK, SERVER, UNEXPLAINED)

CHARGES: tuple[tuple[str, str], ...] = (
    (NETWORK, "set-up"),
    (NETWORK, "round-trip"),
    (NETWORK, "rate"),
    (NETWORK, "queueing"),
    (NETWORK, "loss"),
    (SERVER, "processing"),
    (SERVER, "stall"),
    (SERVER, "window"),
    (CLIENT, "pacing"),
    (CLIENT, "window"),
    (CLIENT, "encryption"),
    (SERVER, "encryption"),
    (NETWORK, "name"),
    (SERVER, "name"),
    (UNEXPLAINED, "unseen"),
)
SET_UP, ROUND_TRIP, RATE, QUEUEING, LOSS, PROCESSING, STALL, SERVER_WINDOW, PACING, CLIENT_WINDOW = range(10)
CLIENT_ENCRYPTION, SERVER_ENCRYPTION, NAME, SERVER_NAME, UNSEEN = range(10, 15)
COUNT = len(CHARGES)

WORDS = {
    "set-up": "connection setup",
    "round-trip": "network round-trip time",
    "rate": "bottleneck bandwidth",
    "queueing": "queuing delay",
    "loss": "packet loss and retransmission",
    "processing": "server processing",
    "stall": "response stalled midway",
    "window": "receive window limited",
    "pacing": "request stalled midway",
    "encryption": "TLS handshake processing",
    "name": "DNS lookup",
    "unseen": "not attributable (missing data)",
}

SHORT = {
    "set-up": "connection setup",
    "round-trip": "round trips",
    "rate": "bottleneck bandwidth",
    "queueing": "queuing",
    "loss": "packet loss",
    "processing": "processing",
    "stall": "stall",
    "window": "receive window",
    "pacing": "pause",
    "encryption": "TLS handshake",
    "name": "DNS lookup",
    "unseen": "missing data",
}


def charge_name(column: int) -> str:
    """Party and cause of a charge column in a few words."""
    party, cause = CHARGES[column]
    return f"{party} {SHORT[cause]}"


_PARTY_COLUMNS = {party: [i for i, (who, _) in enumerate(CHARGES) if who == party] for party in PARTIES}


def party_columns(party: str) -> list[int]:
    """Charge columns of a party."""
    return list(_PARTY_COLUMNS[party])
