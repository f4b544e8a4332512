"""The collector watches a real service, is killed in between, and what it kept is what one analysis says."""

import http.client
import http.server
import os
import signal
import threading
import time

import pyarrow.parquet as pq
import pytest

from tests.collector.test_collector import collecting, configured, until
from tests.real.two_kernels import available
from yaffle.analysis import analyse
from yaffle.capture.ring_folder import files_of
from yaffle.history.store import History
from yaffle.history.wait_rows import KEYS
from yaffle.history.wait_sums import Grouping
from yaffle.session.evidence import Evidence
from yaffle.session.table_export import write_rows
from yaffle.waiting.minutes import minutes_of, sums_of

REAL = pytest.mark.skipif(bool(available()), reason=available() or "can")
BY_MINUTE = Grouping({"time_ns": "time_ns"} | {key: key for key in KEYS}, "application <> ''")


class Slow(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def do_GET(self):
        time.sleep(0.03)
        self.send_response(500 if "bad" in self.path else 200)
        self.send_header("Content-Length", "2000")
        self.end_headers()
        self.wfile.write(bytes(2000))

    def log_message(self, *_):
        pass


def ask(port, times, path="/"):
    own = http.client.HTTPConnection("127.0.0.1", port)
    for _ in range(times):
        own.request("GET", path)
        own.getresponse().read()
    own.close()


def processes(ring):
    for entry in os.listdir("/proc"):
        if entry.isdigit():
            try:
                with open(f"/proc/{entry}/cmdline", "rb") as told:
                    words = told.read()
            except OSError:
                continue
            if b"yaffle.waiting.child" in words and ring.encode() in words:
                yield int(entry)


@REAL
def test_what_is_kept_is_what_one_analysis_says_whoever_was_killed(tmp_path):
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Slow)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    port, ring, history = server.server_port, tmp_path / "ring", tmp_path / "history"
    path = configured(
        tmp_path,
        f'[[capture]]\ninterface = "lo"\nring = "ring"\nlimit_bytes = "16MiB"\nports = [{port}]\nwaits = true\n',
    )

    with collecting(path):
        until(lambda: list(ring.glob("*.pcapng")) and list(processes(str(ring))), "no accounting")
        ask(port, 20)
        time.sleep(1)
        for number in processes(str(ring)):
            os.kill(number, signal.SIGKILL)
        ask(port, 20)
        ask(port, 3, "/bad")
        until(lambda: list(processes(str(ring))), "not begun again")
    server.shutdown()
    kept = History(history).waits
    reference = minutes_of(Evidence(analyse(files_of(ring))))
    table = kept.asked(BY_MINUTE)
    assert sum(table["exchanges"].to_pylist()) == 43 and sum(table["failures"].to_pylist()) == 3
    table = table.append_column("run", [[0] * table.num_rows]).set_column(0, "time_ns", table["time_ns"])
    found = sums_of(table)
    assert found.keys() == reference.keys()
    assert all(found[key].minus(reference[key]).is_nothing for key in found)
    minutes = kept.asked(Grouping({"capture": "capture"}, "application = ''")).to_pylist()[0]
    assert minutes["captured_packets"] > 100 and minutes["dropped_packets"] == 0
    assert minutes["covered_ns"] > 10**9
    count = write_rows(history, "waits", tmp_path / "waits.csv") + write_rows(history, "waits", tmp_path / "w.parquet")
    assert count >= 4
    assert "median_ns" in pq.read_table(tmp_path / "w.parquet").column_names
    assert "median_ns" in (tmp_path / "waits.csv").read_text()
