"""A number that hosts and devices tell: its name, unit and meaning."""

from dataclasses import dataclass

TOTAL, NOW = "total", "now"  # counted since a start (rates are rises); as it is at the moment


@dataclass(frozen=True)
class Measure:
    """One number. source: where it stands, and its name there (of hosts: a file of the kernel's)."""

    name: str
    source: str
    kernel: str
    unit: str
    kind: str
    words: str
