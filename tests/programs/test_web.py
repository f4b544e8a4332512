"""The interface over HTTP, asked by real clients over real sockets: answers, limits, refusals."""

import asyncio
import io
import json
import math
import socket
import threading
import time
from contextlib import contextmanager

import httpx
import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet
import pytest
import schemathesis
import uvicorn
from hypothesis import HealthCheck, given, settings
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from yaffle.history.layout import EVENTS
from yaffle.history.writer import HistoryWriter
from yaffle.programs.guard import Limits
from yaffle.programs.web import application, described
from yaffle.watching.event_rows import Event, table_of

TOKEN = "a-token-of-the-tests"


@contextmanager
def served(app):
    """A server on any port, with its address."""
    held = socket.socket()
    held.bind(("127.0.0.1", 0))
    server = uvicorn.Server(uvicorn.Config(app, log_level="error"))
    thread = threading.Thread(target=server.run, kwargs={"sockets": [held]}, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.01)
    try:
        yield f"http://127.0.0.1:{held.getsockname()[1]}"
    finally:
        server.should_exit = True
        thread.join(20)


@pytest.fixture(scope="module")
def address(morning_case, weeks_case):
    with served(application({"morning": morning_case, "weeks": weeks_case})) as found:
        yield found


def get(address, path, status=200, **asked):
    told = httpx.get(f"{address}{path}", params=asked, timeout=60)
    assert told.status_code == status, told.text
    return told


def test_cases_tables_and_findings_are_told(address, morning_case):
    assert [one["case"] for one in get(address, "/v1/cases").json()] == ["morning", "weeks"]
    assert {"table": "exchanges", "words": morning_case.tables["exchanges"]} in get(
        address, "/v1/cases/morning/tables"
    ).json()
    found = get(address, "/v1/cases/morning/findings").json()
    assert [one["sentence"] for one in found] == [f.sentence for f in morning_case.opened.findings]
    assert get(address, "/v1/cases/morning/document", part="clocks").json() == {
        "clocks": morning_case.document["clocks"]
    }
    assert get(address, "/v1/status").json()["collectors"]["weeks"]["tasks"] == []


def test_rows_come_the_same_in_every_format(address, morning_case):
    asked = {"filter": "wait_ms > 1000", "columns": "client,wait_ms,began", "limit": 300}
    told = morning_case.table("exchanges", "wait_ms > 1000", columns=["client", "wait_ms", "began"], limit=300)
    path = "/v1/cases/morning/tables/exchanges"
    rows = get(address, path, **asked).json()
    assert rows["columns"] == told.column_names
    assert [row["wait_ms"] for row in rows["rows"]] == told["wait_ms"].to_pylist()
    assert rows["rows"][0]["began"].startswith("2026-03-10T06:")
    arrow = pa.ipc.open_stream(get(address, path, format="arrow", **asked).content).read_all()
    parquet = pa.parquet.read_table(io.BytesIO(get(address, path, format="parquet", **asked).content))
    csv = pa.csv.read_csv(io.BytesIO(get(address, path, format="csv", **asked).content))
    for other in (arrow, parquet, csv):
        assert other["wait_ms"].to_pylist() == told["wait_ms"].to_pylist()
        assert other["client"].to_pylist() == told["client"].to_pylist()


def test_a_table_without_rows_is_told_in_every_format(address):
    for form in ("json", "csv", "arrow", "parquet"):
        told = get(address, "/v1/cases/morning/tables/exchanges", filter="wait_ms < 0", format=form)
        assert told.content
    assert get(address, "/v1/cases/morning/tables/exchanges", filter="wait_ms < 0").json()["rows"] == []


def test_packets_come_as_a_capture_that_can_be_analysed(address, tmp_path, morning_case):
    import yaffle

    path = tmp_path / "some.pcapng"
    path.write_bytes(get(address, "/v1/cases/morning/packets", filter="wait_ms > 3000").content)
    again = yaffle.analyse(path)
    assert (
        again.table("exchanges", "wait_ms > 3000").num_rows
        == morning_case.table("exchanges", "wait_ms > 3000").num_rows
    )


def test_series_and_measures_come_from_the_catalogue(address):
    known = {one["measure"]: one for one in get(address, "/v1/measures").json()}
    assert known["wait_p95"]["unit"] == "ms"
    told = get(address, "/v1/cases/weeks/series/volume", by="exporter", period="last 6 h").json()
    assert list(told["members"]) == ["203.0.113.9"]
    assert all(len(own) == len(told["times_ns"]) for own in told["members"].values())


def test_figures_stand_in_the_open_metrics_format(address):
    told = get(address, "/metrics")
    assert told.headers["content-type"].startswith("application/openmetrics-text")
    lines = told.text.splitlines()
    assert lines[-1] == "# EOF" and 'yaffle_findings{case="morning",severity="critical"} 4' in lines
    for line in lines:
        assert line.startswith("# ") or math.isfinite(float(line.rpartition(" ")[2]))


def test_events_come_as_they_are_written(address, weeks_case):
    history = weeks_case.opened.analysis.history
    since = time.time_ns()
    got: list[str] = []

    def listen():
        with httpx.stream("GET", f"{address}/v1/cases/weeks/events/stream?since_ns={since}", timeout=30) as answer:
            assert answer.headers["content-type"].startswith("text/event-stream")
            for line in answer.iter_lines():
                got.append(line)
                if line.startswith("data: "):
                    return

    listening = threading.Thread(target=listen)
    listening.start()
    time.sleep(0.5)
    one = Event(time.time_ns(), "line", "the \nline", "raised", "critical", 97.0, 90.0, "%", "it is full")
    writer = HistoryWriter(history.folder, settle=False)
    writer.append_rows(EVENTS, table_of([one]))
    writer.close()
    listening.join(20)
    assert json.loads(got[-1].removeprefix("data: "))["id"] == one.id and f"id: {one.id}" in got
    assert get(address, "/v1/cases/weeks/events", limit=1).json()[0]["words"] == "it is full"


def test_a_test_is_started_and_what_it_found_is_told(address):
    port = int(address.rpartition(":")[2])
    asked = {"kind": "connect", "target": f"127.0.0.1:{port}"}
    told = httpx.post(f"{address}/v1/probes", json=asked, timeout=30)
    assert told.status_code == 200 and told.json()["summary"]["ok"] == 1
    for wrong in ({"kind": "storm", "target": "x"}, {"kind": "connect", "target": "127.0.0.1:99999999"}):
        assert httpx.post(f"{address}/v1/probes", json=wrong, timeout=30).status_code in (200, 400)
    assert httpx.post(f"{address}/v1/probes", json={"kind": "connect"}, timeout=30).status_code == 422


def test_acknowledging_without_a_collector_is_refused(address):
    told = httpx.post(f"{address}/v1/cases/weeks/acknowledge", json={"watch": "line"}, timeout=30)
    assert told.status_code == 400 and "no collector is running" in told.json()["detail"]


@pytest.mark.parametrize(
    ("path", "status"),
    [
        ("/v1/cases/../../etc/passwd", 404),
        ("/v1/cases/%2e%2e%2f%2e%2e/tables", 404),
        ("/static-offline-docs/..%2f..%2f..%2fetc%2fpasswd", 404),
        ("/v1/cases/nobody/tables", 404),
        ("/v1/cases/morning/tables/..%2fexchanges", 404),
        ("/v1/cases/morning/tables/exchanges?filter=wait_ms>(SELECT+1+FROM+read_csv('/etc/passwd'))", 400),
        ("/v1/cases/morning/tables/exchanges?filter=1%3D1)%3B+DROP+TABLE+x+--", 400),
        ("/v1/cases/morning/tables/exchanges?limit=999999999", 422),
        ("/v1/cases/morning/tables/exchanges?limit=-1", 422),
        ("/v1/cases/morning/tables/exchanges?format=xls", 422),
        (f"/v1/cases/morning/tables/exchanges?filter={'(' * 3000}", 400),
        ("/v1/cases/weeks/tables/records?period=yesteryear", 400),
        ("/v1/cases/weeks/series/volume?where=1%3D1)+UNION+SELECT+*+FROM+read_csv('/etc/passwd')+--", 400),
        ("/v1/cases/weeks/series/volume?width_s=1", 400),
    ],
)
def test_a_hostile_question_gets_nothing(address, path, status):
    with httpx.Client(base_url=address, timeout=60) as client:
        told = client.get(path)
    assert told.status_code == status and "root:" not in told.text


def test_pages_of_elsewhere_and_large_bodies_are_refused(address):
    told = httpx.get(f"{address}/v1/cases", headers={"Host": "evil.example"}, timeout=30)
    assert told.status_code == 421 and not told.content
    told = httpx.post(f"{address}/v1/probes", content=b"x" * 100_000, timeout=30)
    assert told.status_code == 413
    told = httpx.post(f"{address}/v1/probes", content=iter([b"x" * 50_000] * 3), timeout=30)
    assert told.status_code in (400, 413, 422)


def test_without_the_right_token_there_is_nothing_at_all(morning_case):
    with served(application({"morning": morning_case}, TOKEN)) as address:
        for path in ("/", "/docs", "/openapi.json", "/metrics", "/v1/cases", "/v1/nothing", "/static-offline-docs/x"):
            for headers in (
                {},
                {"Authorization": "Bearer wrong"},
                {"Authorization": TOKEN},
                {"Authorization": f"Basic {TOKEN}"},
            ):
                told = httpx.get(f"{address}{path}", headers=headers, timeout=30)
                assert (told.status_code, told.content) == (401, b""), (path, headers)
        told = httpx.get(
            f"{address}/v1/cases", headers={"Authorization": f"Bearer {TOKEN}", "Host": "any.example"}, timeout=30
        )
        assert told.status_code == 200


def test_two_hundred_ask_at_once(address):
    async def ask():
        limits = httpx.Limits(max_connections=200)
        async with httpx.AsyncClient(base_url=address, timeout=120, limits=limits) as client:
            paths = [
                "/v1/cases",
                "/v1/cases/morning/tables/exchanges?filter=wait_ms>500&limit=50",
                "/v1/measures",
                "/metrics",
            ]
            return await asyncio.gather(*(client.get(paths[k % 4]) for k in range(200)))

    told = asyncio.run(ask())
    assert {one.status_code for one in told} == {200}
    assert len({one.text for one in told[1::4]}) == 1


def test_whoever_does_not_read_is_let_go_and_keeps_nobody_from_reading(weeks_case):
    limits = Limits(send_s=1.0, at_once=2)
    with served(application({"weeks": weeks_case}, limits=limits)) as address:
        port = int(address.rpartition(":")[2])
        lazy = []
        for _ in range(4):
            one = socket.socket()
            one.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
            one.connect(("127.0.0.1", port))
            one.sendall(b"GET /v1/cases/weeks/tables/records?limit=1000000 HTTP/1.1\r\nHost: localhost\r\n\r\n")
            lazy.append(one)
        began = time.monotonic()
        assert get(address, "/v1/cases").json()
        assert time.monotonic() - began < 20
        time.sleep(3)
        for one in lazy:
            one.settimeout(20)
            while one.recv(1 << 16):
                pass  # What was under way, then the end.
            one.close()


def test_no_question_that_its_description_allows_makes_an_error(morning_case, weeks_case):
    app = described({"morning": morning_case, "weeks": weeks_case}, Limits())
    told = schemathesis.openapi.from_asgi("/openapi.json", app)
    checks = [not_a_server_error, status_code_conformance, content_type_conformance, response_schema_conformance]
    for result in told.get_all_operations():
        operation = result.ok()
        if operation.path.endswith("/stream") or operation.path == "/v1/probes":
            continue

        @settings(max_examples=15, deadline=None, suppress_health_check=list(HealthCheck))
        @given(case=operation.as_strategy())
        def asked(case):
            if "case" in (case.path_parameters or {}):
                case.path_parameters["case"] = "morning" if hash(str(case.query)) % 2 else "weeks"
            answer = case.call()
            case.validate_response(answer, checks=checks)

        asked()
