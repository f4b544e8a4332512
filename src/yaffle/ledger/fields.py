"""What the rows of the account hold: the columns of connections and of exchanges, by name."""

from yaffle.ledger import bounds, causes

# Columns of one connection's facts, int64 each. The side's block stands twice: from the client, from the server.
CONNECTION_FIELDS = (
    "opening", "closing", "first_ns", "last_ns", "scales_known",
    "handshake_ns", "to_client_min_ns", "to_client_median_ns", "to_client_p95_ns", "to_client_max_ns",
    "to_server_min_ns", "to_server_median_ns", "to_server_p95_ns", "to_server_max_ns", "to_client_samples",
    "to_server_samples",
    "exchanges", "unanswered", "wait_ns", "set_up_ns", "worst_wait_ns", "pushed_bytes",
    "to_client_early_min_ns", "to_client_late_min_ns", "to_server_early_min_ns", "to_server_late_min_ns",
    "held_acknowledgements",
)  # fmt: skip
SIDE_FIELDS = (
    "packets", "payload_bytes", "unique_bytes", "retransmitted_packets", "retransmitted_bytes", "spurious_packets",
    "duplicate_packets", "out_of_order_packets", "duplicate_acks", "zero_window_ns", "max_in_flight_bytes", "resets",
    "keep_alives", "closing_repeats",
    "segments", "segment_bytes", "timeouts", "after_timeout", "fast_retransmissions", "tail_probes", "unseen_bytes",
)  # fmt: skip
EXCHANGE_FIELDS = (
    "connection", "first_ns", "asked_ns", "answered_ns", "last_ns", "end_ns", "request_bytes", "response_bytes",
    "set_up_ns", "message", *bounds.FIELDS,
)  # fmt: skip

C0 = len(CONNECTION_FIELDS)
S0 = len(SIDE_FIELDS)
WIDTH = C0 + 2 * S0
CHARGES = causes.COUNT

OPENINGS = ("complete", "unseen", "refused", "unanswered")
CLOSINGS = ("orderly", "reset", "open")
COMPLETE = OPENINGS.index("complete")
ORDERLY, RESET, OPEN = range(3)
