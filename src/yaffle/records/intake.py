"""Takes export datagrams in order of arrival and makes flow records of them: NetFlow v5 and v9, IPFIX, sFlow v5.

Templates belong to an exporter's address and domain; records that come before their template wait for it, within
bounds. Records are decoded by columns, all of one template at once, when `finish` is called or enough have gathered.
"""

from collections import Counter, OrderedDict, defaultdict
from dataclasses import dataclass, field
from struct import unpack_from
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array, Int64s, Structs
from yaffle.records import columns, netflow5, sflow
from yaffle.records.columns import Chunk
from yaffle.records.counter_table import Counters
from yaffle.records.elements import PATH_DELAY, measured
from yaffle.records.flow_table import IPFIX, SFLOW, V5, V9, Exporter, FlowRecords
from yaffle.records.options import take_option
from yaffle.records.sequence import MOST_KEPT, Sequence, lost_together
from yaffle.records.templates import Template, read_fields, split, table

MOST_EXPORTERS, MOST_DOMAINS = 4096, 256  # the latter of one address
_MOST_TEMPLATES = 1024  # of an exporter
_MOST_FIELDS = 1 << 20  # of all templates of all exporters
_MOST_WAITING, _MOST_WAITING_IN_ALL = 1 << 20, 1 << 25  # bytes of an exporter, and of all, that wait for templates
_GATHERED = 1 << 13  # records after which they are decoded, so that their rows stay in the cache meanwhile
_WRAP = 1 << 32  # of uptimes, ms
_A_BOOT_MS = 60_000  # An uptime that steps back by more is another one.


@dataclass
class _State:
    """What is known of one exporter in one domain."""

    number: int
    exporter: Exporter
    sequence: Sequence = field(default_factory=Sequence)
    templates: "OrderedDict[int, Template]" = field(default_factory=OrderedDict)
    waiting: list[tuple[int, bytes, "_Header", int]] = field(
        default_factory=list
    )  # set, bytes, header, place in the sequence
    waiting_bytes: int = 0
    uptime_ms: int = -1
    boot_ns: list[int] = field(default_factory=list)  # of each boot, by the collector's clock
    ahead_ns: int = -(1 << 62)
    samplers: dict[int, int] = field(default_factory=dict)
    usual: int = 0  # records of a full datagram


class _Header(NamedTuple):
    arrived_ns: int
    uptime_ms: int  # -1 where the protocol tells none
    boot: int


class Intake:
    """Feed it datagrams; `finish` gives everything."""

    def __init__(self, path_delay: tuple[int, ...] = PATH_DELAY) -> None:
        """path_delay: the numbers of the elements that tell delay on the path: mean, least, most, sum."""
        self._named = measured(path_delay)
        self._states: OrderedDict[tuple[str, int, int], _State] = OrderedDict()
        self._order: dict[str, list[tuple[int, int]]] = defaultdict(
            list
        )  # IPFIX by address: which state, place in its sequence
        self._domains: Counter[str] = Counter()
        self._by_source: dict[tuple[int, int], Sequence] = {}  # sFlow numbers the samples of each source
        self._fields = self._waiting = 0  # of all templates; bytes of all that waits for one
        self._chunks: dict[tuple[int, int], tuple[Template, list[Chunk]]] = {}  # by exporter and template
        self._gathered = 0
        self._parts: list[Array] = []
        self._found = FlowRecords()
        self._total = 0
        self._counters: list[Array] = []
        self.refused = 0  # datagrams that are none of these, or broken

    def take(self, arrived_ns: int, address: str, data: bytes) -> bool:
        """One datagram; whether it was one of ours."""
        version = int.from_bytes(data[:2], "big")
        known = False
        if version == 5 and netflow5.whole(data):
            known = self._netflow5(arrived_ns, address, data)
        elif version == 9 and len(data) >= 20:
            known = self._netflow9(arrived_ns, address, data)
        elif version == 10 and len(data) >= 16:
            known = self._ipfix(arrived_ns, address, data)
        elif data[:4] == b"\0\0\0\5" and len(data) >= 28:
            known = self._sflow(arrived_ns, data)
        self.refused += not known
        if self._gathered >= _GATHERED:
            self._decode()
        return known

    def _state(self, address: str, domain: int, protocol: int) -> _State | None:
        key = (address, domain, protocol)
        state = self._states.get(key)
        if state is None:
            if len(self._states) >= MOST_EXPORTERS or self._domains[address] >= MOST_DOMAINS:
                return None  # Those that are known go on undisturbed.
            self._domains[address] += 1
            state = self._states[key] = _State(len(self._found.exporters), Exporter(address, domain, protocol))
            self._found.exporters.append(state.exporter)
        state.exporter.datagrams += 1
        return state

    def _booted(self, state: _State, arrived_ns: int, uptime_ms: int, export_ns: int) -> _Header:
        """Ties the exporter's uptime and clock to ours: a datagram was on its way for no less than nothing."""
        back_ms = (state.uptime_ms - uptime_ms) % _WRAP
        if state.uptime_ms < 0 or _A_BOOT_MS <= back_ms < _WRAP // 2:
            state.boot_ns.append(1 << 62)
        elif back_ms >= _WRAP // 2:
            uptime_ms = state.uptime_ms + _WRAP - back_ms  # On, across the wrap where there was one.
        else:
            uptime_ms = state.uptime_ms - back_ms  # Overtaken.
        state.uptime_ms = max(uptime_ms, state.uptime_ms if back_ms < _A_BOOT_MS else uptime_ms)
        state.boot_ns[-1] = min(state.boot_ns[-1], arrived_ns - uptime_ms * 1_000_000)
        state.ahead_ns = max(state.ahead_ns, export_ns - arrived_ns)
        return _Header(arrived_ns, uptime_ms, len(state.boot_ns) - 1)

    def _gather(self, state: _State, template: Template, chunk: Chunk) -> None:
        self._chunks.setdefault((state.number, id(template)), (template, []))[1].append(chunk)
        self._gathered += chunk.records
        state.exporter.flow_records += chunk.records

    # --- NetFlow v5 ---
    def _netflow5(self, arrived_ns: int, address: str, data: bytes) -> bool:
        count, uptime_ms, seconds, rest, number, engine, sampling = unpack_from("!HIIIIHH", data, 2)
        state = self._state(address, engine, V5)
        if state is None:
            return False
        header = self._booted(state, arrived_ns, uptime_ms, seconds * 10**9 + rest)
        state.sequence.take(number, count)
        state.exporter.sampling = max(1, sampling & 0x3FFF)
        state.exporter.records += count
        records = data[netflow5.HEADER : netflow5.HEADER + count * netflow5.RECORD]
        self._gather(
            state, netflow5.TEMPLATE, Chunk(records, count, [], header.arrived_ns, header.uptime_ms, header.boot)
        )
        return True

    # --- NetFlow v9 ---
    def _netflow9(self, arrived_ns: int, address: str, data: bytes) -> bool:
        _, uptime_ms, seconds, number, domain = unpack_from("!HIIII", data, 2)
        state = self._state(address, domain, V9)
        if state is None:
            return False
        header = self._booted(state, arrived_ns, uptime_ms, seconds * 10**9)
        state.sequence.take(number, 1)
        self._sets(state, data, 20, header, -1)
        return True

    # --- IPFIX ---
    def _ipfix(self, arrived_ns: int, address: str, data: bytes) -> bool:
        size, seconds, number, domain = unpack_from("!HIII", data, 2)
        if size < 16 or size > len(data):
            return False
        state = self._state(address, domain, IPFIX)
        if state is None:
            return False
        state.ahead_ns = max(state.ahead_ns, seconds * 10**9 - arrived_ns)
        place = state.sequence.take(number, 0)
        if len(self._order[address]) < MOST_KEPT:  # Whether domains share a count is told by the first.
            self._order[address].append((state.number, place))
        self._sets(state, data[:size], 16, _Header(arrived_ns, -1, 0), place)
        return True

    def _sets(self, state: _State, data: bytes, at: int, header: _Header, place: int) -> None:
        newer = state.exporter.protocol == IPFIX
        while at + 4 <= len(data):
            kind, size = unpack_from("!HH", data, at)
            if size < 4 or at + size > len(data):
                state.exporter.notes[:] = [f"a set of {size} bytes does not fit its datagram"]
                return
            body = data[at + 4 : at + size]
            at += size
            if kind == (2 if newer else 0):
                self._templates(state, body, newer)
            elif kind == (3 if newer else 1):
                self._option_templates(state, body, newer)
            elif kind >= 256:
                self._records(state, kind, body, header, place)

    def _templates(self, state: _State, body: bytes, newer: bool) -> None:
        at = 0
        while at + 4 <= len(body):
            number, count = unpack_from("!HH", body, at)
            at += 4
            if number < 256 and number != 2:
                return  # Padding.
            if count == 0:  # Withdrawn (RFC 7011 section 8.1).
                if number == 2:
                    self._fields -= sum(len(t.fields) for t in state.templates.values())
                    state.templates.clear()
                self._forget(state, number)
                continue
            found = read_fields(body, at, count, newer, named=self._named)
            if found is None:
                return
            at = found[1]
            self._keep(state, number, Template(found[0]))

    def _option_templates(self, state: _State, body: bytes, newer: bool) -> None:
        at = 0
        while at + 6 <= len(body):
            number, one, two = unpack_from("!HHH", body, at)
            if number < 256:
                return
            if newer and one == 0:
                self._forget(state, number)
                at += 4
                continue
            count, scope = (one, two) if newer else ((one + two) // 4, one // 4)
            found = read_fields(body, at + 6, count, newer, scope, own_scopes=not newer)
            if found is None:
                return
            at = found[1]
            self._keep(state, number, Template(found[0], max(1, scope)))

    def _forget(self, state: _State, number: int) -> None:
        if (former := state.templates.pop(number, None)) is not None:
            self._fields -= len(former.fields)

    def _keep(self, state: _State, number: int, template: Template) -> None:
        if state.templates.get(number) == template:
            return
        self._fields += len(template.fields) - (
            len(state.templates.pop(number).fields) if number in state.templates else 0
        )
        while state.templates and (len(state.templates) >= _MOST_TEMPLATES or self._fields > _MOST_FIELDS):
            self._fields -= len(state.templates.popitem(last=False)[1].fields)
        state.templates[number] = template
        held = [entry for entry in state.waiting if entry[0] == number]
        if held:
            state.waiting = [entry for entry in state.waiting if entry[0] != number]
            freed = sum(len(entry[1]) for entry in held)
            state.waiting_bytes, self._waiting = state.waiting_bytes - freed, self._waiting - freed
            for _, body, header, place in held:
                self._records(state, number, body, header, place)

    def _records(self, state: _State, number: int, body: bytes, header: _Header, place: int) -> None:
        template = state.templates.get(number)
        if template is None:
            if state.waiting_bytes + len(body) > _MOST_WAITING or self._waiting + len(body) > _MOST_WAITING_IN_ALL:
                state.exporter.undecoded += len(body)
                return
            state.waiting.append((number, body, header, place))
            state.waiting_bytes, self._waiting = state.waiting_bytes + len(body), self._waiting + len(body)
            return
        fixed, count, others = split(template, body)
        if place >= 0:
            state.sequence.add(place, count)
        state.exporter.records += count
        if template.scope:
            rows = table(fixed, count, template.fixed_size)
            for k in range(count):
                take_option(template, rows[k : k + 1], others[k] if others else {}, state.exporter, state.samplers)
            return
        self._gather(state, template, Chunk(fixed, count, others, header.arrived_ns, header.uptime_ms, header.boot))

    # --- sFlow ---
    def _sflow(self, arrived_ns: int, data: bytes) -> bool:
        found = sflow.read(data)
        if found is None:
            return False
        state = self._state(found.agent, found.sub_agent, SFLOW)
        if state is None:
            return False
        for sample in found.samples:
            key = (state.number, sample.source)
            if key in self._by_source or len(self._by_source) < MOST_EXPORTERS:
                self._by_source.setdefault(key, Sequence()).take(sample.number, 1)
        rows = sflow.flows(found.samples, arrived_ns, state.number)
        state.exporter.records += rows.size
        state.exporter.flow_records += rows.size
        if rows.size:
            state.exporter.sampling = int(rows["sampling"][-1])
        self._add(rows)
        if found.counters:
            device = self._found.counters.device(found.agent)
            for row in found.counters:
                row["device"], row["time_ns"] = device, arrived_ns
            self._counters += found.counters
        return True

    # --- the end ---
    def _add(self, rows: Structs) -> int:
        self._parts.append(rows)
        self._total += rows.size
        return self._total - rows.size

    def _decode(self) -> None:
        states = list(self._states.values())
        for (number, _), (template, chunks) in self._chunks.items():
            rows, own = columns.flows(template, chunks, states[number].exporter.protocol, number)
            first = self._add(rows)
            for k, named in own.items():
                self._found.own[first + k] = named
        self._chunks.clear()
        self._gathered = 0

    def finish(self) -> FlowRecords:
        """What came since the last `drain`, and the end: what still waits for a template is lost.

        Nothing can be taken afterwards.
        """
        for state in self._states.values():
            state.exporter.undecoded += sum(len(entry[1]) for entry in state.waiting)
        return self.drain()

    def drain(self) -> FlowRecords:
        """What came since the last time, with times by the collector's clock and counts scaled by what is known of
        sampling so far.

        Exporters and devices are the same lists each time: they grow.
        """
        self._decode()
        found = self._found
        settled = np.concatenate(self._parts) if self._parts else found.rows
        if self._counters:
            found.counters.rows = np.concatenate(self._counters)
        self._found = FlowRecords(
            exporters=found.exporters, counters=Counters(devices=found.counters.devices, names=found.counters.names)
        )
        self._parts, self._total, self._counters = [], 0, []
        present = set(np.flatnonzero(np.bincount(settled["exporter"])).tolist())
        for state in self._states.values():
            self._settle(state, settled if state.number in present else settled[:0])
        self._losses()
        if (np.diff(settled["arrived_ns"]) >= 0).all():
            return FlowRecords(settled, found.exporters, found.own, found.counters)
        order = np.argsort(settled["arrived_ns"], kind="stable")
        return FlowRecords(settled[order], found.exporters, _moved(found.own, order), found.counters)

    def _settle(self, state: _State, rows: Structs) -> None:
        exporter = state.exporter
        member = rows["exporter"] == state.number
        columns.settle_times(rows, member, state.boot_ns, state.ahead_ns, exporter)
        columns.settle_sampling(rows, member, state.samplers, exporter)
        exporter.boots = max(1, len(state.boot_ns))
        state.usual = max(state.usual, columns.usual_count(rows, state.number)) if exporter.protocol == V9 else 0

    def _losses(self) -> None:
        for state in self._states.values():
            exporter, sequence = state.exporter, state.sequence
            if exporter.protocol == V5:
                sequence.look_how_it_counts()
                exporter.lost_records = sequence.lost
            elif exporter.protocol == V9:
                exporter.lost_datagrams = sequence.lost
                exporter.estimated = exporter.lost_datagrams > 0
                exporter.lost_records = exporter.lost_datagrams * state.usual
            elif exporter.protocol == SFLOW:
                exporter.lost_records = sum(
                    s.lost for (number, _), s in self._by_source.items() if number == state.number
                )
        self._ipfix_losses()

    def _ipfix_losses(self) -> None:
        """Each domain counts for itself (RFC 7011 section 3.1); some exporters count all their domains together: what
        lacks less is believed.
        """
        groups: dict[str, list[_State]] = defaultdict(list)
        for (address, _, protocol), state in self._states.items():
            if protocol == IPFIX:
                groups[address].append(state)
        numbered = {state.number: state.sequence for state in self._states.values()}
        for address, states in groups.items():
            apart = [s.sequence.lost for s in states]
            kept = [numbered[number].kept(place) for number, place in self._order[address]]
            together = (
                lost_together([k for k in kept if k is not None])
                if len(states) > 1 and any(apart) and None not in kept
                else sum(apart)
            )
            for state, own in zip(states, apart, strict=True):
                state.exporter.lost_records = own if together >= sum(apart) else 0
            if together < sum(apart):
                busiest = max(states, key=lambda s: s.exporter.flow_records)
                busiest.exporter.lost_records = together
                busiest.exporter.notes.append("it counts the records of all its domains together")


def _moved(own: dict[int, dict[str, int | str]], order: Int64s) -> dict[int, dict[str, int | str]]:
    place = np.empty(order.size, np.int64)
    place[order] = np.arange(order.size)
    return {int(place[row]): named for row, named in own.items()}
