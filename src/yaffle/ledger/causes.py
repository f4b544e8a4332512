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
    "set-up": "setting up the connection",
    "round-trip": "unavoidable trips of request and answer",
    "rate": "data flowing at the pace of a bottleneck",
    "queueing": "packets waiting in queues on the way",
    "loss": "packets lost on the way and sent again",
    "processing": "working out the answer",
    "stall": "the answer standing still in its middle",
    "window": "the receiver not reading",
    "pacing": "the request standing still in its middle",
    "encryption": "computing in the encryption set-up",
    "name": "looking up the name",
    "unseen": "what this capture cannot tell",
}


def party_columns(party: str) -> list[int]:
    """Charge columns of a party."""
    return [i for i, (who, _) in enumerate(CHARGES) if who == party]
