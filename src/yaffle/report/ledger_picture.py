"""The ledger bar and the parties' marks as SVG: colors and patterns that a printer without color tells apart, too."""

from typing import Any

from markupsafe import Markup

from yaffle.ledger import causes
from yaffle.units import duration

_FILL = {causes.CLIENT: "#b5700d", causes.NETWORK: "#1c7676", causes.SERVER: "#77356a", causes.UNEXPLAINED: "#fff"}
_STEP = 5.0  # from mark to mark


def _slice(party: str, x: float, wide: float, high: float) -> str:
    """One part of a bar: its color, with dots for the client and strokes for the server."""
    stroke = ' stroke="#7d796d" stroke-width=".5"' if party == causes.UNEXPLAINED else ""
    drawn = f'<rect x="{x:.1f}" width="{wide:.1f}" height="{high:g}" fill="{_FILL[party]}"{stroke}/>'
    if party == causes.SERVER:
        steps = []
        at = x
        while at < x + wide:
            reach = min(high, x + wide - at)
            steps.append(f"M{at:.1f} {high:g}l{reach:.1f} {-reach:.1f}")
            at += _STEP
        drawn += f'<path d="{"".join(steps)}" stroke="#fff" stroke-width="1"/>'
    elif party == causes.CLIENT:
        steps = [
            f"M{x + 2.5 + _STEP * k:.1f} {y:g}h1.6"
            for k in range(int(max(0.0, wide - 1.5) / _STEP))
            for y in ((3, high - 3) if k % 2 else (high / 2,))
        ]
        drawn += f'<path d="{"".join(steps)}" stroke="#fff" stroke-width="1.6"/>'
    return drawn


def ledger_picture(charges: Any, full_ns: float, width: int = 560) -> Markup:
    """The ledger bar as SVG."""
    total = float(charges.sum())
    if total <= 0:
        return Markup("")
    x, parts, words = 0.0, list[str](), list[str]()
    for party in causes.PARTIES:
        own = float(charges[causes.party_columns(party)].sum())
        w = width * own / max(full_ns, 1.0)
        if w > 0:
            words.append(f"{party} {duration(own)}")
            parts.append(_slice(party, x, w, 14))
        x += w
    head = Markup('<svg viewBox="0 0 {} 14" width="{}" height="14" class="ledger" role="img"')
    label = Markup(' aria-label="{}">').format(", ".join(words))
    return head.format(width, width) + label + Markup("".join(parts) + "</svg>")


def party_picture(party: str) -> Markup:
    """The color and mark of a party as SVG."""
    return Markup(
        f'<svg width="18" height="10" viewBox="0 0 18 10" aria-hidden="true">{_slice(party, 0, 18, 10)}</svg>'
    )
