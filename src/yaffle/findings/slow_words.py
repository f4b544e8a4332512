"""What is said of slow exchanges with one cause: a sentence, what is ruled out, the next step, by who is to blame."""

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from yaffle.analysis import Analysis
from yaffle.findings.culprits import culprits
from yaffle.findings.culprits import in_words as in_words_of
from yaffle.findings.inside import inside_grounds, inside_words
from yaffle.findings.location import WaitedAt, where_lost, where_waited
from yaffle.findings.slow_group import SlowGroup
from yaffle.ledger import causes
from yaffle.units import duration

_MEASURED = 0.8  # So much of the network's part between two points makes it no inference.
_MOST_HOSTS = 3  # So many are named.


@dataclass
class Said:
    """A sentence with its next step, and what it rests on beside the group's own figures."""

    sentence: str
    step: str
    grounds: dict[str, Any] = field(default_factory=dict)
    measured: bool = False  # most of it was measured between two points


def said_of(group: SlowGroup) -> Said:
    """What there is to say of a group."""
    if group.cause == "name":
        return _names(group)
    return _BY_PARTY.get(group.party, _unexplained)(group)


def _names(group: SlowGroup) -> Said:
    """Names that had to be looked up first."""
    charged = group.analysis.account.exchange_charges
    own, trips = (charged[group.rows, column] for column in (causes.SERVER_NAME, causes.NAME))
    spent, middle = own + trips, group.middle
    first_ns, last_ns = group.span_ns
    servers = _name_servers(group.analysis, group.clients, first_ns - int(spent.max()), last_ns)
    asked = " and ".join(group.places.short(server) for server in servers[:2]) or "the name server"
    of = f"{duration(int(spent[middle]))} of {duration(int(group.wait_ns[middle]))} at the median"
    split = f" ({duration(int(own[middle]))} server, {duration(int(trips[middle]))} network)"
    return Said(
        f"{group.site} is delayed by DNS lookups before connecting to {group.app}: the lookup at {asked} takes"
        f" {of}{split}; {group.many}.",
        f"Look at how {asked} answers (services, in Survey): which servers it depends on, and whether queries were"
        " retransmitted.",
        {"name_servers": servers, "cause_ms": int(spent.sum()) / 1e6, "ruled_out": ""},
    )


def _server(group: SlowGroup) -> Said:
    step = (
        f"Ask the owners of {group.app} what it was doing from {group.period}: locks, slow queries, or servers"
        " behind it."
    )
    if group.cause == "window":
        step = f"Look at how {group.app} reads its requests: it advertised a zero window."
    return Said(
        f"{group.site} waits for {group.where}: {causes.WORDS[group.cause]} takes {group.of}; {group.many}.",
        step,
        {"ruled_out": f"Network ruled out: {group.steady}."},
    )


def _client(group: SlowGroup) -> Said:
    one = len(group.clients) == 1
    behind = ("reads" if one else "read") + " received data too slowly"
    if group.cause != "window":
        behind = "pauses" if one else "pause"
    if group.cause == "encryption":
        behind = "takes" if one else "take"
    hosts = ", ".join(group.places.short(client) for client in group.clients[:_MOST_HOSTS])
    hosts += " and others" if len(group.clients) > _MOST_HOSTS else ""
    return Said(
        f"{group.site} is limited by its own hosts: {hosts} {behind}; client time is {group.of} with {group.where};"
        f" {group.many}.",
        f"Look at the application on {hosts}: what keeps it from"
        f" {'reading' if group.cause == 'window' else 'sending'} (processor, disk, its own pauses).",
        {"ruled_out": f"Network and server ruled out: {group.steady}, and the server was ready to send."},
    )


def _network(group: SlowGroup) -> Said:
    said = _BY_NETWORK_CAUSE.get(group.cause, _setup)(group)
    cause_ns = int(group.own_ns.sum())
    if group.cause == "loss":
        cause_ns = int(group.analysis.account.exchange_charges[group.rows, causes.LOSS].sum())
    said.grounds["cause_ms"] = cause_ns / 1e6
    if waited := where_waited(group.analysis, group.rows):
        said.grounds["waited"] = [{"from": one.start, "to": one.end, "ms": one.ns / 1e6} for one in waited if one.told]
        told, said.step, said.measured = _waited_between(waited, group.cause, said.step)
        said.sentence += told
    said.sentence += inside_words(group.analysis, group.rows)
    said.grounds |= inside_grounds(group.analysis, group.rows)
    of_servers = duration(int(group.of_party(causes.SERVER)[group.middle]))
    said.grounds["ruled_out"] = f"The servers took {of_servers} at the median exchange."
    return said


def _loss(group: SlowGroup) -> Said:
    timers = f", {group.expired:,} timeout{'s' if group.expired > 1 else ''}" if group.expired else ""
    said = Said(
        f"The path of {group.site} loses packets: {group.repeated} retransmitted ({group.again:,} of"
        f" {group.sent:,}{timers}); network time is {group.of}; {group.many}.",
        f"Look at the links between {group.site} and {group.app} for errors and full queues; a capture at the far end"
        " would tell which segment loses.",
    )
    if segments := where_lost(group.analysis, group.members.tolist()):
        said.grounds["segments"] = [
            {"from": start, "to": end, "lost": count, "packets": of_all} for start, end, count, of_all in segments
        ]
        told, said.step = _between(segments, said.step)
        said.sentence += told
    return said


def _queueing(group: SlowGroup) -> Said:
    others, themselves = culprits(group.analysis, group.rows)
    names = {address: group.places.short(address) for one in others for address in (one.source, one.target)}
    return Said(
        f"The path of {group.site} is congested: queuing and bottleneck bandwidth account for {group.of};"
        f" {group.many}." + in_words_of(others, themselves, names),
        f"Find what fills the link of {group.site} in this period, and its rate; a second capture beyond it would"
        " name the segment.",
        {
            "culprits": [
                {"source": one.source, "destination": one.target, "bytes": one.octets, "share": one.share}
                for one in others
            ],
            "own_share": themselves,
        },
    )


def _round_trips(group: SlowGroup) -> Said:
    return Said(
        f"The path of {group.site} has a high RTT for this many round trips: {group.floor} each; network time is"
        f" {group.of}; {group.many}.",
        f"Fewer, larger exchanges or a nearer server would help; {group.app} sends requests one after another.",
    )


def _setup(group: SlowGroup) -> Said:
    return Said(
        f"{group.site} waits for connection setup: network time is {group.of}; {group.many}.",
        "Keep connections open between exchanges, or look for what delays the handshake.",
    )


def _unexplained(group: SlowGroup) -> Said:
    return Said(
        f"{group.site} waits for {group.where}, and this capture cannot tell why; {group.many}.",
        f"A capture near {group.app} from {group.period} would settle it.",
        {"ruled_out": ""},
    )


_BY_PARTY: dict[str, Callable[[SlowGroup], Said]] = {
    causes.SERVER: _server,
    causes.CLIENT: _client,
    causes.NETWORK: _network,
}
_BY_NETWORK_CAUSE: dict[str, Callable[[SlowGroup], Said]] = {
    "loss": _loss,
    "queueing": _queueing,
    "round-trip": _round_trips,
}


def _between(segments: list[tuple[str, str, int, int]], step: str) -> tuple[str, str]:
    """What the segments say of losses, and the next step with it."""
    worst = [one for one in segments if one[2]]
    if not worst:
        start, end = segments[0][:2]
        return (
            f" Nothing was lost between {start} and {end}: the loss is beyond them.",
            f"Look outside of {start} and {end}: a capture further out would tell where.",
        )
    parts = [f"{count:,} of {of_all:,} from {start} to {end}" for start, end, count, of_all in worst[:2]]
    return (
        f" Lost between capture points: {' and '.join(parts)}.",
        (
            f"Look at what lies between {worst[0][0]} and {worst[0][1]}: errors, full queues, radio; both its ends saw"
            " which packets are missing (Path)."
        ),
    )


def _waited_between(waited: list[WaitedAt], cause: str, step: str) -> tuple[str, str, bool]:
    """(what the stretches of the path say of the waiting, the next step with it, whether most was measured between two
    points).
    """
    whole, worst = sum(one.ns for one in waited), waited[0]
    if cause == "name" or not worst.told or worst.ns * 2 < whole:
        return "", step, False
    told = f" {duration(worst.ns)} of {duration(whole)} network time arose {worst.words}."
    if cause == "queueing":
        step = f"Find what loads the link {worst.words} in this period, and its rate."
    elif cause == "round-trip":
        step = f"Look at the RTT {worst.words}; fewer, larger exchanges would cross it less often."
    return told, step, worst.between and worst.ns >= _MEASURED * whole


def _name_servers(analysis: Analysis, clients: list[str], first_ns: int, last_ns: int) -> list[str]:
    """The name servers that some clients asked in a period, the busiest first."""
    own = set(clients)
    asked = Counter(
        k.server
        for k in analysis.lookups.rows
        if k.protocol == "dns" and k.client in own and first_ns <= k.asked_ns <= last_ns
    )
    return [server for server, _ in asked.most_common(8)]
