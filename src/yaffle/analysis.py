"""A whole analysis: captures read, every wait accounted for."""

from collections import Counter
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, Self

import numpy as np

from yaffle.arrays import Bools, Int8s, Int32s, Int64s
from yaffle.capture.by_part import laid_by_part
from yaffle.capture.captured import Capture, Source
from yaffle.capture.first_bytes import beginnings
from yaffle.capture.payload import Payload
from yaffle.cyclic.streams import Cyclic, find_cyclic
from yaffle.engine_start import ready_for
from yaffle.errors import Cancelled, YaffleError
from yaffle.exchanges.lookups import Lookups, find_lookups
from yaffle.exchanges.messages import Messages
from yaffle.flow_export.in_captures import find_exports
from yaffle.flow_export.of_packets import flows_of_packets
from yaffle.history.layout import is_history
from yaffle.hops.reports import ReportForm
from yaffle.hops.telemetry import Telemetry, find_telemetry
from yaffle.inventory.expected_markings import Expected
from yaffle.inventory.places import Places, PointName, Rule, Site, spoken_point
from yaffle.ledger.accounts import Account, OwnAccount
from yaffle.ledger.arrangement import Arrangement, arrange
from yaffle.ledger.at_nodes import AtNodes, at_nodes
from yaffle.ledger.by_paths import account_by_paths
from yaffle.ledger.finished import put_together
from yaffle.ledger.known import KnownAccount
from yaffle.ledger.on_air import OnAir, on_air
from yaffle.ledger.source_notes import noted
from yaffle.ledger.views import speaking_views
from yaffle.media.calls import Call, find_calls
from yaffle.media.programs import Program, find_programs
from yaffle.media.streams import Media, find_media
from yaffle.memory_plan import Plan
from yaffle.path.journeys import journeys
from yaffle.path.points_path import PointsPath, find_path, with_clocks_right
from yaffle.path.translations import PairedEnds, without
from yaffle.progress import Progress, go_on, step
from yaffle.radio.frames import frames_of, heard_times
from yaffle.radio.radio import Radio, find_radio
from yaffle.records.flow_table import PACKETS, Exporter, FlowRecords
from yaffle.room import Room
from yaffle.tiers.behind import Behind, find_behind, nothing_behind
from yaffle.tiers.watch import Watch
from yaffle.transport.clock_steps import without_clock_steps
from yaffle.transport.datagrams import Datagrams, datagrams
from yaffle.workforce import Workforce

if TYPE_CHECKING:
    from yaffle.history.store import History

HISTORY, COUNTERS = "history", "counters"  # formats of sources without packets
COUNTER_SUFFIXES = (".csv", ".parquet")  # files that are read as tables of counters


_STILL_GREW = (
    "it still grew when it was read: queues that others fill and servers behind servers were not looked at yet, and of"
    " who waited only the worst is told"
)


@dataclass(frozen=True)
class Told:
    """What the user says of the evidence: it changes names and findings, not what was captured."""

    rules: tuple[Rule, ...] = ()
    sites: tuple[Site, ...] = ()
    expected: tuple[Expected, ...] = ()
    apart: tuple[PairedEnds, ...] = ()
    renamed: tuple[PointName, ...] = ()


@dataclass
class Analysis:
    """What was read and what was found."""

    capture: Capture
    account: Account
    speaker: Int64s  # for each connection, the view of it that speaks for all
    messages: Messages  # what exchanges say, where their protocol is known
    lookups: Lookups
    media: list[Media]  # voice and video streams
    flows: FlowRecords = field(default_factory=FlowRecords)  # what exporters told
    rules: tuple[Rule, ...] = ()  # the user's own names of applications
    path: PointsPath = field(
        default_factory=PointsPath
    )  # what several points saw of each other, without what the user says is not the same
    sites: tuple[Site, ...] = ()  # the user's own names of address ranges
    history: "History | None" = None  # months of flow records and counters, read as they are asked for
    calls: list[Call] = field(default_factory=list)
    programs: list[Program] = field(default_factory=list)  # video in transport streams
    expected: tuple[Expected, ...] = ()  # the user's own rules of markings
    apart: tuple[PairedEnds, ...] = ()  # conversations of two points that the user says are not the same
    renamed: tuple[PointName, ...] = ()  # capture points as the user calls them
    found_path: PointsPath | None = None  # as it was found, where `path` is not all of it
    behind: Behind = field(default_factory=nothing_behind)  # what servers did for whom
    telemetry: Telemetry = field(default_factory=Telemetry)  # what nodes told of single packets
    radio: Radio = field(default_factory=Radio)  # what was heard on the air
    cyclic: list[Cyclic] = field(default_factory=list)  # streams with a steady period
    provisional: bool = False  # while captures grow: neither others' queues nor servers behind servers were looked at

    @property
    def told(self) -> Told:
        """The user's words in it."""
        return Told(self.rules, self.sites, self.expected, self.apart, self.renamed)

    def as_told(self, told: Told) -> "Analysis":
        """The same evidence with other words of the user's."""
        if told == self.told:
            return self
        named = replace(self, rules=told.rules, sites=told.sites, expected=told.expected, renamed=told.renamed)
        if told.apart == self.apart:
            return named
        whole = self.found_path or self.path
        path = without(self.capture, whole, told.apart)
        flows = self.capture.conversations
        speaker = speaking_views(self.account, flows, journeys(path.segments, flows.point.size))
        return replace(named, apart=told.apart, path=path, found_path=whole, speaker=speaker)

    def with_reports(self, form: ReportForm) -> "Analysis":
        """The same evidence with another reading of what switches report."""
        return replace(self, telemetry=find_telemetry(self.capture, Payload(self.capture), form=form))

    @cached_property
    def point_names(self) -> list[str]:
        """What the capture points are called, in their order: by the user, else after their files."""
        own = {one.point: one.name for one in self.renamed}
        sites = {self.places.site(address) for address in self.capture.names}
        return [own.get(point) or spoken_point(point, sites) for point in self.capture.points]

    def node_name(self, node: int) -> str:
        """What a node of the network is called: by the user, else by its number."""
        number = f"node {node}"
        return next((one.name for one in self.renamed if one.point == number), number)

    @cached_property
    def seen_flows(self) -> FlowRecords:
        """What the captures show, as flow records of their points."""
        return flows_of_packets(self.capture)

    @cached_property
    def same(self) -> Int64s:
        """For each conversation the one it is at other points (`path.journeys`)."""
        return journeys(self.path.segments, self.capture.conversations.point.size)

    @cached_property
    def at_nodes(self) -> AtNodes | None:
        """The network's charges by node, where nodes told of connections' packets."""
        return at_nodes(self.capture, self.account, self.telemetry)

    @cached_property
    def on_air(self) -> OnAir | None:
        """What of the network's charges was on the air, where connections came by it."""
        return on_air(self.account, self.radio.held)

    @property
    def flow_tellers(self) -> list[Exporter]:
        """Whoever tells flow records here, in the order of their numbers: exporters of captures and files, points,
        exporters of a history.
        """
        points = [Exporter(point, 0, PACKETS) for point in self.capture.points]
        return [*self.flows.exporters, *points, *(self.history.exporters if self.history is not None else [])]

    @property
    def exporters(self) -> list[Exporter]:
        """Who exported flow records: in captures, files, and a history."""
        return [*self.flows.exporters, *(self.history.exporters if self.history is not None else [])]

    @property
    def places(self) -> Places:
        """What hosts and applications are called."""
        return Places(self.capture.names, self.rules, self.lookups.resolved, self.sites)

    @cached_property
    def datagrams(self) -> Datagrams:
        """Conversations that are not TCP."""
        return datagrams(self.capture)

    @cached_property
    def quotes(self) -> dict[int, Counter[int]]:
        """What ICMP errors said of conversations: for each, how often each kind (type << 8 | code)."""
        said: dict[int, Counter[int]] = {}
        for flow, kind in zip(self.capture.quotes["flow"].tolist(), self.capture.quotes["kind"].tolist(), strict=True):
            said.setdefault(flow, Counter())[kind] += 1
        said.pop(-1, None)
        return said


class _LookingBehind(Watch):
    """Tells how far the links between servers are."""

    def __init__(self, progress: Progress) -> None:
        self._progress, self._work, self._done = progress, 1, 0

    def begin(self, work: int) -> None:
        self._work = max(1, work)
        ready_for(work, self._progress)

    def went(self, work: int) -> None:
        self._done += work
        if not self._progress(0.95 + 0.05 * min(1.0, self._done / self._work), "looking behind the servers"):
            raise Cancelled


def _kinds(paths: Sequence[Path | str]) -> tuple[list[Path], list[Path], list[Path]]:
    """Captures, tables of counters, histories."""
    every = [Path(path) for path in paths]
    histories, tables = (
        [path for path in every if is_history(path)],
        [path for path in every if path.suffix.lower() in COUNTER_SUFFIXES and path.is_file()],
    )
    return [path for path in every if path not in histories and path not in tables], tables, histories


def _take_table(path: Path, flows: FlowRecords) -> Source:
    """Readings of counters, and the table as a source."""
    from yaffle.records.counter_file import read_counters

    counters = read_counters(path)
    flows.counters.add(counters)
    times = counters.rows["time_ns"]
    first, last = (int(times.min()), int(times.max())) if times.size else (0, 0)
    source = Source(path.name, str(path.resolve()), COUNTERS, path.stat().st_size, "", first_ns=first, last_ns=last)
    return source.noting(f"{times.size:,} readings of {len(counters.devices):,} devices")


def _take_history(folders: Sequence[Path]) -> "tuple[History | None, list[Source]]":
    """A history, and its folder as a source."""
    if not folders:
        return None, []
    if len(folders) > 1:
        raise YaffleError(f"{folders[1]}: only one history can be open at a time")
    from yaffle.history.store import History

    history = History(folders[0])
    source = Source(
        folders[0].name, str(folders[0].resolve()), HISTORY, 0, "", first_ns=history.first_ns, last_ns=history.last_ns
    )
    notes = ["a history of flow records and counters: read as it is asked for, and while others write it"]
    if history.address:
        notes.append(f"kept in {history.address}: what is asked for is fetched to this machine, and stays here")
    return history, [source.noting(*notes)]


@dataclass(frozen=True)
class Former:
    """What a former reading of captures that grow found of each connection by its own packets."""

    arranged: Arrangement
    direction: Int8s  # of the first packet of each connection: which end was taken for the client
    messages: Messages
    account: OwnAccount
    anew: int  # connections that were accounted for in that reading


def _changed_connections(former: Former, capture: Capture, arranged: Arrangement) -> Bools | None:
    """Which connections have packets, or turned round, since the former reading; None where they have other numbers."""
    was = former.arranged.flow.size
    if not was or was > arranged.flow.size:
        return None
    (first, last, count), (was_first, was_last, was_count) = _ends(arranged), _ends(former.arranged)
    if not np.array_equal(first[:was], was_first):
        return None
    changed = np.ones(arranged.flow.size, bool)
    changed[:was] = (count[:was] != was_count) | (last[:was] != was_last)
    changed[:was] |= capture.packets.direction[was_first] != former.direction
    return changed


def _ends(arranged: Arrangement) -> tuple[Int32s, Int32s, Int64s]:
    """First and last packet of each connection, and how many it has."""
    starts, order = arranged.starts, arranged.order
    return order[starts[:-1]], order[starts[1:] - 1], np.diff(starts)


def analyse(
    paths: Sequence[Path | str],
    progress: Progress = go_on,
    plan: Plan | None = None,
    workforce: Workforce | None = None,
) -> Analysis:
    """Reads the files and accounts for every wait, within the memory of the plan. Raises YaffleError or Cancelled."""
    if not paths:
        raise YaffleError("no file was given")
    captures, tables, histories = _kinds(paths)
    room = (plan or Plan()).room
    workforce = workforce or Workforce()
    return analyse_capture(
        workforce.read(captures, lambda share, words: progress(0.5 * share, words), room),
        tables,
        histories,
        progress,
        room=room,
        workforce=workforce,
    )[0]


def analyse_capture(
    capture: Capture,
    tables: Sequence[Path] = (),
    histories: Sequence[Path] = (),
    progress: Progress = go_on,
    former: Former | None = None,
    keep: bool = False,
    provisional: bool = False,
    room: Room | None = None,
    workforce: Workforce | None = None,
) -> tuple[Analysis, Former | None]:
    """Accounts for every wait of a capture; what a former reading of it found is taken over where nothing came since.

    What it found itself is given for the next one where `keep`. `provisional`: without what all connections together
    tell, which costs more the more there are. room: where large columns are put; where that is not in memory, packets
    are laid part by part. workforce: who does most of it. Raises YaffleError or Cancelled.
    """
    room = room or Room()
    was = former.arranged if former is not None else None
    capture, arranged, payload, passed = _put_in_order(capture, room, progress, was)
    if keep and capture.revised:
        former, keep = None, False  # What the next packets will say of clocks and copies would change all rows.
    step(progress, 0.5, "decoding requests")
    known = None
    if former is not None and (changed := _changed_connections(former, capture, arranged)) is not None:
        known = KnownAccount(changed, former.messages, former.account)
    both = _Both(progress)
    with ThreadPoolExecutor(1) as beside:  # Connections are told by Python first, which leaves a core free.
        others = beside.submit(_beside_connections, capture, payload, both.beside)
        with both:
            messages, own = (workforce or Workforce()).account(capture, arranged, payload, both.first, room, known)
        held = others.result()
    capture = capture.with_columns(kind=own.kind)
    anew = arranged.flow.size if known is None else int(known.changed.sum())
    counted = [_take_table(path, held.flows) for path in tables]
    history, kept = _take_history(histories)
    capture = replace(capture, sources=[*held.sources, *counted, *kept])
    found = None
    if keep:
        direction = capture.packets.direction[arranged.order[arranged.starts[:-1]]]
        found = Former(arranged, direction, messages, own.kept(), anew)
    again = None
    with ThreadPoolExecutor(1) as beside:
        asked = beside.submit(find_lookups, capture, payload, arranged.starts, arranged.order, arranged.flow, messages)
        if not provisional:
            again = account_by_paths(capture, own, messages, lambda _share, words: progress(0.95, words))
        lookups = asked.result()
    account = put_together(capture, own, again, messages, lookups, room)
    if again is not None:
        capture = capture.with_columns(kind=again.kind)
    capture = noted(capture, account)
    speaker = speaking_views(
        account, capture.conversations, journeys(passed.segments, capture.conversations.point.size)
    )
    step(progress, 0.95, "looking behind the servers")
    behind = nothing_behind()
    if not provisional:
        behind = find_behind(account, capture.conversations, speaker, messages, payload, _LookingBehind(progress))
    notes = [[server.words for server in behind.unseen] for _ in capture.sources]
    if provisional:
        notes[-1].append(_STILL_GREW)
    analysis = Analysis(
        capture.noting(notes),
        account,
        speaker,
        messages,
        lookups,
        held.media,
        held.flows,
        history=history,
        path=passed,
        calls=held.calls,
        programs=held.programs,
        behind=behind,
        telemetry=held.telemetry,
        radio=held.radio,
        cyclic=held.cyclic,
        provisional=provisional,
    )
    return analysis, found


def _put_in_order(
    capture: Capture, room: Room, progress: Progress, former: Arrangement | None
) -> tuple[Capture, Arrangement, Payload, PointsPath]:
    """Packets by connections, with clocks set right; their bytes, and what several points saw. former: of the
    same capture when it was shorter. Raises Cancelled.
    """
    step(progress, 0.5, "putting connections together")
    capture = without_clock_steps(capture, room)
    if room.spilled:
        capture = laid_by_part(capture, room, lambda _share, words: progress(0.5, words))
    capture, arranged = arrange(capture, room, former if not capture.revised else None)
    payload = Payload(capture)
    passed = find_path(capture, payload, lambda _share, words: progress(0.5, words))
    capture, passed = with_clocks_right(capture.noting(payload.notes), passed, room)
    return capture, arranged, payload.with_packets(capture.packets), passed


class _Both:
    """The progress of two works at once, used in a `with` block around the first: what that tells is shown while it
    lasts, then what the other one tells, which is to end where the first one failed.
    """

    _DONE = 0.9

    def __init__(self, progress: Progress) -> None:
        self._progress, self._failed = progress, False
        self._told: tuple[float, str] | None = 0.5, "decoding requests"

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        self._failed, self._told = kind is not None, None

    def first(self, share: float, words: str) -> bool:
        """How far the first one is."""
        told = self._told = 0.5 + (self._DONE - 0.5) * share, words
        return self._progress(*told)

    def beside(self, _share: float, words: str) -> bool:
        """How far the other one is."""
        return not self._failed and self._progress(*(self._told or (self._DONE, words)))


class _BesideConnections(NamedTuple):
    """What packets hold that no connection carries."""

    calls: list[Call]
    media: list[Media]
    programs: list[Program]
    flows: FlowRecords
    sources: list[Source]
    telemetry: Telemetry
    radio: Radio
    cyclic: list[Cyclic]


def _beside_connections(capture: Capture, payload: Payload, progress: Progress) -> _BesideConnections:
    """Looks for all that is no connection. Raises Cancelled."""
    begun = beginnings(capture, payload)
    calls = find_calls(capture, payload, begun, progress)
    media = find_media(capture, payload, begun, calls, progress)
    step(progress, 0.5, "looking for programs")
    programs = find_programs(capture, payload, begun)
    flows, sources = find_exports(capture, payload, progress)
    telemetry = find_telemetry(capture, payload, progress)
    on_air = frames_of(capture, payload)
    radio = find_radio(capture, payload, on_air, progress)
    times, apart = heard_times(on_air, capture.packets), heard_ends(media, programs)
    cyclic = find_cyclic(capture, payload, times, apart, progress)
    return _BesideConnections(calls, media, programs, flows, sources, telemetry, radio, cyclic)


def heard_ends(media: list[Media], programs: list[Program]) -> set[tuple[str, str]]:
    """Between whom there is voice and video, which have a period and are looked at as such."""
    return {(one.source, one.destination) for one in media} | {(one.source, one.destination) for one in programs}
