"""What the user changed on the map by hand: where things stand, what they are called, what is left out, what was
drawn.
"""

from dataclasses import dataclass

BY_HAND = "by hand: "  # begins the keys of places that the user drew


@dataclass(frozen=True)
class Placed:
    """A place of the map as the user wants it. key: of what it shows; x, y: where it stands, -1 where it was not
    moved.
    """

    key: str
    label: str = ""  # empty: its own name
    x: int = -1
    y: int = -1
    hidden: int = 0


@dataclass(frozen=True)
class Drawn:
    """A link that the user drew between two places."""

    one: str
    two: str
    words: str = ""
