"""Words of former versions, as cases and preferences hold them, translated when they are opened."""

import re

COLUMNS = {"repeats": "retransmissions", "copies": "duplicates", "marking": "dscp"}
MEASURES = {
    "sent again": "retransmissions",
    "copies": "duplicates",
    "window probes": "zero-window probes",
    "openings": "new connections",
    "in trouble": "TCP issues",
    "users": "clients",
    "waiting": "concurrent waits",
    "worst wait": "max wait",
    "sent again, share": "retransmission rate",
    "users affected": "clients affected",
    "look-up latency": "DNS response time",
    "lease latency": "DHCP response time",
    "sign-on latency": "RADIUS response time",
}
_TOKEN = re.compile(r"'(?:[^']|'')*'|\b(?:" + "|".join(COLUMNS) + r")\b", re.IGNORECASE)


def present_filter(expression: str) -> str:
    """The filter with today's names of columns; texts in single quotes stay as they are."""
    return _TOKEN.sub(lambda found: COLUMNS.get(found[0].lower(), found[0]), expression)


def present_measure(counted: str) -> str:
    """Today's name of what a measure counts."""
    return MEASURES.get(counted, counted)


def present_key(key: str) -> str:
    """Today's key of a finding that was pinned, dismissed or remarked on."""
    return key.replace("/names for ", "/DNS for ")
