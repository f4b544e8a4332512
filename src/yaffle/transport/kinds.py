"""What a TCP segment is. Stored in the packet column `kind`: the kind in the low five bits, two remarks above."""

from yaffle.kernels import helper

OTHER, DATA, PURE_ACK, DUPLICATE_ACK, WINDOW_UPDATE = 0, 1, 2, 3, 4
OPEN, OPEN_ANSWER, CLOSE, RESET = 5, 6, 7, 8
KEEP_ALIVE, KEEP_ALIVE_ANSWER, WINDOW_PROBE, WINDOW_PROBE_ANSWER = 9, 10, 11, 12
REPEAT_TIMEOUT, REPEAT_AFTER, REPEAT_FAST, REPEAT_TAIL, REPEAT_OPEN, REPEAT_CLOSE = 13, 14, 15, 16, 17, 18
OUT_OF_ORDER, COPY = 19, 20

KIND_MASK = 31
FIRST_UNSEEN = 64  # A repeat whose first copy did not reach this point.
SPURIOUS = 128  # A repeat of what had arrived already.

WORDS = {
    OTHER: "other",
    DATA: "data",
    PURE_ACK: "acknowledgement",
    DUPLICATE_ACK: "duplicate acknowledgement",
    WINDOW_UPDATE: "window update",
    OPEN: "SYN",
    OPEN_ANSWER: "SYN-ACK",
    CLOSE: "FIN",
    RESET: "reset",
    KEEP_ALIVE: "keep-alive",
    KEEP_ALIVE_ANSWER: "keep-alive ACK",
    WINDOW_PROBE: "zero-window probe",
    WINDOW_PROBE_ANSWER: "zero-window probe ACK",
    REPEAT_TIMEOUT: "timeout retransmission (RTO)",
    REPEAT_AFTER: "retransmission after RTO",
    REPEAT_FAST: "fast retransmission",
    REPEAT_TAIL: "tail loss probe",
    REPEAT_OPEN: "SYN retransmission",
    REPEAT_CLOSE: "FIN retransmission",
    OUT_OF_ORDER: "out-of-order",
    COPY: "network duplicate",
}


def in_words(kind: int) -> str:
    """The kind with its remarks, for people."""
    text = WORDS[kind & KIND_MASK]
    if kind & FIRST_UNSEEN:
        text += ", original lost before this capture point"
    if kind & SPURIOUS:
        text += ", spurious"
    return text


def is_repeat(kind: int) -> bool:
    """Whether the sender sent this again."""
    return REPEAT_TIMEOUT <= (kind & KIND_MASK) <= REPEAT_CLOSE


@helper
def repeats(kind: int) -> bool:
    """Whether the sender sent this again; for kernels."""
    return REPEAT_TIMEOUT <= (kind & KIND_MASK) <= REPEAT_CLOSE


@helper
def repairs(kind: int) -> bool:
    """Whether the sender sent this again and that was needed; for kernels."""
    return REPEAT_TIMEOUT <= (kind & KIND_MASK) <= REPEAT_CLOSE and kind & SPURIOUS == 0


@helper
def after_timer(kind: int) -> bool:
    """Whether this was sent again because a timer of the sender expired; for kernels."""
    base = kind & KIND_MASK
    return base == REPEAT_TIMEOUT or base == REPEAT_AFTER or base == REPEAT_TAIL


@helper
def probes(kind: int) -> bool:
    """Whether this asks for an acknowledgement and carries nothing new; for kernels."""
    return (kind & KIND_MASK) == KEEP_ALIVE or (kind & KIND_MASK) == WINDOW_PROBE
