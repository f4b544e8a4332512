"""The issues of a socket right now, in words, by what its kernel reports of the last moments."""

from typing import Any

from yaffle.units import duration, rate, share, size

_MOST_QUEUED = 64 << 10  # octets that a program has not read: more is not just a moment
_NEARLY_FULL = 0.8
_LIMITED = 0.5  # of the time with something under way
_ABOVE_US, _TIMES = 20_000, 2  # Round trips so far above the floor wait in a queue.
_US = 1000


def suffering(row: dict[str, Any]) -> str:
    """Of a row of a snapshot; empty where nothing is wrong that a kernel can see."""
    if row["listening"]:
        return _listening(row)
    words = []
    if row["timeouts_rise"]:
        words.append(f"{row['timeouts_rise']} timeouts (RTO)")
    elif row["retransmissions_rise"]:
        words.append(f"{row['retransmissions_rise']} retransmissions")
    busy = row["busy_us_rise"]
    if busy > 0 and row["receiver_limited_us_rise"] > _LIMITED * busy:
        words.append(f"receive-window-limited {share(row['receiver_limited_us_rise'] / busy)}")
    if busy > 0 and row["sender_limited_us_rise"] > _LIMITED * busy:
        words.append(f"send-buffer-limited {share(row['sender_limited_us_rise'] / busy)}")
    floor, trip = row["floor_us"], row["round_trip_us"]
    if busy > 0 and floor > 0 and trip > _TIMES * floor and trip > floor + _ABOVE_US:
        words.append(f"RTT {duration((trip - floor) * _US)} above minimum")
    if row["receive_queue"] > _MOST_QUEUED:
        words.append(f"{row['receive_queue'] >> 10} KiB not read by the process")
    if row["drops_rise"]:
        words.append(f"{row['drops_rise']} dropped (socket buffer full)")
    return "; ".join(words)


def details(row: dict[str, Any]) -> str:
    """Whose it is, and all that its kernel reports of it beside its issues."""
    unit = f", {row['unit']}" if row["unit"] else ""
    whose = f"{row['program']} (process {row['process']}{unit})" if row["process"] else "process unknown"
    parts = [whose]
    parts.append(f"{row['transport']}, {row['state']}, user {row['user']}")
    if row["listening"]:
        parts.append(f"accept queue {row['receive_queue']} of {row['send_queue']}" if row["transport"] == "TCP" else "")
        return "; ".join(part for part in parts if part)
    if row["transport"] == "TCP":
        parts.append(f"congestion window {row['window']} segments of {row['segment']} bytes")
        parts.append(f"delivery rate {rate(8.0 * row['delivery_rate'])}")
        parts.append(f"{size(row['acknowledged'])} acknowledged, {size(row['received'])} received")
        parts.append(f"send queue {size(row['send_queue'])} ({size(row['not_sent'])} not sent yet)")
    parts.append(f"receive queue {size(row['receive_queue'])}")
    if row["drops"]:
        parts.append(f"{row['drops']} dropped since it was opened (socket buffer full)")
    if busy := row["busy_us"]:
        limits = ((row["receiver_limited_us"], "receive-window"), (row["sender_limited_us"], "send-buffer"))
        ledger = ", ".join(f"{share(part / busy)} {name}-limited" for part, name in limits)
        parts.append(f"data outstanding for {duration(busy * _US)}: {ledger}, the rest network")
    return "; ".join(parts)


def _listening(row: dict[str, Any]) -> str:
    """Of a listening socket the queues are connections: those that wait, and how many may."""
    if row["send_queue"] and row["receive_queue"] >= _NEARLY_FULL * row["send_queue"]:
        return f"accept queue {row['receive_queue']} of {row['send_queue']}"
    return ""
