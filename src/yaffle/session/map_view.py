"""The map of a period: who is there by the evidence, what lies between, and how each link does, in words.

Places are clients by their site, points of capture, devices that exported flow records, and servers by their site.
Links are the segments between points, the stretches from the clients and to the servers beyond them, and the ways of
flow records.
"""

from collections import Counter, defaultdict
from dataclasses import dataclass, field, replace
from itertools import pairwise

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Array, Int64s
from yaffle.capture.addresses import labels_of
from yaffle.capture.registry import marking
from yaffle.findings.flow_labels import FlowLabels, service_port
from yaffle.findings.flow_path import FlowHop, flow_ways
from yaffle.findings.flow_source import HeldFlows, held_flows
from yaffle.inventory.places import Places, spoken
from yaffle.path.segments import Way, marking_changes
from yaffle.quantiles import median
from yaffle.session.map_neighbours import cables
from yaffle.session.route_paths import RouteCourse, RouteHop, route_courses
from yaffle.session.scene import Scene
from yaffle.units import count, duration, many, share

CLIENTS, EDGE, POINT, DEVICE, SERVERS, BY_HAND = "clients", "edge", "point", "device", "servers", "by hand"
SERVICE, TESTS = "service", "tests"
FINE, WORN, HURT, UNMEASURED = "fine", "worn", "hurt", "unmeasured"
WAITED, BELONGS = "waited", "belongs"  # one service waits for another; a service is one of these servers
HURT_SHARE = 0.001  # Of packets lost: from here on a link hurts.
_HURT_ROUTE = 0.01  # The same of tests, which send few.
_MOST_SITES, _MOST_FLOWS = 12, 60
_LEAST_MARKED = 4  # Packets that changed their marking, without which nothing is said.


@dataclass
class Place:
    """One box of the map."""

    key: str
    label: str
    kind: str
    hosts: int = 0  # of a service: requests that may have waited for others
    witnesses: tuple[str, ...] = ()  # capture points and devices that are this place

    @property
    def words(self) -> str:
        """What it is."""
        if self.kind == EDGE:
            return f"{count(len(self.witnesses))} witness{'es' if len(self.witnesses) != 1 else ''}"
        if self.kind in (CLIENTS, SERVERS):
            host = self.kind[:-1] if self.hosts == 1 else self.kind
            return f"{count(self.hosts)} {host}"
        if self.kind == SERVICE:
            return f"{count(self.hosts)} requests" if self.hosts else "service"
        return {POINT: "capture point", DEVICE: "device", TESTS: "tests begin here"}.get(self.kind, "drawn by hand")


@dataclass
class Link:
    """One line of the map."""

    one: str  # keys of places, the one nearer to the clients first
    two: str
    state: str = UNMEASURED
    words: str = ""  # all that is known
    labels: tuple[str, ...] = ()  # the same in short, a direction a line
    packets: int = 0
    captured: bool = False  # whether capture points at both ends measure it: flow records then add words alone

    @property
    def key(self) -> tuple[str, str]:
        """Tells it among all."""
        return self.one, self.two


@dataclass
class MapPicture:
    """Places and links, and the ways of what flows over them: name and the keys of places that it passes."""

    places: list[Place] = field(default_factory=list)
    links: list[Link] = field(default_factory=list)
    flows: list[tuple[str, list[str]]] = field(default_factory=list)


class _Drawing:
    """Collects places and links."""

    def __init__(self) -> None:
        self.places: dict[str, Place] = {}
        self.links: dict[tuple[str, str], Link] = {}
        self.points: dict[int, str] = {}  # the place of each capture point
        self.devices: dict[str, str] = {}  # and of each device

    def place(self, kind: str, label: str) -> str:
        key = f"{kind}: {label}"
        self.places.setdefault(key, Place(key, label, kind))
        return key

    def witness(self, kind: str, own: str, label: str, site: str) -> str:
        """The place of a capture point or device: that of its site, where it has one, else its own."""
        if not site:
            key = f"{kind}: {own}"
            self.places.setdefault(key, Place(key, label, kind))
            return key
        key = self.place(EDGE, site)
        if own not in self.places[key].witnesses:
            self.places[key].witnesses += (own,)
        return key

    def link(self, one: str, two: str) -> Link:
        return self.links.setdefault((one, two), Link(one, two))


def map_picture(scene: Scene) -> MapPicture:
    """The map in the period of the focus; the rest of the focus does not narrow it."""
    analysis = scene.evidence.analysis
    drawing = _Drawing()
    flows = _captured(scene, analysis, drawing)
    flows += _exported(scene, analysis, drawing)
    _plugged(scene, analysis, drawing)
    _routed(scene, analysis, drawing)
    return MapPicture(list(drawing.places.values()), list(drawing.links.values()), flows[:_MOST_FLOWS])


def _few(names: Array, weights: Int64s) -> dict[str, str]:
    """Each name as the map has it: those with most, and one for all the rest."""
    sizes: Counter[str] = Counter()
    for name, weight in zip(names.tolist(), weights.tolist(), strict=True):
        sizes[name] += weight
    kept = [name for name, _ in sizes.most_common(_MOST_SITES)]
    rest = f"{len(sizes) - len(kept)} more sites"
    return {name: name if name in kept else rest for name in sizes}


def _captured(scene: Scene, analysis: Analysis, drawing: _Drawing) -> list[tuple[str, list[str]]]:
    """What the captures tell; gives the ways of their traffic, the largest first."""
    flows = analysis.capture.conversations
    rows = np.flatnonzero((flows.first_ns <= scene.last_ns) & (flows.last_ns >= scene.first_ns))
    if not rows.size:
        return []
    told = [
        k
        for k, address in enumerate(labels_of(flows.a_hi[rows], flows.a_lo[rows], flows.ipv6[rows]).texts)
        if address in {e.address for e in analysis.exporters}
    ]
    rows = rows[
        ~np.isin(labels_of(flows.a_hi[rows], flows.a_lo[rows], flows.ipv6[rows]).codes, told)
    ]  # What devices export is not theirs to carry.
    order = _chains(analysis)
    client, server = (
        labels_of(getattr(flows, f"{end}_hi")[rows], getattr(flows, f"{end}_lo")[rows], flows.ipv6[rows])
        for end in ("a", "b")
    )
    named_sites = [ends.named(analysis.places.site) for ends in (client, server)]
    sites = [np.array(labels.texts, object)[labels.codes] for labels in named_sites]
    places = analysis.places
    known: dict[tuple[int, int], str] = {}
    weights = flows.packets[rows]
    weights = weights.sum(axis=1) if weights.ndim > 1 else weights
    few = [_few(names, weights) for names in sites]
    hosts: list[defaultdict[str, set[int]]] = [defaultdict(set), defaultdict(set)]
    ways: Counter[tuple[str, str, tuple[int, ...]]] = Counter()
    applications: dict[tuple[str, str, tuple[int, ...]], Counter[str]] = defaultdict(Counter)
    first_of = analysis.same[rows]
    ports = flows.b_port[rows]
    for k, (row, weight) in enumerate(zip(rows.tolist(), weights.tolist(), strict=True)):
        one, two = few[0][sites[0][k]], few[1][sites[1][k]]
        hosts[0][one].add(int(client.codes[k]))
        hosts[1][two].add(int(server.codes[k]))
        chain = order.get(int(first_of[k]), (int(flows.point[row]),))
        if chain[0] != int(flows.point[row]):
            continue  # Seen nearer to its client, too.
        ways[one, two, chain] += weight
        service = (int(server.codes[k]), int(ports[k]))
        if service not in known:
            known[service] = places.application(server.texts[service[0]], service[1])
        applications[one, two, chain][known[service]] += weight
    named: list[tuple[str, list[str]]] = []
    joined = _joined(ways, applications)
    _stand_points(analysis, drawing, [chain for (_, _, chain), _ in joined])
    for (one, two, chain), weight in joined:
        stations = [drawing.place(CLIENTS, one), *(drawing.points[p] for p in chain), drawing.place(SERVERS, two)]
        for near, far in pairwise(stations):
            drawing.link(near, far).packets += weight
        named += [
            (f"{one} → {application}", stations) for application, _ in applications[one, two, chain].most_common(6)
        ]
    for k, kind in enumerate((CLIENTS, SERVERS)):
        for name, own in hosts[k].items():
            key = f"{kind}: {name}"
            if key in drawing.places:
                drawing.places[key].hosts = len(own)
    _measured(scene, analysis, drawing)
    return list({name: (name, stations) for name, stations in reversed(named)}.values())[::-1]


def _site_in(name: str, sites: set[str]) -> str:
    """The site that a name speaks of; empty where it speaks of none."""
    return max((site for site in sites if site.lower() in name.lower()), key=len, default="")


def _stand_points(analysis: Analysis, drawing: _Drawing, chains: list[tuple[int, ...]]) -> None:
    """Gives each capture point its place: its site's, unless one way passes two points of that site."""
    names, sites = analysis.point_names, {analysis.places.site(address) for address in analysis.capture.names}
    site_of = [_site_in(name, sites) for name in names]
    alone = {s for chain in chains for s, times in Counter(site_of[p] for p in chain).items() if times > 1}
    for p in dict.fromkeys(p for chain in chains for p in chain):
        site = site_of[p] if site_of[p] not in alone else ""
        drawing.points[p] = drawing.witness(POINT, analysis.capture.points[p], names[p], site)


def _joined(
    ways: Counter[tuple[str, str, tuple[int, ...]]], applications: dict[tuple[str, str, tuple[int, ...]], Counter[str]]
) -> list[tuple[tuple[str, str, tuple[int, ...]], int]]:
    """Ways, the largest first; what was seen at some of the points of a larger way between the same sites went that
    way, and got lost on it.
    """
    kept: list[tuple[tuple[str, str, tuple[int, ...]], int]] = []
    for way, weight in ways.most_common():
        larger = next(
            (k for k, ((one, two, chain), _) in enumerate(kept) if (one, two) == way[:2] and set(way[2]) < set(chain)),
            -1,
        )
        if larger < 0:
            kept.append((way, weight))
        else:
            whole, own = kept[larger]
            applications[whole].update(applications[way])
            kept[larger] = whole, own + weight
    return kept


def _chains(analysis: Analysis) -> dict[int, tuple[int, ...]]:
    """For each conversation seen at several points (by its first): the points from client to server."""
    after: dict[int, dict[int, int]] = defaultdict(dict)
    for segment in analysis.path.segments:
        for first in np.unique(analysis.same[segment.flows[:, 0]]).tolist() if segment.flows.size else []:
            after[first][segment.near] = segment.far
    found = {}
    for first, steps in after.items():
        starts = [p for p in steps if p not in steps.values()]
        chain = [starts[0] if starts else next(iter(steps))]
        while chain[-1] in steps and steps[chain[-1]] not in chain:
            chain.append(steps[chain[-1]])
        found[first] = tuple(chain)
    return found


def _measured(scene: Scene, analysis: Analysis, drawing: _Drawing) -> None:
    """How segments did in the period, and how far clients and servers are from the outermost points."""
    for segment in analysis.path.segments:
        key = drawing.points.get(segment.near, ""), drawing.points.get(segment.far, "")
        if key in drawing.links:
            _judge(drawing.links[key], [_told(analysis, way, scene) for way in (segment.up, segment.down)])
    account, flows = analysis.account, analysis.capture.conversations
    alive = (account.fact("last_ns") >= scene.first_ns) & (account.fact("first_ns") <= scene.last_ns)
    evidence = scene.evidence
    server_site = evidence.server.named(analysis.places.site)
    for side, sites in (("client", evidence.site), ("server", server_site)):
        trips = account.fact(f"to_{side}_min_ns")
        own = np.flatnonzero(alive & (trips >= 0))
        for link in drawing.links.values():
            kind, outer = (CLIENTS, link.one) if side == "client" else (SERVERS, link.two)
            inner = link.two if side == "client" else link.one
            points = [p for p, place in drawing.points.items() if place == inner]
            if not outer.startswith(f"{kind}: ") or not points:
                continue
            code = next((k for k, text in enumerate(sites.texts) if text == outer.partition(": ")[2]), -1)
            mine = own[(sites.codes[own] == code) & np.isin(flows.point[account.flow[own]], points)]
            if mine.size:
                rtt = f"{duration(int(median(trips[mine])))} RTT"
                link.state, link.words, link.labels = FINE, f"{rtt}; {count(mine.size)} connections", (rtt,)


@dataclass(frozen=True)
class _Way:
    packets: int
    lost: int
    median_ns: float
    markings: list[str]

    @property
    def _delay(self) -> str:
        return "no packet received" if np.isnan(self.median_ns) else duration(self.median_ns)

    @property
    def short(self) -> str:
        """Delay and share lost, or a changed DSCP."""
        if self.lost:
            return f"{self._delay}, {share(self.lost / self.packets)} lost"
        return f"{self._delay}, {self.markings[0]}" if self.markings else self._delay

    @property
    def words(self) -> str:
        """All of it."""
        lost = (
            f"lost {count(self.lost)} of {count(self.packets)} ({share(self.lost / self.packets)})"
            if self.lost
            else f"none of {count(self.packets)} lost"
        )
        return "; ".join([f"{self._delay}, {lost}", *self.markings])


def _told(analysis: Analysis, way: Way, scene: Scene) -> _Way:
    times = analysis.capture.packets.time_ns[way.sent]
    own, came = (times >= scene.first_ns) & (times <= scene.last_ns), way.arrived >= 0
    delays = way.delay_ns[own[came]]
    part = replace(way, sent=way.sent[own], arrived=way.arrived[own], delay_ns=delays)
    changed = [
        f"{marking(old)} becomes {marking(new)}"
        for old, new, packets in marking_changes(analysis.capture, part)
        if packets >= _LEAST_MARKED
    ]
    return _Way(int(own.sum()), int((own & ~came).sum()), median(delays), changed[:2])


def _judge(link: Link, ways: list[_Way]) -> None:
    """A segment's state by what it lost, and its words; several segments of the same points add up."""
    packets, lost = sum(w.packets for w in ways), sum(w.lost for w in ways)
    if not packets:
        return
    if link.words and link.state != UNMEASURED:  # Of clients at the other end.
        return
    changed = [text for w in ways for text in w.markings]
    link.state = HURT if lost >= HURT_SHARE * packets and lost > 1 else WORN if lost or changed else FINE
    link.captured = True
    told = [(arrow, w) for arrow, w in zip("→←", ways, strict=True) if w.packets]
    link.words = "; ".join(f"{arrow} {w.words}" for arrow, w in told)
    link.labels = tuple(f"{arrow} {w.short}" for arrow, w in told)


def _exported(scene: Scene, analysis: Analysis, drawing: _Drawing) -> list[tuple[str, list[str]]]:
    """What flow records tell of devices and the ways between them."""
    held = held_flows(analysis, scene.first_ns, scene.last_ns, packets=False)
    if not held.rows.size:
        return []
    ways = flow_ways(held)
    found = []
    labels = FlowLabels(held, held.rows, analysis.places)
    applications = labels.by("application")
    _stand_devices(analysis, drawing, [[_address(hop) for hop in way.hops] for way in ways[:_MOST_FLOWS]])
    for way in ways[:_MOST_FLOWS]:
        rows = np.array(way.rows, np.int64)
        source, target, forward = _ends(held, rows, analysis.places)
        hops = way.hops if forward else way.hops[::-1]
        stations = [
            drawing.place(CLIENTS, source),
            *(drawing.devices[_address(hop)] for hop in hops),
            drawing.place(SERVERS, target),
        ]
        for near, far in pairwise(stations):
            drawing.link(near, far).packets += int(sum(hop.packets for hop in way.hops) / len(way.hops))
        for before, after in pairwise(way.hops):
            pair = [drawing.devices[_address(hop)] for hop in ((before, after) if forward else (after, before))]
            _judge_hop(drawing.link(pair[0], pair[1]), after, "→" if forward else "←")
        common = Counter(applications[row] for row in way.rows).most_common(1)[0][0]
        found.append((f"{source} → {common} (flow records)", stations))
    if not ways:
        for exporter in np.unique(held.rows["exporter"]).tolist():
            _stand_devices(analysis, drawing, [[held.exporters[exporter].address]])
    return found


def _plugged(scene: Scene, analysis: Analysis, drawing: _Drawing) -> None:
    """What devices say is plugged into them. Where a link is there already, the words are added."""
    for one, two, ports in cables(analysis.history, scene.first_ns, scene.last_ns)[:_MOST_FLOWS]:
        for device in (one, two):
            if device not in drawing.devices:
                _stand_devices(analysis, drawing, [[device]])
        near, far = drawing.devices[one], drawing.devices[two]
        if near == far:
            continue
        link = drawing.links.get((far, near)) or drawing.link(near, far)
        link.words = "; ".join(part for part in (link.words, f"LLDP: {ports}") if part)


def _routed(scene: Scene, analysis: Analysis, drawing: _Drawing) -> None:
    """What tests of routes tell: who lies between, what each hop adds, and what is lost on the path.

    A route's target is the clients of its site, where there are any, else a server; links stand as seen from them.
    """
    courses = route_courses(analysis.history, analysis.places, scene.first_ns, scene.last_ns) or []
    targets: dict[str, set[str]] = {}
    for course in courses[:_MOST_SITES]:
        own = {(hop.ttl, hop.address): hop for hop in course.hops}
        passed = [own[key] for key in enumerate(course.last_path, 1) if key in own and key[1]]
        if not passed:
            continue
        between = [hop.address for hop in passed if hop.address != course.target]
        _stand_devices(analysis, drawing, [[one for one in between if one not in drawing.devices]])
        places = [drawing.place(TESTS, course.source or "collector"), *(drawing.devices[one] for one in between)]
        if passed[-1].address == course.target:
            site = analysis.places.site(course.target)
            clients = f"{CLIENTS}: {site}"
            known = clients in drawing.places
            places.append(clients if known else drawing.place(SERVERS, site))
            if not known:
                targets.setdefault(site, set()).add(course.target)
                drawing.places[places[-1]].hosts = max(drawing.places[places[-1]].hosts, len(targets[site]))
        backwards = places[-1].startswith(f"{CLIENTS}: ")
        before = 0.0
        for (near, far), hop in zip(pairwise(places), passed, strict=False):
            own_share = hop.lost_share if hop.sent else before
            lost, before = max(0.0, own_share - before), max(before, own_share)
            if near != far:
                _judge_route(drawing.link(*((far, near) if backwards else (near, far))), course, hop, lost)


def _judge_route(link: Link, course: RouteCourse, hop: RouteHop, lost: float) -> None:
    """Says what a hop adds; where nothing else measures the link, that is its state. lost: share of its packets."""
    added = f"{duration(round(max(0.0, hop.added_ms) * 1e6))}" if np.isfinite(hop.added_ms) else "not measured"
    times = sum(change.ttl == hop.ttl for change in course.changes)
    changed = f", {many(times, 'path change')}" if times else ""
    words = f"route {course.name}: added RTT {added}, loss {share(lost)}{changed}"
    link.words = "; ".join(part for part in (link.words, words) if part)
    if link.state == UNMEASURED:
        link.state = HURT if lost >= _HURT_ROUTE else WORN if times else FINE
        link.labels = link.labels or (f"+{added}",)


def _address(hop: FlowHop) -> str:
    return hop.exporter.partition(",")[0]


def _stand_devices(analysis: Analysis, drawing: _Drawing, ways: list[list[str]]) -> None:
    """Gives each device its place: its site's, unless one way passes two devices of that site or it has no name."""
    places = analysis.places
    sites = {places.site(address) for address in analysis.capture.names}
    site_of = {a: _site_in(spoken(places.short(a)), sites) for way in ways for a in way}
    alone = {s for way in ways for s, times in Counter(site_of[a] for a in way).items() if times > 1}
    for address, site in site_of.items():
        name = places.short(address)
        drawing.devices[address] = drawing.witness(DEVICE, name, name, site if site not in alone else "")


def _ends(held: HeldFlows, rows: Int64s, places: Places) -> tuple[str, str, bool]:
    """(site of the clients, site of the servers, whether these flows go from clients to servers) of most of some
    records.
    """
    own = held.rows[rows]
    source, target = (
        labels_of(own[f"{side}_hi"], own[f"{side}_lo"], own["ipv6"]).named(places.site) for side in ("src", "dst")
    )
    forward = bool((own["dst_port"] == service_port(own)).mean() >= 0.5)
    names = [
        Counter(labels.texts[code] for code in labels.codes.tolist()).most_common(1)[0][0]
        for labels in (source, target)
    ]
    return (names[0], names[1], True) if forward else (names[1], names[0], False)


def _judge_hop(link: Link, hop: FlowHop, arrow: str) -> None:
    if np.isnan(hop.lost) or not hop.compared:
        return
    lost = max(0.0, hop.lost) if hop.lost > hop.uncertainty else 0.0
    state = HURT if lost >= HURT_SHARE * hop.compared and lost > 1 else WORN if lost else FINE
    if hop.remarked and state == FINE:
        state = WORN
    words = f"{arrow} flow records: {hop.words if hop.words != 'as before' else 'counts do not fall'}"
    if words not in link.words:
        link.words = f"{link.words}; {words}" if link.words else words
    if link.captured:
        return
    if not any(label.startswith(arrow) for label in link.labels):
        told = f"{share(lost / hop.compared)} fewer" if lost else "re-marked" if hop.remarked else "no loss"
        link.labels += (f"{arrow} {told}",)
    link.state = next(one for one in (HURT, WORN, FINE) if one in (state, link.state))
