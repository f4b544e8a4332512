"""Which marking the packets of an application should bear: the user's own rules."""

from dataclasses import dataclass

from yaffle.capture.registry import DSCP_NAMES, marking

VOICE, VIDEO = "voice", "video"  # stand for all streams of that kind, whatever their application is called


@dataclass(frozen=True)
class Expected:
    """An application as it is called here (or VOICE, VIDEO), and its differentiated services code point (RFC 2474)."""

    application: str
    dscp: int

    @property
    def marking(self) -> str:
        """The code point by its name."""
        return marking(self.dscp)


USUAL = (Expected(VOICE, 46),)  # What is expected as long as the user says nothing else (RFC 4594 section 4.1).


def code_point(text: str) -> int:
    """A code point from its registered name or number. Raises ValueError with words for the user."""
    told = text.strip().upper()
    names = {name.upper(): code for code, name in DSCP_NAMES.items()} | {
        "CS0": 0,
        "DEFAULT": 0,
        "BE": 0,
        "BEST EFFORT": 0,
    }
    if told in names:
        return names[told]
    digits = told.removeprefix("DSCP").strip()
    if digits.isdecimal() and int(digits) < 64:
        return int(digits)
    raise ValueError(f"“{text}” is no marking: write a name, as EF or AF41, or a number from 0 to 63")
