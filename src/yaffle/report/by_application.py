"""Waits by application, as the report tells them."""

from typing import Any

import numpy as np

from yaffle.analysis import Analysis
from yaffle.capture.addresses import client_labels, server_labels
from yaffle.quantiles import median, p95
from yaffle.units import count, duration


def by_application(analysis: Analysis, speaks: Any) -> list[dict[str, Any]]:
    """A row an application, the one with the most waiting first; `speaks` tells connections that count."""
    places = analysis.places
    account, flows = analysis.account, analysis.capture.conversations
    server, ports = server_labels(flows, account.flow), flows.b_port[account.flow].tolist()
    application = {
        pair: places.application(server.texts[pair[0]], pair[1])
        for pair in set(zip(server.codes.tolist(), ports, strict=True))
    }
    names = np.array([application[pair] for pair in zip(server.codes.tolist(), ports, strict=True)])
    clients = client_labels(flows, account.flow).codes
    owner = account.of_exchange("connection")
    wait = account.exchange_charges.sum(axis=1)
    found = []
    for name in sorted(set(names.tolist())):
        member = (names == name) & speaks
        rows = member[owner] if owner.size else np.zeros(0, bool)
        if not rows.any():
            continue
        charges = account.exchange_charges[rows].sum(axis=0)
        found.append(
            {
                "label": name,
                "exchanges": count(int(rows.sum())),
                "users": int(np.unique(clients[member]).size),
                "median": duration(median(wait[rows])),
                "p95": duration(p95(wait[rows])),
                "worst": duration(int(wait[rows].max())),
                "wait": duration(int(charges.sum())),
                "charges": charges,
                "total": int(charges.sum()),
            }
        )
    return sorted(found, key=lambda g: -int(g["total"]))
