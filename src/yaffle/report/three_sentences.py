"""The answer in three sentences: how much was waited and for whom, the worst finding, what to do next."""

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Int64s
from yaffle.findings.finding import Finding
from yaffle.findings.headline import headline
from yaffle.ledger import causes
from yaffle.ledger.sums import party_sums
from yaffle.units import count, duration, share


def three_sentences(analysis: Analysis, charges: Int64s, found: list[Finding]) -> str:
    """charges: (columns,) of all connections that speak. found: findings that the report tells, the first one first."""
    speaks = analysis.speaker == np.arange(analysis.speaker.size)
    total, exchanges = int(charges.sum()), int(analysis.account.fact("exchanges")[speaks].sum())
    first = f"{count(exchanges)} exchanges over {count(int(speaks.sum()))} connections"
    if total:
        parties = party_sums(charges[None, :])[0]
        parts = [f"{share(parties[k] / total)} {causes.PARTIES[k]}" for k in np.argsort(-parties) if parties[k] > 0]
        first += f" waited {duration(total)} in all: {', '.join(parts)}."
    elif exchanges:
        first += " show no wait."
    else:
        first = "There are no exchanges of packets here; flow records, counters and what was kept tell the rest."
    if not found:
        return f"{first} Nothing here is slow."
    worst = found[0]
    rest = f", the first of {count(len(found))} findings" if len(found) > 1 else ""
    sure = f"confidence {round(100 * worst.confidence)} %"
    return f"{first} What costs most: {headline(worst)} ({sure}{rest}). Next: {worst.next_step}"
