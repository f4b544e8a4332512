"""Bounds of many exchanges together hold what the servers' own programs took, by connection and by application.

Where real captures with their programs' own times lie beside the project they are used; simulated ones always are.
A program's own time lacks what its host took to wake it, so that sums may differ by 2 % + 5 ms.
"""

import json
import random
from pathlib import Path

import numpy as np
import pytest

from tests.ledger.test_simulated import simulate
from yaffle.analysis import analyse
from yaffle.capture.addresses import client_address, server_address
from yaffle.demo.morning import Request
from yaffle.demo.network import MS
from yaffle.findings.certainty import bounds_of_groups

_CORPUS = Path(__file__).parents[3] / "shared" / "corpus"
_TRUTHS = sorted([*_CORPUS.glob("*/truth.json"), *_CORPUS.glob("hosts/*/truth.json")])
SERVER = 2  # in the order of bounds.BOUNDED


def held(account, rows, group, served_ns):
    """For each group whether what its servers took lies inside its bounds, and the bounds' width as a share of the
    wait.
    """
    low, high = bounds_of_groups(account, rows, group, served_ns.size)
    wait = np.bincount(group, account.exchange_charges[rows].sum(axis=1), served_ns.size)
    allowed = 0.02 * wait + 5 * MS
    inside = (low[:, SERVER] - allowed <= served_ns) & (served_ns <= high[:, SERVER] + allowed)
    return inside.tolist(), ((high - low)[:, SERVER] / wait).tolist()


def served_by(account, flows, connections):
    """(rows of exchanges, connection of each, what each connection's server took, ns, port of each connection)."""
    ends = [
        f"{client_address(flows, row)}:{flows.a_port[row]}-{server_address(flows, row)}:{flows.b_port[row]}"
        for row in account.flow.tolist()
    ]
    owner, rows, group, served, ports = account.of_exchange("connection"), [], [], [], []
    for c, name in enumerate(ends):
        truth, own = connections.get(name, {}), np.flatnonzero(owner == c)
        asked, answered = truth.get("client"), truth.get("server")
        if not asked or not answered or asked["error"] or len(answered["exchanges"]) != own.size:
            continue
        if any("error" in x for x in answered["exchanges"]):
            continue
        took = [
            x["response_start"] - x["request_complete"] + sum(b - a for a, b in x["waits"])
            for x in answered["exchanges"]
        ]
        rows, group = [*rows, *own.tolist()], [*group, *[len(served)] * own.size]
        served.append(sum(took))
        ports.append(int(flows.b_port[account.flow[c]]))
    return np.array(rows, np.int64), np.array(group, np.int64), np.array(served), np.array(ports)


@pytest.mark.skipif(not _TRUTHS, reason="no captures with their truth lie beside the project")
def test_real_servers_lie_inside_by_connection_and_by_application():
    by_connection, by_application, widths = [], [], []
    for path in _TRUTHS:
        truth = json.loads(path.read_text())
        for point in ("near_client", "near_server"):
            if "wire" not in truth or not truth["connections"]:
                continue
            found = analyse([path.parent / f"{point}.pcap"])
            rows, group, served, ports = served_by(found.account, found.capture.conversations, truth["connections"])
            if not rows.size:
                continue
            inside, width = held(found.account, rows, group, served)
            _, application = np.unique(ports, return_inverse=True)
            by_connection, widths = by_connection + inside, widths + width
            by_application += held(found.account, rows, application[group], np.bincount(application, served))[0]
    assert np.mean(by_connection) >= 0.96
    assert np.mean(by_application) >= 0.96
    assert np.mean(widths) <= 0.08


def test_simulated_servers_lie_inside_though_bounds_are_far_less_than_worst_upon_worst(tmp_path):
    inside, straight = [], []
    for seed in range(40):
        rnd = random.Random(seed)
        line = {"delay_ms": rnd.choice([5, 40]), "loss": rnd.choice([0, 0.03]), "jitter_ns": rnd.choice([0, 6 * MS])}
        asked = [Request(300, rnd.randint(1, 120) * MS, rnd.choice([400, 30_000]), 40 * MS) for _ in range(12)]
        path, log = simulate(tmp_path / "a.pcapng", asked, near_client=seed % 2 == 0, seed=seed, **line)
        account = analyse([path]).account
        rows = np.arange(account.exchange.shape[0])
        if rows.size != len(log):
            continue
        served = np.array([sum(call.think_ns for call in asked[: len(log)])])
        group = np.zeros(rows.size, np.int64)
        inside += held(account, rows, group, served)[0]
        low, high = bounds_of_groups(account, rows, group, 1)
        worst = (account.of_exchange("server_high_ns") - account.of_exchange("server_low_ns")).sum()
        straight.append((high - low)[0, SERVER] / max(1, worst))
    assert len(inside) >= 30
    assert np.mean(inside) >= 0.95
    assert np.mean(straight) < 0.8
