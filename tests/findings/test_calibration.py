"""How often a verdict is right that says how sure it is, over many connections whose truth is often nearly even."""

import random
from itertools import pairwise

import numpy as np

from tests.ledger.test_simulated import simulate
from yaffle.analysis import analyse
from yaffle.demo.morning import Request
from yaffle.demo.network import MS
from yaffle.findings.verdict import verdict_of
from yaffle.ledger import causes

CONNECTIONS = 150
BINS = (0.0, 0.6, 0.8, 0.9, 1.0)


def judged(path, seed):
    """(confidence, whether right) of a connection whose path and server cost much the same; None without a verdict."""
    rnd = random.Random(seed)
    delay_ms, calls, answer = rnd.choice([5, 20, 60]), rnd.randint(3, 12), rnd.choice([500, 20_000, 120_000])
    rounds = 1 + max(0, (answer // 14_000).bit_length())
    think_ms = 2 * delay_ms * rounds * rnd.choice([0.3, 0.6, 0.8, 1.0, 1.25, 1.6, 3])
    line = {
        "loss": rnd.choice([0, 0, 0.02]),
        "jitter_ns": rnd.choice([0, 0, 8 * MS]),
        "rate_bps": rnd.choice([0, 8_000_000]),
    }
    asked = [Request(300, int(think_ms * rnd.uniform(0.7, 1.3) * MS), answer, 30 * MS) for _ in range(calls)]
    path, log = simulate(path, asked, delay_ms=delay_ms, near_client=rnd.random() < 0.5, seed=seed, **line)
    server = sum(call.think_ns for call in asked[: len(log)])
    network = (
        sum(had - began for began, had in log) - server + 2 * delay_ms * MS
    )  # Before the first question: the opening.
    verdict = verdict_of(analyse([path]).account, 0)
    if verdict.party in (causes.NONE, causes.UNEXPLAINED):
        return None
    return verdict.confidence, verdict.party == (causes.SERVER if server > network else causes.NETWORK)


def test_of_verdicts_that_say_ninety_percent_nine_in_ten_are_right(tmp_path):
    told = [found for seed in range(CONNECTIONS) if (found := judged(tmp_path / "a.pcapng", seed))]
    said, right = np.array(told).T
    for low, high in pairwise(BINS):
        inside = (said > low) & (said <= high)
        if inside.any():
            average, share, number = said[inside].mean(), right[inside].mean(), inside.sum()
            print(f"said {low:.1f} to {high:.1f}: {average:.2f} on average; right {share:.2f} of {number}")
    assert len(told) > 0.6 * CONNECTIONS
    assert right[said >= 0.9].mean() >= 0.9
    assert right.mean() >= said.mean() - 0.05
