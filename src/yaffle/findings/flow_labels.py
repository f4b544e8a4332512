"""A label for each flow record, by any dimension."""

from collections import defaultdict
from collections.abc import Callable

import numpy as np

from yaffle.arrays import Array, Bools, Int64s, Structs
from yaffle.capture.addresses import Labels, labels_of
from yaffle.capture.registry import marking, protocol_name
from yaffle.findings.flow_source import HeldFlows
from yaffle.inventory.places import Places
from yaffle.records.flow_table import Exporter

DIMENSIONS = (
    "application",
    "host",
    "peer",
    "pair",
    "site",
    "site pair",
    "conversation",
    "port",
    "interface in",
    "interface out",
    "DSCP",
    "cast type",
    "protocol",
)
NEXT = {
    "application": "pair", "host": "application", "peer": "application", "pair": "conversation", "site": "host",
    "site pair": "application", "port": "pair",
    "interface in": "application", "interface out": "application", "DSCP": "application", "cast type": "host",
    "protocol": "application", "conversation": "conversation",
}  # fmt: skip
REST = "all others"  # Of sums: what was put together without addresses.
PORT_NUMBER = "port number"  # whatever the protocol; beside DIMENSIONS, for tickets
BETWEEN = " to "
_NAMED = 1 << 40


class FlowLabels:
    """Labels of some records; what is costly is made once."""

    def __init__(self, held: HeldFlows, rows: Array, places: Places) -> None:
        self._rows, self._places, self._exporters = rows, places, held.exporters
        self._sums = held.width_ns > 0
        self._ends: dict[str, Labels] = {}

    def by(self, dimension: str) -> Labels:
        """The labels of one of DIMENSIONS."""
        rows = self._rows
        if dimension == "host":
            return self._end("src").named(self._host)
        if dimension == "peer":
            return self._end("dst").named(self._host)
        if dimension == "pair":
            return _joined(self._end("src").named(self._host), self._end("dst").named(self._host))
        if dimension == "site":
            return self._end("src").named(self._site)
        if dimension == "site pair":
            return _joined(self._end("src").named(self._site), self._end("dst").named(self._site))
        if dimension == "conversation":
            return self._conversations()
        if dimension == "interface out":
            return self._interfaces("egress", "out of")
        if dimension == "interface in":
            return self._interfaces("ingress", "into")
        if dimension == "DSCP":
            return numbered(rows["dscp"].astype(np.int64), marking)
        if dimension == "cast type":
            return self._end("dst").named(_cast)
        if dimension == "protocol":
            return numbered(rows["transport"].astype(np.int64), protocol_name)
        if dimension == PORT_NUMBER:
            return numbered(service_port(rows), str)
        keyed = rows["transport"].astype(np.int64) * 65536 + service_port(rows)
        if dimension == "port":
            return numbered(
                keyed, lambda k: f"{protocol_name(k // 65536)} {k % 65536}" if k % 65536 else protocol_name(k // 65536)
            )
        if (self._places.rules or self._places.names) and not (rows["application"] >= 0).any():
            return self._named_servers(keyed)
        return self._applications(keyed)

    def _end(self, side: str) -> Labels:
        if side not in self._ends:
            self._ends[side] = labels_of(self._rows[f"{side}_hi"], self._rows[f"{side}_lo"], self._rows["ipv6"])
        return self._ends[side]

    def _host(self, address: str) -> str:
        return REST if self._sums and address in ("0.0.0.0", "::") else self._places.short(address)

    def _site(self, address: str) -> str:
        return REST if self._sums and address in ("0.0.0.0", "::") else self._places.site(address)

    def _interfaces(self, column: str, word: str) -> Labels:
        def name(key: int) -> str:
            exporter, number = self._exporters[key >> 40], (key & (_NAMED - 1)) - 1
            return f"{word} {exporter.interfaces.get(number, f'interface {number}')}" if number >= 0 else "not told"

        return numbered(
            (self._rows["exporter"].astype(np.int64) << 40) | ((self._rows[column] + 1) & (_NAMED - 1)), name
        )

    def _applications(self, keyed: Int64s) -> Labels:
        """As the exporter told, whose numbers may be of any size; else by port."""
        rows = self._rows
        numbers, codes = np.unique(rows["application"], return_inverse=True)
        count = len(self._exporters)
        named = codes * count + rows["exporter"]

        def name(key: int) -> str:
            if key >= _NAMED:
                place, exporter = divmod(key - _NAMED, count)
                return self._exporters[exporter].applications.get(int(numbers[place]), f"application {numbers[place]}")
            return self._places.application("", key % 65536) if key % 65536 else protocol_name(key // 65536)

        return numbered(np.where(rows["application"] >= 0, named + _NAMED, keyed), name)

    def _named_servers(self, keyed: Int64s) -> Labels:
        """Applications where the user or the evidence named servers: by the server's address, too."""
        rows = self._rows
        one, two = rows["src_port"].astype(np.int64), rows["dst_port"].astype(np.int64)
        source, target = self._end("src"), self._end("dst")
        at_source = (one > 0) & ((two == 0) | (one < two) | ((one == two) & self._met_by_more()))
        server = np.where(at_source, source.codes, target.codes + len(source.texts))
        texts = [*source.texts, *target.texts]

        def name(key: int) -> str:
            place, own = divmod(key, 1 << 24)
            return self._places.application(texts[place], own % 65536) if own % 65536 else protocol_name(own // 65536)

        return numbered(server * (1 << 24) + keyed, name)

    def _met_by_more(self) -> Bools:
        """Whether the source of a record talks to more hosts from the port that both ends use than its target does:
        then it is the server. bool (n,).
        """
        rows, source, target = self._rows, self._end("src"), self._end("dst")
        same = (rows["src_port"] == rows["dst_port"]) & (rows["src_port"] > 0)
        peers: dict[tuple[str, int], set[str]] = defaultdict(set)
        pairs, number = np.unique(
            np.stack([source.codes[same], target.codes[same], rows["src_port"][same]], axis=1).astype(np.int64),
            axis=0,
            return_inverse=True,
        )
        for one, two, port in pairs.tolist():
            peers[source.texts[one], port].add(target.texts[two])
            peers[target.texts[two], port].add(source.texts[one])
        more = np.zeros(rows.size, bool)
        wider = np.array(
            [
                len(peers[source.texts[one], port]) > len(peers[target.texts[two], port])
                for one, two, port in pairs.tolist()
            ],
            bool,
        )
        more[same] = wider[number.reshape(-1)]
        return more

    def _conversations(self) -> Labels:
        pairs = self.by("pair")
        rows = self._rows
        table = np.stack([pairs.codes, rows["transport"], rows["src_port"], rows["dst_port"]], axis=1).astype(np.int64)
        kinds, codes = np.unique(table, axis=0, return_inverse=True)
        texts = []
        for pair, transport, one, two in kinds.tolist():
            source, _, target = pairs.texts[pair].partition(BETWEEN)
            texts.append(
                f"{protocol_name(transport)}"
                f" {source}{f':{one}' if one else ''}{BETWEEN}{target}{f':{two}' if two else ''}"
            )
        return Labels(codes.reshape(-1), texts).named(str)


def service_port(rows: Structs) -> Int64s:
    """The port of the server: the lower one, mostly; of sums the one that was kept. 0 where there is none."""
    one, two = rows["src_port"].astype(np.int64), rows["dst_port"].astype(np.int64)
    port = np.where((one > 0) & (two > 0), np.minimum(one, two), np.maximum(one, two))
    return np.where((rows["transport"] == 1) | (rows["transport"] == 58), 0, port)


def _cast(address: str) -> str:
    if address == "255.255.255.255":
        return "broadcast"
    first = address.partition(".")[0]
    multicast = address.startswith("ff") if ":" in address else first.isdigit() and 224 <= int(first) < 240
    return "multicast" if multicast else "unicast"


def _joined(one: Labels, two: Labels) -> Labels:
    wide = len(two.texts) + 1
    keys, codes = np.unique(one.codes * wide + two.codes, return_inverse=True)
    return Labels(codes, [f"{one.texts[k // wide]}{BETWEEN}{two.texts[k % wide]}" for k in keys.tolist()]).named(str)


def numbered(values: Int64s, name: Callable[[int], str]) -> Labels:
    """Labels of whole numbers, each distinct one named once; names may fall together."""
    keys, codes = np.unique(values, return_inverse=True)
    return Labels(codes, [name(k) for k in keys.tolist()]).named(str)


def exporter_words(exporter: Exporter) -> str:
    """An exporter in a list."""
    from yaffle.records.flow_table import PACKETS, PROTOCOLS

    return (
        f"packets at {exporter.address}"
        if exporter.protocol == PACKETS
        else f"{exporter.address}, domain {exporter.domain}, {PROTOCOLS[exporter.protocol]}"
    )
