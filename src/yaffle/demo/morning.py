"""A Tuesday morning at Harbourline Ferries, 06:25 to 06:55: boarding desks are slow before the 06:40 sailing.

Northpoint: its tickets in the database are held by a lock (server), and the ticket desk's web server waits for it, too;
the timetable, which asks the same database, does not. Isle of Wren: the microwave link loses packets in
the rain (network). Saltmarsh: the handheld scanners read too slowly (client). For three minutes the terminals' name
server answers late, and their timetable pages with it. Quay House: all is well. Everything else is ordinary traffic.
Saltmarsh's router forgets how announcements are marked. Three points capture: the data centre at Quay House, Saltmarsh,
and Isle of Wren; the routers of these three export flow records to a collector in the data centre.
"""

import json
import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from struct import Struct
from typing import Any, NamedTuple

from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.demo import payloads
from yaffle.demo.flow_meter import EVERY_NS, Door, Meter
from yaffle.demo.network import MS, Hop, Link, Packet, S, Tap, World
from yaffle.demo.packet_bytes import tcp_frame, udp_frame
from yaffle.demo.pool import Call, Pool
from yaffle.demo.tcp_model import Endpoint, Host, Recv, Script, Segment, Send, Sleep, Until, pair

START_NS = int(datetime(2026, 3, 10, 6, 25, tzinfo=UTC).timestamp()) * S
LENGTH_NS = 30 * 60 * S
SNAP = 160  # Enough for the head of a request.
LOCK = (13 * 60 * S, 19 * 60 * S + 10 * S)  # 06:38:00 to 06:44:10
RAIN = (8 * 60 * S, 24 * 60 * S)  # 06:33 to 06:49
DEAF = (25 * 60 * S, 28 * 60 * S)  # 06:50 to 06:53: the terminals' name server waits for another one
DOMAIN = "harbourline.example"
COLLECTOR, EXPORT_PORT = "203.0.113.60", 4739
ROUTERS = {"quay-house": "203.0.113.244", "saltmarsh": "203.0.113.242", "isle-of-wren": "203.0.113.243"}
_WHOLE = 2048  # Export datagrams are kept whole.

POOLS = {"ticket-desk": 6, "timetable": 3}  # web servers that ask the ticket database, and over how many connections

SERVERS = {
    "ticket-database": ("203.0.113.21", 5432),
    "ticket-desk": ("203.0.113.22", 443),
    "timetable": ("203.0.113.30", 80),
    "manifest": ("203.0.113.24", 9100),
    "names": ("203.0.113.53", 53),
    "names-terminals": ("203.0.113.54", 53),
    "announcements": ("203.0.113.40", 5004),
}


class Datagram(NamedTuple):
    """A UDP packet as the taps record it."""

    src: str
    src_port: int
    dst: str
    dst_port: int
    payload: bytes


class Request(NamedTuple):
    """One exchange of a script: what is asked, how long the server thinks, what it answers, what the user does then."""

    request: int
    think_ns: int
    response: int
    pause_ns: int
    asks: bytes = b""  # what the bytes begin with
    tells: bytes = b""
    then: Callable[[], None] | None = None  # what the client does besides once it has the answer
    counts: bool = True  # whether somebody waits for it: a sign-on or a handshake belongs to the connection
    calls: tuple[Call, ...] = ()  # what the server asks of the one behind it meanwhile, one after another


@dataclass
class Site:
    """A place with its lines to and from the data centre."""

    name: str
    label: str
    network: str
    up: list[Hop]
    down: list[Hop]
    hosts: list[Host] = field(default_factory=list)


def client_script(requests: list[Request], log: list[tuple[int, int]], world: World) -> Script:
    """Asks one thing after another, and logs what it waited."""
    for request in requests:
        asked = world.now
        yield Send(request.request, request.asks)
        yield Recv(request.response)
        if request.counts:
            log.append((asked, world.now))
        if request.then is not None:
            request.then()
        yield Sleep(request.pause_ns)


def server_script(requests: list[Request], behind: Pool | None = None) -> Script:
    """Reads a request, thinks, asks what it has to ask, thinks, answers."""
    for request in requests:
        yield Recv(request.request)
        for call in request.calls:
            yield Sleep(request.think_ns // (len(request.calls) + 1))
            assert behind is not None
            yield Until(partial(behind.ask, call))
        yield Sleep(request.think_ns // (len(request.calls) + 1))
        yield Send(request.response, request.tells)
    yield Recv(1 << 40)


_STATEMENTS = (
    "select seat from ticket where sailing = {}", "select * from sailing where berth = {}",
    "select fare from route where id = {}",
    "update ticket set boarded = 1 where id = {}", "select count(*) from ticket where desk = {}",
)  # fmt: skip


_HELD = "update berth set held = 1 where sailing = 640"


def _call(text: str, think_ns: int, octets: int) -> Call:
    asks, tells = payloads.statement(text), payloads.rows(octets) if octets else payloads.done()
    return Call(len(asks), think_ns, octets or len(tells), asks, tells)


def _sign_on(user: str) -> Request:
    asks, tells = payloads.sign_on(user), payloads.signed_on()
    return Request(len(asks), 2 * MS, len(tells), 5 * MS, asks, tells, counts=False)


def _handshake() -> Request:
    """The turn of an encryption set-up; the client's last word of it goes with its first request."""
    return Request(517, 1_500_000, 3_100, 300_000, payloads.hello(True), payloads.hello(False), counts=False)


class Sink:
    """Where datagrams end."""

    def enter(self, packet: Packet) -> None:
        """Takes the packet."""


class Answering:
    """A server of datagrams: answers what reaches it, after its time."""

    def __init__(self, world: World, answer: Packet | None, think_ns: int) -> None:
        self._world, self._answer, self._think_ns = world, answer, think_ns

    def enter(self, packet: Packet) -> None:
        """Takes the question."""
        if self._answer is not None:
            self._world.at(self._world.now + self._think_ns, self._world.forward, self._answer)


class Morning:
    """The world of this morning and everyone in it."""

    def __init__(self, seed: int, scale: float) -> None:
        self.world = World(seed)
        self.random = random.Random(seed + 1)
        self.inner = random.Random(seed + 2)  # what servers ask servers
        self.scale = scale
        world = self.world
        self.centre = Tap(world, "quay-house-data-centre")
        self.saltmarsh = Tap(world, "saltmarsh", offset_ns=-3_200_000)
        self.wren = Tap(world, "isle-of-wren", offset_ns=7_900_000)

        def rain(now: int) -> float:
            return 0.03 if RAIN[0] <= now <= RAIN[1] else 0.0002

        def line(
            delay_ns: int, rate_bps: int, loss: Any = None, jitter_ns: int = 20_000, remark: int | None = None
        ) -> tuple[Link, Link]:
            return Link(world, delay_ns, rate_bps, 256_000, loss, jitter_ns), Link(
                world, delay_ns, rate_bps, 256_000, loss, jitter_ns, remark
            )

        doors = ("servers", "line to Northpoint", "line to Isle of Wren", "line to Saltmarsh", "offices")
        self.meters = {
            name: Meter(world, ROUTERS[name], 1, doors if name == "quay-house" else ("desks", "line"), START_NS)
            for name in ROUTERS
        }

        hall = [Link(world, 60_000, 1_000_000_000), Link(world, 60_000, 1_000_000_000)]
        self.microwave = line(9 * MS, 20_000_000, rain)
        north, salt, quay = line(6 * MS, 100_000_000), line(4 * MS, 100_000_000, remark=0), line(200_000, 1_000_000_000)

        def lan() -> Link:
            return Link(world, 150_000, 1_000_000_000)

        def site(name: str, label: str, network: str, lines: tuple[Link, Link], tap: list[Hop]) -> Site:
            core, own, face = (
                self.meters["quay-house"],
                self.meters.get(label),
                2 + ("northpoint", "isle-of-wren", "saltmarsh", "quay-house").index(label),
            )
            there: list[Hop] = [Door(world, own, 1, 2)] if own is not None and own is not core else []
            back: list[Hop] = [Door(world, own, 2, 1)] if own is not None and own is not core else []
            up = [lan(), *tap, *there, lines[0], Door(world, core, face, 1), self.centre, hall[0]]
            return Site(
                name,
                label,
                network,
                up,
                [hall[1], self.centre, Door(world, core, 1, face), lines[1], *back, *tap, lan()],
            )

        self.sites = {
            "northpoint": site("Northpoint", "northpoint", "198.51.100.", north, []),
            "isle-of-wren": site("Isle of Wren", "isle-of-wren", "198.51.100.", self.microwave, [self.wren]),
            "saltmarsh": site("Saltmarsh", "saltmarsh", "198.51.100.", salt, [self.saltmarsh]),
            "quay-house": site("Quay House", "quay-house", "192.0.2.", quay, []),
        }
        self.names = {address: f"{name}.quay-house.{DOMAIN}" for name, (address, _port) in SERVERS.items()}
        self.names |= {address: f"{name}-router.network.{DOMAIN}" for name, address in ROUTERS.items()} | {
            COLLECTOR: f"collector.quay-house.{DOMAIN}"
        }
        self.servers = {name: Host(world, address) for name, (address, _port) in SERVERS.items()}
        self.waits: list[dict[str, Any]] = []
        self.behind = {name: self._pool(name, number) for name, number in POOLS.items()}
        self._people()

    def _pool(self, name: str, number: int) -> Pool:
        """Connections of a web server to the ticket database, through the data centre."""
        world = self.world
        up: list[Hop] = [Link(world, 40_000, 10_000_000_000), self.centre, Link(world, 40_000, 10_000_000_000)]
        down: list[Hop] = [Link(world, 40_000, 10_000_000_000), self.centre, Link(world, 40_000, 10_000_000_000)]
        asks, tells = payloads.sign_on(name), payloads.signed_on()
        hosts = (self.servers[name], self.servers["ticket-database"])
        opening = Call(len(asks), 2 * MS, len(tells), asks, tells)
        return Pool(world, hosts, SERVERS["ticket-database"][1], (up, down), number, opening)

    def _people(self) -> None:
        plans = (
            ("northpoint", 10, 9, "desk"),
            ("isle-of-wren", 70, 6, "desk"),
            ("saltmarsh", 130, 4, "scanner"),
            ("quay-house", 10, 16, "office"),
        )
        for key, first, number, kind in plans:
            site = self.sites[key]
            for i in range(number):
                address = f"{site.network}{first + i}"
                site.hosts.append(Host(self.world, address))
                self.names[address] = f"{kind}-{i + 1}.{key}.{DOMAIN}"
        self.sites["saltmarsh"].hosts += [Host(self.world, f"198.51.100.{140 + i}") for i in range(4)]
        for i in range(4):
            self.names[f"198.51.100.{140 + i}"] = f"desk-{i + 1}.saltmarsh.{DOMAIN}"

    # --- conversations ---
    def connection(
        self, site: str, host: Host, service: str, requests: list[Request], start_ns: int, **client: Any
    ) -> None:
        """One connection with its requests, at a time."""
        self.world.at(start_ns, self._open, site, host, service, requests, client)

    def _open(self, site: str, host: Host, service: str, requests: list[Request], client: dict[str, Any]) -> None:
        log: list[tuple[int, int]] = []
        place, world = self.sites[site], self.world
        one = Endpoint(host, host.port(), client_script(requests, log, world), **client)
        other = Endpoint(self.servers[service], SERVERS[service][1], server_script(requests, self.behind.get(service)))
        pair(one, other, place.up, place.down)
        self.waits.append(
            {
                "site": place.name,
                "client": host.address,
                "port": one.port,
                "service": service,
                "log": log,
                "think_ns": [c.think_ns for c in requests if c.counts],
                "calls_ns": [[call.think_ns for call in c.calls] for c in requests if c.counts],
            }
        )
        one.connect()

    def datagram(
        self,
        site: str,
        host: Host,
        service: str,
        port: int,
        payload: bytes,
        reply: bytes | None,
        think_ns: int,
        tos: int = 0,
    ) -> None:
        """A UDP packet to a server, and its reply."""
        place, address = self.sites[site], SERVERS[service][0]
        sent = Datagram(host.address, port, address, SERVERS[service][1], payload)
        ask = Packet([*place.up], 42 + len(payload), self.random.randrange(1 << 16), sent, tos)
        answer = None
        if reply is not None:
            told = Datagram(address, SERVERS[service][1], host.address, port, reply)
            answer = Packet([*place.down, Sink()], 42 + len(reply), self.random.randrange(1 << 16), told, tos)
        ask.route.append(Answering(self.world, answer, think_ns))
        self.world.forward(ask)

    # --- the plan of the morning ---
    def plan(self) -> None:
        """Schedules everything."""
        self._ticket_database()
        self._ticket_desk()
        self._timetable()
        self._manifests()
        self._lookups()
        self._announcements()
        for at in range(EVERY_NS, LENGTH_NS, EVERY_NS):
            self.world.at(at, self._export)

    def _export(self) -> None:
        """Each router tells the collector what is over, over a network of its own."""
        for meter in self.meters.values():
            for datagram in meter.export(rest=self.world.now + EVERY_NS >= LENGTH_NS):
                sent = Datagram(meter.address, 40_000, COLLECTOR, EXPORT_PORT, datagram)
                way: list[Hop] = [Link(self.world, 1 * MS), self.centre, Sink()]
                self.world.forward(Packet(way, 42 + len(datagram), 0, sent))

    def _until_end(self, every_ns: int) -> Iterator[int]:
        at = int(self.random.random() * every_ns)
        while at < LENGTH_NS - 20 * S:
            yield at
            at += int(self.random.expovariate(1 / every_ns))

    def _ticket_database(self) -> None:
        rnd = self.random
        for site in ("northpoint", "isle-of-wren", "saltmarsh", "quay-house"):
            for host in self.sites[site].hosts[: 9 if site != "quay-house" else 5]:
                if site == "saltmarsh" and host.address.startswith("198.51.100.13"):
                    continue
                at = int(rnd.random() * 20 * S)
                requests, start = [_sign_on(self.names[host.address].partition(".")[0])], at
                while at < LENGTH_NS - 30 * S:
                    think = int(rnd.lognormvariate(0, 0.5) * 6 * MS)
                    held = site == "northpoint" and LOCK[0] <= at <= LOCK[1]
                    if held:
                        think = int(rnd.uniform(0.9, 3.2) * S)
                    pause = int(rnd.expovariate(1 / (9 * S / self.scale)))
                    octets = rnd.randrange(300, 9000)
                    text = _HELD if held else rnd.choice(_STATEMENTS).format(rnd.randrange(100, 999))
                    asks, tells = (
                        payloads.statement(text),
                        payloads.done() if text.startswith("update") else payloads.rows(octets),
                    )
                    requests.append(
                        Request(
                            len(asks), think, len(tells) if text.startswith("update") else octets, pause, asks, tells
                        )
                    )
                    at += think + pause + 30 * MS
                self.connection(site, host, "ticket-database", requests, start)

    def _ticket_desk(self) -> None:
        rnd = self.random
        for site, every in (("northpoint", 38), ("isle-of-wren", 34), ("saltmarsh", 45), ("quay-house", 30)):
            for host in self.sites[site].hosts:
                for at in self._until_end(int(every * S / self.scale)):
                    requests = [_handshake()]
                    for _ in range(rnd.randrange(2, 6)):
                        ask, think, tell = (
                            rnd.randrange(300, 900),
                            int(rnd.lognormvariate(0, 0.4) * 12 * MS),
                            rnd.randrange(2_000, 60_000),
                        )
                        pause, calls = int(rnd.expovariate(1 / (400 * MS))), self._desk_calls(site, at)
                        requests.append(
                            Request(ask, think, tell, pause, payloads.sealed(ask), payloads.sealed(tell), calls=calls)
                        )
                    self.connection(site, host, "ticket-desk", requests, at)

    def _desk_calls(self, site: str, at: int) -> tuple[Call, ...]:
        """What a page of the ticket desk needs of the database: mostly one statement; some stand in its memory."""
        rnd = self.inner
        if site == "northpoint" and LOCK[0] <= at <= LOCK[1]:
            return self._call(), _call(_HELD, int(rnd.uniform(0.9, 3.2) * S), 0)
        number = rnd.choices((0, 1, 2), (0.2, 0.6, 0.2))[0]
        return tuple(self._call() for _ in range(number))

    def _call(self) -> Call:
        rnd = self.inner
        text = rnd.choice(_STATEMENTS).format(rnd.randrange(100, 999))
        octets = 0 if text.startswith("update") else rnd.randrange(300, 6000)
        return _call(text, int(rnd.lognormvariate(0, 0.5) * 5 * MS), octets)

    def _timetable(self) -> None:
        for site in self.sites:
            for host in self.sites[site].hosts:
                for at in self._until_end(int(60 * S / self.scale)):
                    self.world.at(at, self._visit, site, host)

    def _visit(self, site: str, host: Host) -> None:
        """A page and what it is made of: the name first, then the page, then the rest over three connections."""
        rnd = self.random

        def request(
            target: str, octets: int, then: Callable[[], None] | None = None, calls: tuple[Call, ...] = ()
        ) -> Request:
            asks = payloads.web_ask(target, f"timetable.{DOMAIN}")
            return Request(
                len(asks),
                int(rnd.lognormvariate(0, 0.3) * 4 * MS),
                octets,
                2 * MS,
                asks,
                payloads.web_tell(octets),
                then,
                calls=calls,
            )

        def rest() -> None:
            for parts in (("/berths.png", "/ferries.png"), ("/script.js",)):
                self._open(site, host, "timetable", [request(part, rnd.randrange(3_000, 30_000)) for part in parts], {})

        page = [
            request("/timetable/today", rnd.randrange(6_000, 20_000), rest, (self._call(),)),
            request("/style.css", rnd.randrange(2_000, 9_000)),
        ]
        heard = self._look_up(site, host, "timetable", rnd.randrange(1 << 16), rnd.randrange(32768, 60000))
        self.connection(site, host, "timetable", page, heard + rnd.randrange(MS, 3 * MS))

    def _manifests(self) -> None:
        rnd = self.random
        for host in self.sites["saltmarsh"].hosts[:4]:
            for at in self._until_end(int(100 * S / self.scale)):
                request = Request(
                    220, int(rnd.lognormvariate(0, 0.3) * 9 * MS), rnd.randrange(120_000, 260_000), 200 * MS
                )
                self.connection(
                    "saltmarsh",
                    host,
                    "manifest",
                    [request],
                    at,
                    buffer_bytes=32_768,
                    read_bps=rnd.randrange(500_000, 900_000),
                )

    def _lookups(self) -> None:
        rnd = self.random
        for site, place in self.sites.items():
            for host in place.hosts:
                for at in self._until_end(int(25 * S / self.scale)):
                    self.world.at(
                        at,
                        self._look_up,
                        site,
                        host,
                        rnd.choice(list(SERVERS)),
                        rnd.randrange(1 << 16),
                        rnd.randrange(32768, 60000),
                    )

    def _look_up(self, site: str, host: Host, name: str, number: int, port: int) -> int:
        """Asks for a name; returns when the answer will be there, at the latest."""
        server = "names" if site == "quay-house" else "names-terminals"
        think = int(self.random.lognormvariate(0, 0.5) * 400_000)
        if server == "names-terminals" and DEAF[0] <= self.world.now <= DEAF[1]:
            think = int(self.random.uniform(0.6, 1.5) * S)
        question = (
            b"".join(bytes([len(part)]) + part.encode() for part in f"{name}.{DOMAIN}".split("."))
            + b"\0"
            + Struct("!HH").pack(1, 1)
        )
        ask = Struct("!HHHHHH").pack(number, 0x0100, 1, 0, 0, 0) + question
        address = bytes(int(x) for x in SERVERS[name][0].split("."))
        tell = (
            Struct("!HHHHHH").pack(number, 0x8180, 1, 1, 0, 0)
            + question
            + Struct("!HHHIH").pack(0xC00C, 1, 1, 300, 4)
            + address
        )
        self.datagram(site, host, server, port, ask, tell, think)
        return self.world.now + think + place_round_trip(self.sites[site]) + 2 * MS

    def _announcements(self) -> None:
        for number, site in enumerate(("northpoint", "isle-of-wren", "saltmarsh")):
            for k, minute in enumerate((4, 10, 14, 15, 22, 27)):
                self.world.at(
                    minute * 60 * S + number * 7 * S, self._speak, site, 0x48610000 + number * 256 + k, 0, 600
                )

    def _speak(self, site: str, ssrc: int, number: int, left: int) -> None:
        """One RTP packet of 20 ms (RFC 3550, RFC 3551 payload type 0), and the next in 20 ms."""
        place = self.sites[site]
        header = Struct("!BBHII").pack(0x80, 0x80 if number == 0 else 0, number, number * 160, ssrc)
        address, port = SERVERS["announcements"]
        sent = Datagram(address, port, place.hosts[0].address, 5004, header + b"\x7f" * 160)
        packet = Packet([*place.down, Sink()], 42 + 172, (number + ssrc) & 0xFFFF, sent, 46 << 2)
        self.world.forward(packet)
        if left > 1:
            self.world.at(self.world.now + 20 * MS, self._speak, site, ssrc, number + 1, left - 1)


def place_round_trip(site: Site) -> int:
    """The least round trip of a site to the data centre."""
    return sum(hop.delay_ns for hop in [*site.up, *site.down] if isinstance(hop, Link))


def _frames(tap: Tap) -> Iterator[tuple[int, int, bytes]]:
    for time_ns, ip_id, ttl, tos, fields in tap.seen:
        if isinstance(fields, Segment):
            wire, kept = tcp_frame(fields, ip_id, ttl, tos, SNAP)
        else:
            snap = _WHOLE if fields.dst_port == EXPORT_PORT else SNAP
            wire, kept = udp_frame(
                fields.src, fields.src_port, fields.dst, fields.dst_port, fields.payload, ip_id, ttl, tos, snap
            )
        yield START_NS + time_ns, wire, kept


def _truth(morning: Morning) -> dict[str, Any]:
    return {
        "seed": 640,
        "culprits": {
            "Northpoint": {
                "party": "server",
                "service": "ticket-database",
                "from_ns": START_NS + LOCK[0],
                "to_ns": START_NS + LOCK[1],
            },
            "Isle of Wren": {
                "party": "network",
                "cause": "loss",
                "from_ns": START_NS + RAIN[0],
                "to_ns": START_NS + RAIN[1],
            },
            "Saltmarsh": {"party": "client", "cause": "window", "service": "manifest"},
            "Quay House": {"party": "none"},
        },
        "marking_lost": {"site": "Saltmarsh", "service": "announcements", "from": 46, "to": 0},
        "late_names": {"service": "names-terminals", "from_ns": START_NS + DEAF[0], "to_ns": START_NS + DEAF[1]},
        "clock_offset_ms": {tap.name: tap.offset_ns / MS for tap in (morning.centre, morning.saltmarsh, morning.wren)},
        "lost_packets": {"up": len(morning.microwave[0].dropped), "down": len(morning.microwave[1].dropped)},
        "connections": [
            {
                **{k: w[k] for k in ("site", "client", "port", "service")},
                "waits": [[START_NS + a, START_NS + b] for a, b in w["log"]],
                "server_ns": w["think_ns"][: len(w["log"])],
                "behind_ns": w["calls_ns"][: len(w["log"])],
            }
            for w in morning.waits
        ],
    }


def morning_paths(folder: Path) -> list[Path]:
    """Where the three captures stand in a folder."""
    return [folder / f"{name}.pcapng" for name in ("quay-house-data-centre", "saltmarsh", "isle-of-wren")]


def make_morning(folder: Path, seed: int = 640, scale: float = 0.4) -> list[Path]:
    """Writes the three captures and truth.json into the folder; made once, then found again. Returns the captures."""
    folder.mkdir(parents=True, exist_ok=True)
    paths = morning_paths(folder)
    mark = folder / "truth.json"
    if (
        mark.exists()
        and all(p.exists() for p in paths)
        and json.loads(mark.read_text()).get("made") == [seed, scale, 8]
    ):
        return paths
    morning = Morning(seed, scale)
    morning.plan()
    morning.world.run(LENGTH_NS)
    for tap, path in zip((morning.centre, morning.saltmarsh, morning.wren), paths, strict=True):
        write_pcapng(
            path,
            _frames(tap),
            interface="mirror0",
            snap_bytes=_WHOLE,
            names=morning.names,
            comment="made by a simulation",
        )
    part = mark.with_suffix(".part")
    part.write_text(json.dumps({"made": [seed, scale, 8], **_truth(morning)}))
    part.replace(mark)
    return paths
