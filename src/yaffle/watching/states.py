"""The states of what is watched, as a table: what each evaluation makes of the state before.

An evaluation finds the subject bad, good, in between (neither bad nor good enough to clear), or finds nothing at all. A
bad one counts from the first bad evaluation on; when it has lasted for `for`, it is raised, and when good ones lasted
for `clear`, it is over. Nothing measured is never fine: it is unknown, and stays raised underneath where it was.
"""

from dataclasses import dataclass

FINE, PENDING, RAISED, CLEARING, UNKNOWN, UNKNOWN_RAISED = (
    "fine", "pending", "raised", "clearing", "unknown", "unknown while raised",
)  # fmt: skip
STATES = (FINE, PENDING, RAISED, CLEARING, UNKNOWN, UNKNOWN_RAISED)
BAD, GOOD, BETWEEN, NOTHING = "bad", "good", "between", "nothing"
FINDINGS = (BAD, GOOD, BETWEEN, NOTHING)
ALERTS = frozenset({RAISED, CLEARING, UNKNOWN_RAISED})  # a notice went out that is not taken back yet

# (state, finding): (what follows; what follows once it has lasted long enough).
TABLE: dict[tuple[str, str], tuple[str, str]] = {
    (FINE, BAD): (PENDING, RAISED),
    (FINE, GOOD): (FINE, FINE),
    (FINE, BETWEEN): (FINE, FINE),
    (FINE, NOTHING): (UNKNOWN, UNKNOWN),
    (PENDING, BAD): (PENDING, RAISED),
    (PENDING, GOOD): (FINE, FINE),
    (PENDING, BETWEEN): (FINE, FINE),
    (PENDING, NOTHING): (UNKNOWN, UNKNOWN),
    (RAISED, BAD): (RAISED, RAISED),
    (RAISED, GOOD): (CLEARING, FINE),
    (RAISED, BETWEEN): (RAISED, RAISED),
    (RAISED, NOTHING): (UNKNOWN_RAISED, UNKNOWN_RAISED),
    (CLEARING, BAD): (RAISED, RAISED),
    (CLEARING, GOOD): (CLEARING, FINE),
    (CLEARING, BETWEEN): (RAISED, RAISED),
    (CLEARING, NOTHING): (UNKNOWN_RAISED, UNKNOWN_RAISED),
    (UNKNOWN, BAD): (PENDING, RAISED),
    (UNKNOWN, GOOD): (FINE, FINE),
    (UNKNOWN, BETWEEN): (FINE, FINE),
    (UNKNOWN, NOTHING): (UNKNOWN, UNKNOWN),
    (UNKNOWN_RAISED, BAD): (RAISED, RAISED),
    (UNKNOWN_RAISED, GOOD): (CLEARING, FINE),
    (UNKNOWN_RAISED, BETWEEN): (RAISED, RAISED),
    (UNKNOWN_RAISED, NOTHING): (UNKNOWN_RAISED, UNKNOWN_RAISED),
}
_COUNTED = {PENDING: BAD, CLEARING: GOOD}  # states that last, and what goes on in them


@dataclass(frozen=True)
class Standing:
    """The state of one subject. since_ns: when it began; for pending and clearing, their first evaluation."""

    state: str = UNKNOWN
    since_ns: int = 0
    raised_ns: int = 0  # when it was raised last

    @property
    def told(self) -> str:
        """As it is told: unknown is unknown, whatever lies underneath."""
        return UNKNOWN if self.state == UNKNOWN_RAISED else self.state


def after(before: Standing, finding: str, now_ns: int, for_ns: int, clear_ns: int) -> Standing:
    """The standing that an evaluation makes of the one before."""
    soon, once = TABLE[before.state, finding]
    counts = soon in _COUNTED
    since_ns = before.since_ns if counts and before.state == soon else now_ns
    if counts and now_ns - since_ns >= (for_ns if soon == PENDING else clear_ns):
        return Standing(once, now_ns, now_ns if once == RAISED else before.raised_ns)
    if soon == before.state:
        return before
    return Standing(soon, now_ns, before.raised_ns)


def change(before: Standing, now: Standing) -> str:
    """What is written down of a change: raised, cleared, unknown; empty where nothing is."""
    if now.state == RAISED and before.state not in ALERTS:
        return RAISED
    if before.state in ALERTS and now.state == FINE:
        return "cleared"
    if now.told == UNKNOWN and before.told != UNKNOWN:
        return UNKNOWN
    return ""
