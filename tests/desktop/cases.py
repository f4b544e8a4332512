"""Three made-up cases for whole investigations; used for nothing else.

Names under tarn.example, addresses for documentation.
"""

from dataclasses import dataclass, field
from typing import Any

from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.demo.morning import Request, client_script, server_script
from yaffle.demo.network import MS, Link, S, Tap, World
from yaffle.demo.packet_bytes import tcp_frame
from yaffle.demo.tcp_model import Endpoint, Host, pair

BEGAN_NS = 1_790_000_000 * S


@dataclass
class Talk:
    """One connection: who calls whom, from when on, over what kind of line."""

    client: str
    server: str
    port: int
    calls: list[Request]
    start_ms: int = 0
    delay_ms: int = 5
    loss: float = 0.0
    options: dict[str, Any] = field(default_factory=dict)


def write_case(path, talks, names, seed=1):
    """Simulates all talks at once, seen beside the servers."""
    world = World(seed)
    tap = Tap(world, "tap")
    hosts: dict[str, Host] = {}

    def host(address):
        return hosts.setdefault(address, Host(world, address))

    for talk in talks:
        up = Link(world, talk.delay_ms * MS, 0, 1 << 30, (lambda now, p=talk.loss: p) if talk.loss else None, 0)
        down = Link(world, talk.delay_ms * MS, 0, 1 << 30, (lambda now, p=talk.loss: p) if talk.loss else None, 0)
        client = Endpoint(
            host(talk.client), host(talk.client).port(), client_script(talk.calls, [], world), **talk.options
        )
        server = Endpoint(host(talk.server), talk.port, server_script(talk.calls))
        pair(client, server, [up, tap], [tap, down])
        world.at(talk.start_ms * MS, client.connect)
    world.run(600 * S)
    packets = [(BEGAN_NS + t, *tcp_frame(segment, ip_id, ttl, tos, 96)) for t, ip_id, ttl, tos, segment in tap.seen]
    write_pcapng(path, packets, snap_bytes=96, names=names)
    return path


def stock_room(path):
    """A stock room waits on its register from the second minute on; the others do not."""
    names = {"192.0.2.10": "register.core.tarn.example", "192.0.2.11": "catalog.core.tarn.example"}
    talks = []
    for k in range(8):
        client = f"198.51.100.{20 + k}"
        names[client] = f"till-{k}.{'stock-room' if k < 3 else 'front'}.tarn.example"
        for minute in range(4):
            slow = 900 if k < 3 and minute in (1, 2) else 12
            talks.append(
                Talk(
                    client,
                    "192.0.2.10",
                    5432,
                    [Request(200, slow * MS, 1500, 1000 * MS) for _ in range(8)],
                    minute * 60_000 + 37 * k,
                )
            )
        talks.append(
            Talk(client, "192.0.2.11", 443, [Request(400, 8 * MS, 40_000, 4000 * MS) for _ in range(20)], 500 + 91 * k)
        )
    return write_case(path, talks, names, 3)


def rainy_mast(path):
    """One site's line loses packets; one unnamed service on port 7443 is what its people use."""
    names = {"203.0.113.5": "intranet.hub.tarn.example"}
    talks = []
    for k in range(6):
        far = k < 2
        client = f"198.51.100.{60 + k}"
        names[client] = f"desk-{k}.{'mast' if far else 'hub-side'}.tarn.example"
        loss = 0.05 if far else 0.0
        talks.append(
            Talk(
                client,
                "203.0.113.5",
                443,
                [Request(300, 10 * MS, 60_000, 2000 * MS) for _ in range(15)],
                113 * k,
                18 if far else 3,
                loss,
            )
        )
        talks.append(
            Talk(
                client,
                "203.0.113.77",
                7443,
                [Request(300, 10 * MS, 9_000, 1500 * MS) for _ in range(15)],
                57 * k,
                18 if far else 3,
                loss,
            )
        )
    return write_case(path, talks, names, 5)


def slow_reader(path):
    """One handheld reads its lists slowly, and looks like a slow server to its owner."""
    names = {"203.0.113.30": "lists.yard.tarn.example", "198.51.100.90": "handheld-1.gate.tarn.example"}
    talks = [
        Talk(
            "198.51.100.90",
            "203.0.113.30",
            8443,
            [Request(150, 6 * MS, 250_000, 500 * MS) for _ in range(6)],
            0,
            6,
            0.0,
            {"buffer_bytes": 24_576, "read_bps": 1_200_000},
        )
    ]
    for k in range(5):
        client = f"198.51.100.{91 + k}"
        names[client] = f"desk-{k}.gate.tarn.example"
        talks.append(
            Talk(client, "203.0.113.30", 8443, [Request(150, 6 * MS, 250_000, 900 * MS) for _ in range(6)], 71 * k, 6)
        )
    return write_case(path, talks, names, 9)
