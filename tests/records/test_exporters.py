"""Flow records of exporters against what really went through them: counts, losses, names, markings, sampling,
clocks.
"""

import gzip
import itertools
import json
import math
from collections import defaultdict
from pathlib import Path

import pytest

from yaffle.analysis import analyse
from yaffle.report.document import document

_CORPUS = Path(__file__).parents[3] / "shared" / "corpus" / "flows"
_NAMES = {1: "icmp", 6: "tcp", 17: "udp"}  # IANA, Assigned Internet Protocol Numbers.
_OWN = Path(__file__).parents[1] / "data" / "flows"


def load(name):
    """(document, truth), from the corpus where it is, else from the project's own copy."""
    if (_CORPUS / name).is_dir():
        path, truth = _CORPUS / name / "export.pcap", json.loads((_CORPUS / name / "truth.json").read_text())
    else:
        path, truth = _OWN / f"{name}.pcap.gz", json.loads(gzip.decompress((_OWN / f"{name}.json.gz").read_bytes()))
    return document(analyse([path]), include=["flows"]), truth


def summed(flows, key):
    groups = defaultdict(list)
    for f in flows:
        groups[key(f)].append(f)
    return groups


def ends(f):
    return f["src"], f["src_port"], f["dst"], f["dst_port"], f["transport"]


def true_ends(f):
    return f["src"], f["sport"], f["dst"], f["dport"], _NAMES[f["proto"]]


@pytest.mark.parametrize("name", ["routers-v9", "routers-ipfix"])
def test_what_three_routers_counted_is_exact_record_by_record(name):
    found, truth = load(name)
    names = {(e["address"], e["domain"]): e["name"] for e in truth["exporters"]}
    groups = summed(found["flows"], lambda f: (names[f["exporter"], f["domain"]], ends(f)))
    for flow in truth["flows"]:
        for router, counted in flow["routers"].items():
            own = groups[router, true_ends(flow)]
            assert (len(own), sum(f["packets"] for f in own), sum(f["bytes"] for f in own)) == tuple(
                counted[f"{k}_in_file"] for k in ("records", "packets", "bytes")
            )
            assert {f["application"] for f in own} <= {
                truth["applications"][f"{flow['application'] >> 24}:{flow['application'] & 0xFFFFFF}"]["name"]
            }
            marks = {"R1": {flow["dscp"]}, "R2": {flow["dscp"]}, "R3": {flow["dscp_after_r2"]}}
            if flow["direction"] == "forward" and own:
                assert {f["dscp"] for f in own} == marks[router]
                assert {f["post_dscp"] for f in own} == ({flow["dscp_after_r2"]} if router == "R2" else {None})
            told = {v for f in own if "own" in f for v in f["own"].values()}
            assert told <= {flow["customer"], flow["wait_us"]}


@pytest.mark.parametrize("name", ["routers-v9", "routers-ipfix"])
def test_losses_interfaces_sampling_and_clocks_of_routers(name):
    found, truth = load(name)
    mine = {(e["address"], e["domain"]): e for e in found["exporters"]}
    assert len(mine) == len(truth["exporters"])
    for true in truth["exporters"]:
        e = mine[true["address"], true["domain"]]
        assert e["lost_records"] == true["data_records_lost"]
        assert e["records"] == true["data_records"] - true["data_records_lost"]
        assert e["sampling"] == true["sampling"]
        assert e["counts"] == ("scaled" if true["sampling"] > 1 else "exact")
        assert {(i["index"], i["name"]) for i in e["interfaces"]} == {
            (i["index"], i["name"]) for i in true["interfaces"]
        }
        assert e["boots"] == 1
        if e["clock_offset_ms"]:  # Where it can be told at all, from times of whole seconds.
            assert e["clock_offset_ms"] == pytest.approx(true["clock_offset_ms"], abs=200)


@pytest.mark.parametrize("name", ["routers-v9", "routers-ipfix"])
def test_sampled_counts_are_scaled_and_within_their_confidence(name):
    found, truth = load(name)
    groups = summed([f for f in found["flows"] if f["sampling"] > 1], ends)
    seen = 0
    for flow in truth["sampled_flows"]:
        for f in groups[true_ends(flow)]:
            seen += 1
            assert f["packets"] == flow["sampled_packets"] * f["sampling"]
            assert f["bytes"] == flow["sampled_bytes"] * f["sampling"]
            assert (
                abs(f["packets"] - flow["true_packets"])
                <= 4 * f["sampling"] * math.sqrt(flow["sampled_packets"]) + f["sampling"]
            )
    assert seen >= 20


@pytest.mark.parametrize("name", ["routers-v9", "routers-ipfix"])
def test_times_are_by_the_collectors_clock(name):
    found, truth = load(name)
    names = {(e["address"], e["domain"]): e["name"] for e in truth["exporters"]}
    groups = summed(found["flows"], lambda f: (names[f["exporter"], f["domain"]], ends(f)))
    good = []
    for flow in truth["flows"]:
        for router, counted in flow["routers"].items():
            if counted["records_in_file"] == counted["records"]:
                own = groups[router, true_ends(flow)]
                good.append(abs(min(f["first_ns"] for f in own) - flow["start_ns"]) < 150_000_000)
    assert sum(good) >= 0.95 * len(good) > 10


def test_a_virtual_switch_exports_the_same_three_ways():
    found, truth = load("ovs")
    for protocol, octets in (("netflow-v5", "frame_bytes"), ("ipfix", "ip_bytes")):
        groups = summed([f for f in found["flows"] if f["protocol"] == protocol and f["direction"] in (None, 0)], ends)
        for flow in truth["flows"]:
            own = groups[true_ends(flow)]
            assert (sum(f["packets"] for f in own), sum(f["bytes"] for f in own)) == (flow["packets"], flow[octets])
            assert {f["dscp"] for f in own} == {flow["dscp"]}
            if protocol == "netflow-v5":
                assert {(f["ingress"], f["egress"]) for f in own} == {
                    (truth["interfaces"][flow["ingress"]]["ofport"], truth["interfaces"][flow["egress"]]["ofport"])
                }
    assert [e["lost_records"] for e in found["exporters"]] == [0] * len(found["exporters"])


def test_sampled_packets_of_the_switch_stand_for_what_it_forwarded():
    found, truth = load("ovs")
    rows = [f for f in found["flows"] if f["protocol"] == "sflow-v5"]
    rate = truth["settings"]["sflow"]["sampling"]
    assert {f["sampling"] for f in rows} == {rate}
    true = sum(f["packets"] for f in truth["flows"])
    assert abs(sum(f["packets"] for f in rows) - true) <= 4 * rate * math.sqrt(len(rows))
    groups = summed(rows, ends)
    known = {true_ends(f): f for f in truth["flows"]}
    for key, own in groups.items():
        assert {f["dscp"] for f in own} == {known[key]["dscp"]}
        sides = known[key]["ingress"], known[key]["egress"]
        assert {(f["ingress"], f["egress"]) for f in own} == {
            (truth["interfaces"][sides[0]]["index"], truth["interfaces"][sides[1]]["index"])
        }


def test_counters_of_the_switch_rise():
    from yaffle.analysis import analyse as run

    path = _CORPUS / "ovs" / "export.pcap" if _CORPUS.is_dir() else _OWN / "ovs.pcap.gz"
    counters = summed(run([path]).flows.counters.rows, lambda c: c["interface"])
    rising = [own for own in counters.values() if len(own) > 3 and own[-1]["in_octets"] > own[0]["in_octets"]]
    assert len(rising) >= 2
    for own in rising:
        assert all(
            a["in_octets"] <= b["in_octets"] and a["time_ns"] <= b["time_ns"] for a, b in itertools.pairwise(own)
        )


def test_a_case_keeps_flow_records_and_their_exporters(tmp_path):
    from yaffle.case.folder import open_case, save_case

    analysis = analyse([_OWN / "routers-ipfix.pcap.gz"])
    save_case(tmp_path / "a.yaffle", analysis, {})
    again, _ = open_case(tmp_path / "a.yaffle")
    assert document(again, include=["flows"]) == document(analysis, include=["flows"])
    assert again.flows.exporters == analysis.flows.exporters
