"""The evidence as columns for the screen: who waited, when, on what, and what each wait was made of.

A row of `Waits` is an exchange, or an opening that failed. Each connection stands once, by the view that speaks for it.
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Bools, Int32s, Int64s, Int64s2
from yaffle.capture.addresses import Labels, client_labels, server_labels
from yaffle.exchanges import labels
from yaffle.findings.flow_source import held_flows
from yaffle.findings.services import failed
from yaffle.kernels import kernel, uint64
from yaffle.ledger import causes
from yaffle.ledger.bounds import BOUNDED, FIELDS
from yaffle.ledger.fields import EXCHANGE_FIELDS
from yaffle.ledger.sums import by_party
from yaffle.records.flow_table import PACKETS
from yaffle.units import size


@kernel
def _first_rows(flow: Int32s, first: Int64s) -> None:
    for k in range(flow.size - 1, -1, -1):
        if flow[k] >= 0:
            first[flow[k]] = k


@dataclass(frozen=True)
class Waits:
    """Columns of one length. `connection` is a row of the account; `exchange` is -1 where an opening failed."""

    connection: Int64s
    exchange: Int64s
    first_ns: Int64s
    end_ns: Int64s
    charges: Int64s2
    columns: Int64s  # of charges: those that hold anything

    @cached_property
    def wait_ns(self) -> Int64s:
        """The whole wait of each row."""
        found = np.zeros(self.connection.size, np.int64)
        for column in self.columns.tolist():
            found += self.charges[:, column]
        return found

    def charged(self, rows: Int64s) -> Int64s:
        """(CHARGES,): the charges of some rows, ns."""
        found = np.zeros(self.charges.shape[1], np.int64)
        for column in self.columns.tolist():
            found[column] = self.by_column[column][rows].sum()
        return found

    @cached_property
    def by_column(self) -> Int64s2:
        """The charges with a row a column of the ledger."""
        return np.ascontiguousarray(self.charges.T)

    @cached_property
    def parties(self) -> Int64s2:
        """(n, 4): the wait by party, in the order of causes.PARTIES."""
        return by_party(self.charges, self.columns)[0]


class Evidence:
    """Everything the stations ask of one analysis."""

    def __init__(self, analysis: Analysis) -> None:
        self.analysis = analysis
        account, flows = analysis.account, analysis.capture.conversations
        self.places = analysis.places
        self.told: dict[str, str] = {}  # how each application's name was found, or why it is not known
        self.client, self.server = client_labels(flows, account.flow), server_labels(flows, account.flow)
        self.port = flows.b_port[account.flow].astype(np.int64)
        self.client_port = flows.a_port[account.flow].astype(np.int64)
        self.application = self._applications(self.server, self.port, self._hosts())
        self.site = self.client.named(self.places.site)
        self.speaks = analysis.speaker == np.arange(analysis.speaker.size)
        self.waits = self._waits()
        self.first_ns, self.last_ns = self._span()

    def _span(self) -> tuple[int, int]:
        """When the evidence begins and ends: packets, a history, tables of counters; without any of these, when flow
        records came.
        """
        held = [(s.first_ns, s.last_ns) for s in self.analysis.capture.sources if s.last_ns]
        told = self.analysis.flows.rows["arrived_ns"] if not held else self.analysis.flows.rows["arrived_ns"][:0]
        if told.size:
            held = [(int(told.min()), int(told.max()))]
        first_ns = min((first for first, _ in held), default=0)
        return first_ns, max((last for _, last in held), default=first_ns + 10**9)

    @cached_property
    def busiest_exporter(self) -> int:
        """Number of the exporter with most bytes of all times, of packets only where nobody else told; -1 without any.

        Raises HistoryError.
        """
        held = held_flows(self.analysis, self.first_ns, self.last_ns)
        if not held.rows.size:
            return -1
        sizes = np.bincount(held.rows["exporter"], held.rows["octets"], len(held.exporters))
        return max(
            range(len(held.exporters)), key=lambda k: (held.exporters[k].protocol != PACKETS and sizes[k] > 0, sizes[k])
        )

    @cached_property
    def labels(self) -> list[str]:
        """What each message asked, literals of statements masked."""
        messages = self.analysis.messages
        found = list(messages.label)
        for c, protocol in messages.protocol.items():
            if protocol in labels.MASKED:
                for row in messages.turns["message"][messages.starts[c] : messages.starts[c + 1]].tolist():
                    found[row] = labels.shown(protocol, found[row])
        return found

    @cached_property
    def asked(self) -> tuple[Labels, Bools]:
        """For each message: what it asked under labels that fall together ("PROTOCOL\nLABEL"), and whether its answer
        was a failure.
        """
        messages = self.analysis.messages
        owner = np.repeat(np.arange(messages.starts.size - 1), np.diff(messages.starts))
        spoken = [messages.protocol.get(c, "tcp") for c in owner.tolist()]
        made: dict[tuple[str, str], str] = {}
        texts = []
        for pair in zip(spoken, messages.label, strict=True):
            if pair not in made:
                made[pair] = f"{pair[0]}\n{labels.grouped(*pair)}"
            texts.append(made[pair])
        bad = np.array([failed(*pair) for pair in zip(spoken, messages.outcome, strict=True)], bool)
        account = self.analysis.account
        message = account.of_exchange("message")[account.of_exchange("answered_ns") < 0]
        bad[message[message >= 0]] = True
        return Labels.of(texts), bad

    @cached_property
    def spoken(self) -> Labels:
        """For each connection: what it speaks; tcp where that is not known."""
        protocols = self.analysis.messages.protocol
        return Labels.of([protocols.get(c, "tcp") for c in range(self.analysis.account.flow.size)])

    def messages_of(self, rows: Int64s) -> Int64s:
        """The message of each of some waits; -1 where there is none."""
        exchange = self.waits.exchange[rows]
        found = np.full(rows.size, -1, np.int64)
        has = exchange >= 0
        found[has] = self.analysis.account.of_exchange("message")[exchange[has]]
        return found

    def answered(self, rows: Int64s) -> Bools:
        """Whether each of some waits ended with an answer."""
        exchange = self.waits.exchange[rows]
        found = np.zeros(rows.size, bool)
        has = exchange >= 0
        found[has] = self.analysis.account.of_exchange("answered_ns")[exchange[has]] >= 0
        return found

    def said(self, wait: int) -> tuple[str, str, str]:
        """Of a wait: what it speaks, what was asked in words, how it was answered; empty where turns of bytes tell no
        more.
        """
        exchange, messages, message = int(self.waits.exchange[wait]), self.analysis.messages, self._message(wait)
        protocol = messages.protocol.get(int(self.waits.connection[wait]), "tcp")
        if message < 0:
            return protocol, "", ""
        label = self.labels[message]
        outcome = messages.outcome_of(message, bool(self.answered(np.array([wait]))[0]))
        if outcome == "answered" and protocol == "tls":  # What was asked shows only its size.
            label = f"sealed, {size(int(self.analysis.account.of_exchange('response_bytes')[exchange]))}"
        return protocol, label, outcome

    def label(self, wait: int) -> str:
        """Of a wait: the label as the filter knows it; empty where there is none."""
        message = self._message(wait)
        return self.labels[message] if message >= 0 else ""

    def _message(self, wait: int) -> int:
        exchange = int(self.waits.exchange[wait])
        return int(self.analysis.account.of_exchange("message")[exchange]) if exchange >= 0 else -1

    @cached_property
    def wait_of_exchange(self) -> Int64s:
        """For each exchange of the account its row of the waits; -1 where another view of it speaks."""
        found = np.full(self.analysis.account.exchange.shape[0], -1, np.int64)
        has = np.flatnonzero(self.waits.exchange >= 0)
        found[self.waits.exchange[has]] = has
        return found

    def _hosts(self) -> Labels:
        """The name that each connection asked for."""
        told = self.analysis.messages.host
        if not told:
            return Labels(np.zeros(self.port.size, np.int64), [""])
        index = {name: k for k, name in enumerate(dict.fromkeys(["", *told.values()]))}
        codes = np.zeros(self.port.size, np.int64)
        codes[list(told)] = [index[name] for name in told.values()]
        return Labels(codes, list(index))

    def _applications(self, server: Labels, port: Int64s, host: Labels) -> Labels:
        keys = (server.codes * 65536 + port) * len(host.texts) + host.codes
        kinds, place = np.unique(keys, return_inverse=True)
        parts = [(*divmod(key // len(host.texts), 65536), host.texts[key % len(host.texts)]) for key in kinds.tolist()]
        names = Labels.of(
            [self.places.application(server.texts[address], port_, host_) for address, port_, host_ in parts]
        )
        for (address, port_, host_), code in zip(parts, names.codes.tolist(), strict=True):
            self.told.setdefault(names.texts[code], self.places.told(server.texts[address], port_, host_))
        return Labels(names.codes[place] if kinds.size else keys, names.texts)

    @cached_property
    def _service_table(self) -> tuple[Int64s, Int64s]:
        return np.unique(self.server.codes * 65536 + self.port, return_inverse=True)

    @property
    def service(self) -> Int64s:
        """For each connection: the number of its server and port."""
        return self._service_table[1]

    @cached_property
    def services(self) -> list[tuple[str, int]]:
        """Servers and ports by that number."""
        return [(self.server.texts[k // 65536], k % 65536) for k in self._service_table[0].tolist()]

    @cached_property
    def flow_client(self) -> Labels:
        """Client of every conversation, TCP or not."""
        flows = self.analysis.capture.conversations
        return client_labels(flows, np.arange(flows.point.size))

    @cached_property
    def flow_server(self) -> Labels:
        """Server of every conversation."""
        flows = self.analysis.capture.conversations
        return server_labels(flows, np.arange(flows.point.size))

    @cached_property
    def flow_application(self) -> Labels:
        """Application of every conversation."""
        flows, hosts = self.analysis.capture.conversations, self._hosts()
        codes = np.zeros(flows.point.size, np.int64)
        codes[self.analysis.account.flow] = hosts.codes
        return self._applications(self.flow_server, flows.b_port.astype(np.int64), Labels(codes, hosts.texts))

    def _waits(self) -> Waits:
        account = self.analysis.account
        owner = account.of_exchange("connection")
        kept = np.flatnonzero(self.speaks[owner]) if owner.size else np.empty(0, np.int64)
        lonely = np.flatnonzero(self.speaks & (account.fact("exchanges") == 0) & (account.fact("wait_ns") > 0))
        if not lonely.size and kept.size == owner.size:  # All of them as they are: nothing to copy.
            return Waits(
                owner, kept, account.of_exchange("first_ns"), account.of_exchange("end_ns"), account.exchange_charges,
                account.charged,
            )  # fmt: skip
        return Waits(
            np.concatenate([owner[kept], lonely]),
            np.concatenate([kept, np.full(lonely.size, -1)]),
            np.concatenate([account.of_exchange("first_ns")[kept], account.fact("first_ns")[lonely]]),
            np.concatenate(
                [
                    account.of_exchange("end_ns")[kept],
                    account.fact("first_ns")[lonely] + account.fact("wait_ns")[lonely],
                ]
            ),
            np.concatenate([account.exchange_charges[kept], account.connection_charges[lonely]]),
            account.charged,
        )

    @cached_property
    def bounds(self) -> Int64s2:
        """For each wait the bounds of each party's part, ns (n, 6), in the order of ledger.bounds.FIELDS; what is no
        exchange's is as charged.
        """
        waits, account = self.waits, self.analysis.account
        first = EXCHANGE_FIELDS.index(FIELDS[0])
        if np.may_share_memory(waits.charges, account.exchange_charges):  # All exchanges as they are.
            return account.exchange[:, first : first + len(FIELDS)]
        found = np.empty((len(FIELDS), waits.connection.size), np.int64).T
        has = waits.exchange >= 0
        for k, name in enumerate(FIELDS):
            party = causes.party_columns(BOUNDED[k // 2])
            found[has, k] = account.of_exchange(name)[waits.exchange[has]]
            found[~has, k] = waits.charges[~has][:, party].sum(axis=1)
        return found

    @cached_property
    def counted(self) -> Bools:
        """For each conversation: whether its packets count in sums (each conversation once, wherever it was seen)."""
        flows, account = self.analysis.capture.conversations, self.analysis.account
        counted = np.ones(flows.point.size, bool)
        counted[account.flow] = self.speaks
        others = np.flatnonzero(flows.protocol != 6)
        if others.size and np.unique(flows.point).size > 1:
            key = np.zeros(others.size, np.uint64)
            for names in (("a_hi", "b_hi"), ("a_lo", "b_lo"), ("a_port", "b_port")):
                one, two = (getattr(flows, n)[others].astype(np.uint64) for n in names)
                for part in (np.minimum(one, two), np.maximum(one, two)):
                    key = (key ^ part) * uint64(0x9E3779B97F4A7C15)
                    key ^= key >> uint64(31)
            counted[others] = False
            _, first = np.unique(key, return_index=True)
            counted[others[first]] = True
        return counted

    @cached_property
    def first_packet(self) -> Int64s:
        """For each conversation: the row of its first packet."""
        first = np.zeros(self.counted.size, np.int64)
        _first_rows(self.analysis.capture.packets.flow, first)
        return first

    @cached_property
    def packet_counts(self) -> Bools:
        """For each packet: whether it counts in sums."""
        flow = self.analysis.capture.packets.flow
        return np.asarray(np.append(self.counted, True)[flow])
