"""Cases of former versions, as the present one writes them."""

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.packets import MARK_FROM_B

# Up to version 9 the facts and charges of connections and exchanges stood by number, in this order.
_SIDE = (
    "packets", "payload_bytes", "unique_bytes", "retransmitted_packets", "retransmitted_bytes", "spurious_packets",
    "duplicate_packets", "out_of_order_packets", "duplicate_acks", "zero_window_ns", "max_in_flight_bytes", "resets",
    "keep_alives", "closing_repeats",
    "segments", "segment_bytes", "timeouts", "after_timeout", "fast_retransmissions", "tail_probes", "unseen_bytes",
)  # fmt: skip
_CONNECTION_9 = (
    "opening", "closing", "first_ns", "last_ns", "scales_known",
    "handshake_ns", "to_client_min_ns", "to_client_median_ns", "to_client_p95_ns", "to_client_max_ns",
    "to_server_min_ns", "to_server_median_ns", "to_server_p95_ns", "to_server_max_ns", "to_client_samples",
    "to_server_samples",
    "exchanges", "unanswered", "wait_ns", "set_up_ns", "worst_wait_ns", "pushed_bytes",
    "to_client_early_min_ns", "to_client_late_min_ns", "to_server_early_min_ns", "to_server_late_min_ns",
    "held_acknowledgements",
    *(f"client_{name}" for name in _SIDE), *(f"server_{name}" for name in _SIDE),
)  # fmt: skip
_EXCHANGE_9 = (
    "connection", "first_ns", "asked_ns", "answered_ns", "last_ns", "end_ns", "request_bytes", "response_bytes",
    "set_up_ns", "message", "client_low_ns", "client_high_ns", "network_low_ns", "network_high_ns", "server_low_ns",
    "server_high_ns",
)  # fmt: skip
_CHARGES_9 = (
    "network set-up", "network round-trip", "network rate", "network queueing", "network loss", "server processing",
    "server stall", "server window", "client pacing", "client window", "client encryption", "server encryption",
    "network name", "server name", "unexplained unseen",
)  # fmt: skip
BESIDE_HEADS = 10  # the last version in which payload, flags and marks stood beside the heads, too
BY_NUMBER = 9  # the last version that wrote them so; it kept texts beside, too
WITHOUT_BEHIND = 8  # the last version that did not keep what lies behind answers, and the first that opens


def by_name(table: str, columns: dict[str, Array]) -> dict[str, Array]:
    """Connections or exchanges of version 9 and before, by name."""
    facts = _CONNECTION_9 if table == "connections" else _EXCHANGE_9
    names = {f"fact{k}": name for k, name in enumerate(facts)}
    names.update({f"charge{k}": name for k, name in enumerate(_CHARGES_9)})
    return {names.get(name, name): values for name, values in columns.items()}


def own_heads(packets: dict[str, Array]) -> dict[str, Array]:
    """Packets of version 10 and before, of whose heads the flags said, too, who sent them."""
    head = packets["head"].copy()
    head["flags"] = packets["flags"]
    head["marks"] = packets["marks"] | np.where(packets["direction"] > 0, MARK_FROM_B, 0).astype(np.uint16)
    left = {name: values for name, values in packets.items() if name not in ("payload_bytes", "flags", "marks")}
    return {**left, "head": head}
