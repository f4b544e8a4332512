"""Every number that Yaffle keeps or works out, by name: its unit, what it means, and by what it can be asked for.

Whoever shows, compares, watches or reports a measure over time takes it from here, so that one name is one thing.
"""

from dataclasses import dataclass

from yaffle.records.device_measures import OF_DEVICES
from yaffle.records.host_measures import OF_HOSTS
from yaffle.records.measure import TOTAL, Measure

RECORDS, COUNTERS, READINGS, WAITS, PROBES, HOPS = "records", "counters", "readings", "waits", "probes", "hops"
RADIO, CYCLIC = "radio", "cyclic"
_FLOW_GROUPS = ("application", "exporter", "host", "peer", "site", "pair", "interface", "dscp", "transport")
_INTERFACE_GROUPS = ("device", "interface")
_WAIT_GROUPS = ("application", "server", "site", "client")
_READING_GROUPS = ("device", "object")
_TEST_GROUPS = ("test", "target", "kind")
_HOP_GROUPS = ("queue", "node")
_RADIO_GROUPS = ("access_point", "station", "network")
_CYCLIC_GROUPS = ("stream", "end")
_WORSE = ("retransmissions", "timeouts", "round_trip", "round_trip_min", "receiver_limited", "sender_limited")
_OF_TESTS = {"round_trip": "test_round_trip", "failures": "test_failures"}  # where it is asked of a test


@dataclass(frozen=True)
class Entry:
    """One measure. table: whose rows it is worked out from; groups: what it can be told by."""

    name: str
    table: str
    unit: str
    words: str
    groups: tuple[str, ...]
    more_is_worse: bool = False  # less than usual is no trouble


def _flow(name: str, unit: str, words: str) -> Entry:
    return Entry(name, RECORDS, unit, words, _FLOW_GROUPS, name in _WORSE)


def _interface(name: str, unit: str, words: str) -> Entry:
    return Entry(name, COUNTERS, unit, words, _INTERFACE_GROUPS, name.endswith(("errors", "discards")))


def _wait(name: str, unit: str, words: str) -> Entry:
    return Entry(name, WAITS, unit, words, _WAIT_GROUPS, name != "exchange_rate")


def _test(name: str, unit: str, words: str) -> Entry:
    return Entry(name, PROBES, unit, words, _TEST_GROUPS, name not in ("test_throughput", "test_mos"))


def _hop(name: str, unit: str, words: str, groups: tuple[str, ...] = _HOP_GROUPS) -> Entry:
    return Entry(name, HOPS, unit, words, groups, name != "hop_packets")


def _radio(name: str, unit: str, words: str) -> Entry:
    return Entry(name, RADIO, unit, words, _RADIO_GROUPS, name not in ("wlan_signal", "wlan_snr", "wlan_rate"))


def _cyclic(name: str, unit: str, words: str) -> Entry:
    return Entry(name, CYCLIC, unit, words, _CYCLIC_GROUPS, True)


_OF_WAITS = (
    _wait("wait_median", "ms", "median wait of exchanges (nearest rank, from the histogram, within 1.9 %)"),
    _wait("wait_p95", "ms", "95th percentile of waits (nearest rank, from the histogram, within 1.9 %)"),
    _wait("wait_mean", "ms", "mean wait of exchanges"),
    _wait("client_wait", "ms", "mean client delay of an exchange"),
    _wait("network_wait", "ms", "mean network delay of an exchange"),
    _wait("server_wait", "ms", "mean server delay of an exchange"),
    _wait("waiting", "waits", "concurrent waits: sum of all waits over the time"),
    _wait("exchange_rate", "/s", "exchanges that ended, per second"),
    _wait("failure_rate", "%", "failed exchanges and connection attempts, of all"),
)
_OF_PROBES = (
    _test("test_round_trip", "ms", "median round trip of a test on purpose (nearest rank)"),
    _test("test_failures", "%", "tests on purpose that did not go well, of those sent (RFC 7680)"),
    _test("loss", "%", "packets that tests on purpose sent and that were lost; a test without an answer lost its own"),
    _test("test_throughput", "bit/s", "median throughput of tests of speed (RFC 6349; nearest rank)"),
    _test("test_mos", "", "median opinion score (MOS, ITU-T G.107) of tests of voice and video (nearest rank)"),
)
_OF_HOPS = (
    _hop("hop_delay", "µs", "longest delay of a packet in a node, as nodes told it (hop latency, INT 2.1)"),
    _hop("queue_depth", "B", "deepest queue that a packet met in a node, as nodes told it"),
    _hop("hop_drops", "packets", "dropped packets, as nodes told them"),
    _hop("hop_packets", "packets", "visits of packets at nodes, as nodes told them"),
    _hop(
        "path_delay",
        "µs",
        "longest delay from the edge of a domain to an exporter, as it told it (IPFIX)",
        ("exporter",),
    ),
)
_OF_RADIO = (
    _radio("wlan_retries", "%", "data frames that were sent again, of all between stations and access points"),
    _radio(
        "wlan_signal", "dBm", "median signal of stations' frames as they were heard, mean over minutes and stations"
    ),
    _radio("wlan_snr", "dB", "median signal above median noise, mean over minutes and stations"),
    _radio("wlan_rate", "Mbit/s", "median rate of data frames, mean over minutes and stations"),
    _radio("wlan_airtime", "%", "time on the air of frames whose rate is told, of the time; without waiting"),
    _radio("wlan_busy", "%", "how busy an access point told its channel to be (BSS load), mean"),
    _radio("wlan_stations", "stations", "stations heard at an access point in one minute, at most"),
    _radio("wlan_roams", "moves", "moves of stations from one access point to another"),
    _radio("wlan_failures", "failures", "failed authentications, associations, key exchanges and addresses"),
)
_OF_CYCLIC = (
    _cyclic("cycles_missed", "%", "cycles without a packet, of all cycles of cyclic streams"),
    _cyclic("cycle_jitter", "µs", "95th percentile of how far packets lie from their cycle's moment, worst minute"),
    _cyclic("cycle_gap", "ms", "longest gap between two packets of a cyclic stream"),
)
_OF_RECORDS = (
    _flow("volume", "bit/s", "bits of flow records over time, each record spread evenly over its span"),
    _flow("packets", "packets/s", "packets of flow records over time"),
    _flow("records", "records", "flow records"),
    _flow("retransmissions", "%", "retransmitted segments of those sent, as counted by senders' kernels"),
    _flow("timeouts", "timeouts", "retransmission timeouts (RTO), as counted by senders' kernels"),
    _flow("round_trip", "ms", "smoothed RTT of senders' kernels, mean by packets"),
    _flow("round_trip_min", "ms", "lowest RTT of senders' kernels"),
    _flow("receiver_limited", "%", "receive-window-limited share of the time with data outstanding"),
    _flow("sender_limited", "%", "send-buffer-limited share of the time with data outstanding"),
)
_OF_COUNTERS = (
    _interface("utilization", "%", "bits of the fuller direction, of the interface's speed"),
    _interface("in_octets", "bit/s", "bits received"),
    _interface("out_octets", "bit/s", "bits sent"),
    _interface("in_unicast", "packets/s", "packets received for one station"),
    _interface("out_unicast", "packets/s", "packets sent to one station"),
    _interface("in_multicast", "packets/s", "packets received for a group"),
    _interface("out_multicast", "packets/s", "packets sent to a group"),
    _interface("in_broadcast", "packets/s", "packets received for all"),
    _interface("out_broadcast", "packets/s", "packets sent to all"),
    _interface("in_errors", "packets/s", "packets received with errors"),
    _interface("out_errors", "packets/s", "packets not sent because of errors"),
    _interface("in_discards", "packets/s", "packets received and discarded without an error (buffers)"),
    _interface("out_discards", "packets/s", "packets discarded before transmission without an error (buffers)"),
)


def _entry(measure: Measure) -> Entry:
    unit = ("%" if measure.unit == "s" else f"{measure.unit}/s") if measure.kind == TOTAL else measure.unit
    return Entry(measure.name, READINGS, unit, measure.words, _READING_GROUPS)


OF_READINGS: dict[str, Measure] = {one.name: one for one in (*OF_HOSTS, *OF_DEVICES)}
CATALOGUE: dict[str, Entry] = {
    one.name: one
    for one in (
        *_OF_WAITS,
        *_OF_PROBES,
        *_OF_HOPS,
        *_OF_RADIO,
        *_OF_CYCLIC,
        *_OF_RECORDS,
        *_OF_COUNTERS,
        *(_entry(measure) for measure in OF_READINGS.values()),
    )
}


def entry_of(measure: str, group: str = "") -> Entry:
    """A measure of the catalogue, asked for by a group: of a test or its target, its round trip is that of tests.
    Raises KeyError.
    """
    return CATALOGUE[_OF_TESTS.get(measure, measure) if group in _TEST_GROUPS else measure]
