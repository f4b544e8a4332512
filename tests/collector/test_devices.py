"""Devices that are asked: simulated agents of every kind, and a real agent and real LLDP speakers in namespaces."""

import asyncio
import os
import subprocess
import sys
import threading
import time
from contextlib import contextmanager
from itertools import pairwise
from pathlib import Path

import pyarrow.csv
import pytest

from tests.collector.test_collector import collecting, configured, until
from tests.ports import free_port
from tests.real.peers import DEVICE, Line, lacking
from yaffle.collector.devices.agent import Agent, AgentError, Credentials, SilentError, hardware_text
from yaffle.collector.devices.command_line import texts_of
from yaffle.collector.devices.health import uptime
from yaffle.collector.devices.interfaces import Interfaces
from yaffle.collector.devices.tables import forwarding
from yaffle.collector.status import status_of
from yaffle.errors import YaffleError
from yaffle.history.layout import NEIGHBOURS
from yaffle.history.store import History
from yaffle.records.counter_table import UNKNOWN, rises
from yaffle.session.table_export import write_rows

_ROOT = Path(__file__).parents[2]
_QUAY = Credentials("2c", community="quay")
_LIMITED = "127.7.0.0"


@contextmanager
def agents(*told):
    """Simulated agents: (address, interfaces, kind) each; their port, and a word that has them begin anew."""
    port = free_port()
    words = [f"{address}:{port}:{count}:{kind}" for address, count, kind in told]
    process = subprocess.Popen(
        [sys.executable, "-m", "tests.real.simulated_agents", *words],
        cwd=_ROOT, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    try:
        assert process.stdout.readline() == "ready\n"
        yield port, lambda: (process.stdin.write("restart\n"), process.stdin.flush())
    finally:
        process.kill()
        process.wait()


def asked(work):
    """What a coroutine gives."""
    return asyncio.run(work)


def test_interfaces_count_as_the_device_does():
    async def look(agent):
        own = Interfaces("crane")
        await own.learn(agent)
        first, status = await own.read(agent)
        await asyncio.sleep(1)
        return own, first, status, (await own.read(agent))[0]

    with agents(("127.1.0.1", 30, "plain")) as (port, _):
        own, first, status, second = asked(look(Agent("127.1.0.1", port, _QUAY)))
    assert own.name(3) == "p3" and own.ports[3].speed_bps == 10**9 and own.ports[3].hardware == "02:00:00:00:00:03"
    assert len(status) == 30 and {one.value for one in status} == {1.0}
    assert first.names[0, 7] == "p7" and first.rows.size == 30
    first.add(second)
    risen, resets = rises(first.rows)
    seconds = (risen["last_ns"] - risen["first_ns"]) / 1e9
    assert not resets and risen["in_octets"] / seconds == pytest.approx(1000 * risen["interface"], rel=0.05)
    assert (risen["out_unicast"] == 0).all() and (first.rows["in_errors"] == 0).all()


def test_ten_thousand_interfaces():
    async def look(agent):
        own = Interfaces("core")
        await own.learn(agent)
        return (await own.read(agent))[0]

    with agents(("127.1.0.2", 10_000, "plain")) as (port, _):
        found = asked(look(Agent("127.1.0.2", port, _QUAY)))
    assert found.rows.size == 10_000 and set(found.rows["interface"].tolist()) == set(range(1, 10_001))
    assert (found.rows["in_octets"] != UNKNOWN).all()


@pytest.mark.parametrize(
    ("kind", "error", "words"),
    [
        ("deaf", SilentError, "no answer, asked twice within 0.6 s"),
        ("late", SilentError, "no answer"),
        ("wrong", AgentError, "."),
    ],
)
def test_agents_that_do_not_answer_or_not_as_they_should(kind, error, words):
    with agents(("127.1.0.3", 2, kind)) as (port, _), pytest.raises(error, match=words):
        asked(uptime(Agent("127.1.0.3", port, _QUAY, 0.3)))


def test_an_agent_that_answers_in_circles_is_left():
    async def look(agent):
        await agent.table((1, 3, 6, 1, 2, 1, 2, 2, 1, 2))

    with agents(("127.1.0.4", 5, "circles")) as (port, _), pytest.raises(AgentError, match=r"circles|no sense"):
        asked(asyncio.wait_for(look(Agent("127.1.0.4", port, _QUAY, 1)), 20))


def test_an_agent_that_can_say_little_at_once_is_asked_for_less():
    async def look(agent):
        own = Interfaces("small")
        await own.learn(agent)
        return (await own.read(agent))[0]

    with agents(("127.1.0.5", 20, "small")) as (port, _):
        found = asked(look(Agent("127.1.0.5", port, _QUAY, 1)))
    assert found.rows.size == 20 and (found.rows["in_octets"] != UNKNOWN).all()


def test_who_is_behind_which_port():
    async def look(agent):
        own = Interfaces("switch")
        await own.learn(agent)
        return await forwarding(agent, own)

    with agents(("127.1.0.6", 3, "bridge")) as (port, _):
        found = asked(look(Agent("127.1.0.6", port, _QUAY)))
    assert found == {(f"p{k}", f"02:00:00:01:00:0{k}", "") for k in (1, 2, 3)}


def test_a_name_nobody_knows_is_said():
    with pytest.raises(AgentError, match=r"pier\.invalid: this name is not known"):
        asked(uptime(Agent("pier.invalid", 161, _QUAY)))
    assert hardware_text(b"\0\0\0\0\0\0") == "" and "quay" not in repr(_QUAY)


def test_devices_of_a_collector_from_begin_to_end(tmp_path):
    """One answers, is started again and goes on; one never answers and says why."""
    history = tmp_path / "history"
    with agents(("127.1.0.7", 4, "bridge"), ("127.1.0.8", 4, "deaf")) as (port, again):
        secret = tmp_path / "community"
        secret.write_text("quay\n")
        secret.chmod(0o600)
        both = f'port = {port}\nevery = "1s"\ntimeout = "1s"\n'
        path = configured(
            tmp_path,
            f'[[device]]\naddress = "127.1.0.7"\ncommunity_file = "{secret}"\n{both}'
            f'[[device]]\naddress = "127.1.0.8"\ncommunity = "hush"\n{both}',
        )
        with collecting(path):
            until(lambda: (history / "collector.json").exists(), "nothing")
            state = until(
                lambda: {t["address"]: t for t in status_of(history)["tasks"] if t["why"]}.get("127.1.0.8"), "not told"
            )
            assert state["state"] != "running" and "no answer" in state["why"]
            until(lambda: len(readings(tmp_path, history, "uptime")) >= 3, "no readings")
            again()
            until(lambda: any(b < a for a, b in pairs(readings(tmp_path, history, "uptime"))), "never began anew")
            until(lambda: History(history).intervals(NEIGHBOURS).num_rows >= 4, "no neighbors")
            assert next(t for t in status_of(history)["tasks"] if t["address"] == "127.1.0.7")["state"] == "running"
        told = (tmp_path / "log").read_text() + (history / "collector.json").read_text()
        assert "hush" not in told and "quay" not in told
    assert [text for name, text, _ in History(history).latest_texts("127.1.0.7")] == ["simulated"]
    counters = tmp_path / "counters.csv"
    assert write_rows(history, "counters", counters) >= 12
    assert set(pyarrow.csv.read_csv(counters)["device"].to_pylist()) == {"127.1.0.7"}


def pairs(values):
    return list(pairwise(values))


def readings(tmp_path, history, measure):
    """Values of one measure so far, by time."""
    out = tmp_path / "readings.csv"
    try:
        write_rows(history, "readings", out)
    except YaffleError:
        return []
    rows = pyarrow.csv.read_csv(out).to_pylist()
    return [row["value"] for row in sorted(rows, key=lambda row: row["time_ns"]) if row["measure"] == measure]


V3_LINES = """createUser harbour SHA-256 "harbour-key-1" AES "harbour-key-2"
rouser harbour authPriv
rocommunity quay
sysName quay-switch
master agentx
agentXSocket {agentx}"""
V3 = f"""[[device]]
address = "{DEVICE}"
version = "3"
user = "harbour"
auth = "harbour-key-1"
privacy = "harbour-key-2"
every = "1s"
"""


@pytest.mark.skipif(bool(lacking("snmpd", "lldpd")), reason=lacking("snmpd", "lldpd") or "can")
def test_a_real_agent_tells_what_its_kernel_counts(tmp_path):
    line = Line(tmp_path)
    try:
        line.agent(V3_LINES.format(agentx=tmp_path / "agentx"))
        line.lldp(str(tmp_path / "agentx"))
        line.traffic(20, 1000)
        path, history = configured(tmp_path, V3), tmp_path / "history"
        environment = {**os.environ, "YAFFLE_LOG": "info"}
        words = ["ip", "netns", "exec", line.spaces["monitor"], sys.executable, "-m", "yaffle", "collect", str(path)]
        with (tmp_path / "log").open("ab") as log:
            process = subprocess.Popen(words, stderr=log, env=environment)
        try:

            def read_as_it_is(least=0):
                """What the kernel counts now, once the agent was read with just that."""
                now = line.octets()
                return now if now[0] >= least and of_port(tmp_path, history, now[0]) == now else None

            before = until(read_as_it_is, "not counted before")
            line.traffic(3000, 700)
            after = until(lambda: read_as_it_is(before[0] + 3000 * 700), "not counted after")
            assert after[0] - before[0] >= 3000 * 700
            until(lambda: History(history).intervals(NEIGHBOURS).num_rows, "no neighbor")
            line.agent(V3_LINES.format(agentx=tmp_path / "agentx"))
            until(lambda: any(b < a for a, b in pairs(readings(tmp_path, history, "uptime"))), "never began anew")
        finally:
            process.terminate()
            assert process.wait(30) == 0
        assert ("name", "quay-switch") in [(n, t) for n, t, _ in History(history).latest_texts(DEVICE)]
        (found,) = {(r["interface"], r["neighbour_port"]) for r in History(history).intervals(NEIGHBOURS).to_pylist()}
        assert found == ("eth", "eth")
        write_rows(history, "addresses", tmp_path / "addresses.csv")
        held = {(r["interface"], r["address"], r["hardware"]) for r in pyarrow.csv.read_csv(
            tmp_path / "addresses.csv").to_pylist()}  # fmt: skip
        neigh = [row.split() for row in line.at("device", "ip", "neigh").splitlines() if "lladdr" in row]
        assert {(row[2], row[0], row[4]) for row in neigh if not row[0].startswith("fe80")} <= held
        assert any(address == DEVICE for _, address, _ in held)
    finally:
        line.close()


def of_port(tmp_path, history, octets):
    """Both directions of port1, once it was read with so many octets received."""
    out = tmp_path / "port.csv"
    try:
        write_rows(history, "counters", out)
    except YaffleError:
        return None
    rows = [r for r in pyarrow.csv.read_csv(out).to_pylist() if r["name"] == "port1" and r["in_octets"] == octets]
    return (rows[-1]["in_octets"], rows[-1]["out_octets"]) if rows else None


@contextmanager
def ssh_server(folder, answers):
    """A server that answers commands by a table; its port and its host key."""
    import asyncssh

    loop, ready, told = asyncio.new_event_loop(), threading.Event(), {}
    key = asyncssh.generate_private_key("ssh-ed25519")

    class Server(asyncssh.SSHServer):
        def begin_auth(self, username):
            return True

        def password_auth_supported(self):
            return True

        def validate_password(self, username, password):
            return (username, password) == ("reader", "harbour-secret")

    def handle(process):
        found = answers().get(process.command)
        process.stdout.write(found or "")
        process.exit(0 if found is not None else 1)

    async def begin():
        own = await asyncssh.listen(
            "127.0.0.1", 0, server_factory=Server, server_host_keys=[key], process_factory=handle
        )
        told["port"], told["server"] = own.sockets[0].getsockname()[1], own
        ready.set()

    def run():
        asyncio.set_event_loop(loop)
        loop.run_until_complete(begin())
        loop.run_forever()

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    assert ready.wait(20)
    known = folder / "known_hosts"
    known.write_text(f"[127.0.0.1]:{told['port']} {key.export_public_key().decode().strip()}\n")
    try:
        yield told["port"], known
    finally:
        loop.call_soon_threadsafe(told["server"].close)
        loop.call_soon_threadsafe(loop.stop)
        thread.join(10)


def test_texts_by_ssh_are_kept_when_they_change(tmp_path):
    now = {"show table": "crane is on port 3\n"}
    with ssh_server(tmp_path, lambda: now) as (port, known):
        path = configured(
            tmp_path,
            f'[[device]]\naddress = "127.0.0.1"\ncommunity = "quay"\nport = {free_port()}\nevery = "10s"\n'
            f'[device.ssh]\nuser = "reader"\npassword = "harbour-secret"\nport = {port}\nevery = "1s"\n'
            f'known_hosts = "{known}"\ntexts = {{ table = "show table" }}\n',
        )
        history = tmp_path / "history"
        with collecting(path):
            until(lambda: (history / "history.json").exists() and History(history).latest_texts("127.0.0.1"), "no text")
            first = History(history).latest_texts("127.0.0.1")
            time.sleep(2.5)
            now["show table"] = "crane is on port 7\n"
            until(lambda: "port 7" in History(history).latest_texts("127.0.0.1")[0][1], "no change")
        then = History(history).latest_texts("127.0.0.1", first[0][2])
        assert then == first == [("table", "crane is on port 3\n", first[0][2])]
        assert write_rows(history, "texts", tmp_path / "texts.csv") == 2
        assert "harbour-secret" not in (tmp_path / "log").read_text()


def test_what_ssh_refuses_is_said(tmp_path):
    def texts(port, known, password="harbour-secret", command="show table"):
        return asked(texts_of("127.0.0.1", port, "reader", password, "", str(known), {"table": command}))

    with ssh_server(tmp_path, lambda: {"show table": "ok"}) as (port, known):
        assert texts(port, known) == {"table": "ok"}
        with pytest.raises(YaffleError, match="does not let reader in"):
            texts(port, known, password="wrong")
        with pytest.raises(YaffleError, match="ended with status 1"):
            texts(port, known, command="show nothing")
        with pytest.raises(YaffleError, match="put the device's host key there"):
            texts(port, tmp_path / "none")
        known.write_text("")
        with pytest.raises(YaffleError, match="host key"):
            texts(port, known)
    with pytest.raises(YaffleError, match=r"TCP \d+: "):
        texts(port, known)
