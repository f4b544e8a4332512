"""Real servers against what their clients and they themselves measured: counts, labels, outcomes, server times,
latencies, tries.
"""

import gzip
import json
from collections import defaultdict
from pathlib import Path

import pytest

from yaffle.analysis import analyse
from yaffle.report.document import document

_CORPUS = Path(__file__).parents[3] / "shared" / "corpus" / "services"
_OWN = Path(__file__).parents[1] / "data" / "services"


def load(name, tmp_path, point="near_client"):
    """(document, truth), from the corpus where it is, else from the project's own copy."""
    if (_CORPUS / name).is_dir():
        path, truth = _CORPUS / name / f"{point}.pcap", json.loads((_CORPUS / name / "truth.json").read_text())
    elif (_OWN / f"{name}.json.gz").exists() and point == "near_client":
        path, truth = _OWN / f"{name}.pcap.gz", json.loads(gzip.decompress((_OWN / f"{name}.json.gz").read_bytes()))
    else:
        pytest.skip("no capture of this kind here")
    found = document(analyse([path]), literals=True)
    for connection in found["connections"]:
        assert sum(c["ms"] for c in connection["charges"]) == pytest.approx(connection["wait_ms"], abs=0.01)
    return found, truth


def by_client(found):
    exchanges = defaultdict(list)
    for x in found["exchanges"]:
        exchanges[found["connections"][x["connection"]]["client"]].append(x)
        parties = [x[f"{p}_ms"] for p in ("client", "network", "server", "unexplained")]
        assert sum(parties) == pytest.approx(x["wait_ms"], abs=0.01)
    return {client: sorted(rows, key=lambda x: x["first_ns"]) for client, rows in exchanges.items()}


def of_client(rows, order):
    groups = defaultdict(list)
    for row in rows:
        groups[row["client"]].append(row)
    return {client: sorted(group, key=order) for client, group in groups.items()}


def share(good):
    return sum(good) / len(good)


def close(found, true):
    return abs(found - true) <= 0.05 * true + 3


@pytest.mark.parametrize("point", ["near_client", "near_server"])
@pytest.mark.parametrize("name", ["web-pages", "web-tls"])
def test_pages_are_found_with_status_and_server_time(tmp_path, name, point):
    found, truth = load(name, tmp_path, point)
    mine, served = by_client(found), {a["path"]: (a["end_ns"] - a["start_ns"]) / 1e6 for a in truth["app"]}
    times, waits = [], []
    for client, requests in of_client(truth["requests"], lambda q: q["nth_on_connection"]).items():
        assert len(mine[client]) == len(requests)
        for q, x in zip(requests, mine[client], strict=True):
            times.append(close(x["server_ms"], served.get(q["url"], 0.5)))
            waited = 1000 * (q["time_total"] - (q["time_namelookup"] if q["nth_on_connection"] == 1 else 0))
            charged = x["wait_ms"] - sum(
                c["ms"]
                for c in found["connections"][x["connection"]]["charges"]
                if c["cause"] == "name" and q["nth_on_connection"] == 1
            )
            waits.append(abs(charged - waited) <= 0.02 * waited + 5)
            if name == "web-pages":
                assert (x["protocol"], x["label"], x["outcome"]) == (
                    "http",
                    f"{q['method']} {q['url']}",
                    str(q["status"]),
                )
            else:
                assert (x["protocol"], x["label"]) == ("tls", q["host"])
    assert share(times) >= 0.97
    assert share(waits) >= 0.97


def test_statements_are_found_with_their_sqlstate(tmp_path):
    found, truth = load("database", tmp_path)
    mine, times = by_client(found), []
    for client, queries in of_client(truth["queries"], lambda q: q["start_ns"]).items():
        assert len(mine[client]) == len(queries)
        for q, x in zip(queries, mine[client], strict=True):
            assert (x["label"], x["outcome"]) == (" ".join(q["sent_sql"].split()), q["error"] or "00000")
            times.append(close(x["server_ms"], q["server_ms"]))
    assert share(times) >= 0.97


def test_pipelined_commands_are_told_one_by_one(tmp_path):
    found, truth = load("cache", tmp_path)
    mine = by_client(found)
    for client, commands in of_client(truth["commands"], lambda q: (q["batch"], q["nth"])).items():
        assert len(mine[client]) == len(commands)
        for q, x in zip(commands, mine[client], strict=True):
            assert x["label"].split()[0] == q["command"].split()[0]
            assert x["outcome"] == (q["error"][1:].split()[0] if q["error"] else "OK")


def test_names_are_looked_up_again_and_over_tcp(tmp_path):
    found, truth = load("names", tmp_path)
    assert len(found["lookups"]) == len(truth["queries"])
    for q in truth["queries"]:
        (x,) = [
            x for x in found["lookups"] if (x["name"], x["kind"], x["client"]) == (q["name"], q["type"], q["client"])
        ]
        assert (x["outcome"], x["tries"]) == (q["rcode"] or "unanswered", q["retries"] + 1)
        if q["latency_ms"] is None:
            assert x["latency_ms"] is None
        else:
            assert x["latency_ms"] == pytest.approx(
                q["latency_ms"], abs=3
            )  # The client's own clock counts its pauses, too.


def test_leases_and_sign_ons_are_followed_step_by_step(tmp_path):
    found, truth = load("leases", tmp_path)
    for lease in truth["dhcp"]:
        mine = sorted((x for x in found["lookups"] if x["client"] == lease["mac"]), key=lambda x: x["asked_ns"])
        steps = [s for s in lease["steps"] if s["reply_expected"]]
        assert [(x["kind"], x["outcome"], x["tries"]) for x in mine] == [
            (s["sent"], s["reply"] or "unanswered", len(s["attempts_ns"])) for s in steps
        ]
        for x, s in zip(mine, steps, strict=True):
            assert s["latency_ms"] is None or x["latency_ms"] == pytest.approx(s["latency_ms"], abs=1)
    for q in truth["radius"]:
        (x,) = [x for x in found["lookups"] if x["protocol"] == "radius" and x["name"] == q["user"]]
        assert (x["client"], x["server"], x["outcome"], x["tries"]) == (
            q["client"],
            q["server"],
            q["reply"] or "unanswered",
            q["retries"] + 1,
        )
        assert q["latency_ms"] is None or x["latency_ms"] == pytest.approx(q["latency_ms"], abs=1)
