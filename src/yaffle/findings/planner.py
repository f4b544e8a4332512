"""A split of a line among classes of service, worked out from their measured load, its effect previewed, and written as
text for `tc`.

Each class is given what it needs in 95 of 100 seconds; what is left of the line is given in proportion. Where that is
more than the line, the default class gives way first, down to a tenth of the line. Voice (EF, VOICE-ADMIT; RFC 3246,
RFC 5865) goes before all others, up to its rate. The preview runs the measured load through a line of that rate in
steps: once as a single queue, once by priority and guaranteed rates (hierarchical token buckets), and tells how long
what came had to wait.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Bools, Float64s, Float64s2
from yaffle.capture.registry import marking
from yaffle.findings.classes import ClassLoads
from yaffle.kernels import kernel

FIRST = (46, 44)  # served before all others
DEFAULT = 0
_LEAST_SHARE, _LEAST_DEFAULT = 0.01, 0.1
_ROOM = 1.2  # What goes first may take so much more than it needs, and no more.
_USUAL = 0.95


@dataclass(frozen=True)
class Share:
    """What one class is to have. Waits are of what came, in ns: the 95th percentile by bits, as now and as planned."""

    dscp: int
    needed_bps: float  # of all seconds with any of it, the 95th percentile
    rate_bps: float
    first: bool
    wait_now_ns: float
    wait_planned_ns: float

    @property
    def name(self) -> str:
        """The code point's name."""
        return marking(self.dscp)


@dataclass(frozen=True)
class Plan:
    """A split of a line, and whether the load fits into it at all."""

    line_bps: float
    shares: list[Share]
    needed_bps: float

    @property
    def fits(self) -> bool:
        """Whether what all classes need together is no more than the line."""
        return self.needed_bps <= self.line_bps


@kernel
def _waits(
    bits: Float64s2, line: float, rates: Float64s, first: Bools, step_ns: float, single: bool, waited: Float64s2
) -> None:
    """Runs the load through a line. bits: (classes, steps); line, rates: bits a step; waited: (classes, steps), ns
    that what came in a step had to wait until served.
    """
    classes, steps = bits.shape
    queue = np.zeros(classes)
    for s in range(steps):
        for c in range(classes):
            queue[c] += bits[c, s]
        total = queue.sum()
        if single:
            for c in range(classes):
                waited[c, s] = max(0.0, total - line) / line * step_ns
            served = min(1.0, line / total) if total > 0 else 0.0
            for c in range(classes):
                queue[c] -= queue[c] * served
            continue
        left = line
        for c in range(classes):  # What goes first, up to its rate.
            if first[c]:
                given = min(queue[c], rates[c], left)
                queue[c] -= given
                left -= given
        for c in range(classes):  # Then what is guaranteed to each.
            if not first[c]:
                given = min(queue[c], rates[c], left)
                queue[c] -= given
                left -= given
        for _ in range(classes):  # What is left over goes to who still has some, by their rates.
            weight = 0.0
            for c in range(classes):
                if queue[c] > 0:
                    weight += rates[c]
            if left <= 0 or weight <= 0:
                break
            spare = left
            for c in range(classes):
                if queue[c] > 0:
                    given = min(queue[c], spare * rates[c] / weight)
                    queue[c] -= given
                    left -= given
        for c in range(classes):
            waited[c, s] = queue[c] / max(rates[c], 1.0) * step_ns


def plan(loads: ClassLoads, line_bps: float) -> Plan:
    """A split of a line for the measured load. Raises ValueError unless the line's rate is positive."""
    if not line_bps > 0:
        raise ValueError("the link rate is not known: set it, as 20 Mbit/s")
    second = max(1, 10**9 // loads.bin_ns)
    needs = {}
    for one in loads.classes:
        seconds = np.add.reduceat(one.bits, np.arange(0, one.bits.size, second)) * (1e9 / (second * loads.bin_ns))
        busy = seconds[seconds > 0]
        needs[one.dscp] = float(np.quantile(busy, _USUAL)) if busy.size else 0.0
    needs.setdefault(DEFAULT, 0.0)
    rates = _rates(needs, line_bps)
    order = sorted(needs, key=lambda code: (code not in FIRST, code == DEFAULT, -rates[code]))
    bits = np.stack(
        [next((one.bits for one in loads.classes if one.dscp == code), np.zeros(loads.whole.size)) for code in order]
    )
    step_s = loads.bin_ns / 1e9
    first = np.array([code in FIRST for code in order])
    now, planned = np.zeros_like(bits), np.zeros_like(bits)
    given = np.array([rates[code] for code in order]) * step_s
    _waits(bits, line_bps * step_s, given, first, float(loads.bin_ns), True, now)
    _waits(bits, line_bps * step_s, given, first, float(loads.bin_ns), False, planned)
    shares = [
        Share(code, needs[code], rates[code], code in FIRST, _usual(now[k], bits[k]), _usual(planned[k], bits[k]))
        for k, code in enumerate(order)
    ]
    return Plan(line_bps, shares, sum(needs.values()))


def _rates(needs: dict[int, float], line_bps: float) -> dict[int, float]:
    """What each class is guaranteed; they add up to the line."""
    least = {code: (_LEAST_DEFAULT if code == DEFAULT else _LEAST_SHARE) * line_bps for code in needs}
    rates = {code: max(least[code], need * (_ROOM if code in FIRST else 1.0)) for code, need in needs.items()}
    over = sum(rates.values()) - line_bps
    if over > 0:
        taken = min(over, rates[DEFAULT] - least[DEFAULT])
        rates[DEFAULT] -= taken
        over -= taken
        room = {code: rates[code] - least[code] for code in rates if code != DEFAULT}
        if over > 0 and sum(room.values()) > 0:
            part = min(1.0, over / sum(room.values()))
            rates |= {code: rates[code] - part * room[code] for code in room}
        scale = line_bps / sum(rates.values())
        return {code: rate * min(1.0, scale) for code, rate in rates.items()}
    others = {code: rate for code, rate in rates.items() if code not in FIRST}
    spare = line_bps - sum(rates.values())
    return rates | {code: rate + spare * rate / sum(others.values()) for code, rate in others.items()}


def _usual(waited: Float64s, bits: Float64s) -> float:
    """The 95th percentile of waits, each step weighing what came in it."""
    some = np.flatnonzero(bits > 0)
    if not some.size:
        return 0.0
    order = some[np.argsort(waited[some], kind="stable")]
    reached = np.cumsum(bits[order])
    return float(waited[order[min(order.size - 1, int(np.searchsorted(reached, _USUAL * reached[-1])))]])


def tc_script(made: Plan, device: str = "eth0") -> str:
    """The set-up of queues for a Linux router as text; nothing here runs it.

    Raises ValueError for a name that is none of an interface.
    """
    if not device or len(device) > 15 or not all(c.isalnum() or c in "-_.@" for c in device):
        raise ValueError(f"“{device}” is no name of an interface")
    lines = [
        "#!/bin/sh",
        (
            f"# Queues for classes of service on {device}, a link of {_rate(made.line_bps)}, worked out from measured"
            " load. Read it before you run it."
        ),
        "set -e",
        f"DEV={device}",
        'tc qdisc del dev "$DEV" root 2>/dev/null || true',
        'tc qdisc add dev "$DEV" root handle 1: htb default 99',
        f'tc class add dev "$DEV" parent 1: classid 1:1 htb rate {_rate(made.line_bps)} ceil {_rate(made.line_bps)}',
    ]
    for number, share in enumerate(made.shares):
        minor = "99" if share.dscp == DEFAULT else str(10 + number)
        ceil = share.rate_bps if share.first else made.line_bps
        lines.append(
            f"# {share.name}: needs {_rate(share.needed_bps)} in 95 of 100 seconds"
            + ("; goes first, up to its rate" if share.first else "")
        )
        lines.append(
            f'tc class add dev "$DEV" parent 1:1 classid 1:{minor} htb rate {_rate(share.rate_bps)} ceil {_rate(ceil)}'
            f" prio {0 if share.first else 1 if share.dscp else 2}"
        )
        queue = "pfifo limit 64" if share.first else "fq_codel"
        lines.append(f'tc qdisc add dev "$DEV" parent 1:{minor} handle {minor}: {queue}')
        if share.dscp != DEFAULT:
            field = share.dscp << 2
            lines.append(
                f'tc filter add dev "$DEV" parent 1: protocol ip prio {10 + number} u32 match ip dsfield {field:#04x}'
                f" 0xfc flowid 1:{minor}"
            )
            lines.append(
                f'tc filter add dev "$DEV" parent 1: protocol ipv6 prio {40 + number} u32 match ip6 priority'
                f" {field:#04x} 0xfc flowid 1:{minor}"
            )
    return "\n".join(lines) + "\n"


def _rate(bps: float) -> str:
    """As `tc` reads it."""
    return f"{max(1, round(bps / 1000))}kbit"
