import gzip
import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.ledger.test_simulated import MS, simulate
from yaffle.analysis import analyse
from yaffle.capture.record_count import holds_at_most
from yaffle.compiler import compile_first
from yaffle.demo.morning import Request
from yaffle.engine_start import make_ready, switch_when_compiled
from yaffle.errors import Cancelled, YaffleError
from yaffle.kernel_cache import COMPLETE, SHIPPED, cache_folder, compiled, key
from yaffle.plain_kernels import run_plainly, running_plainly
from yaffle.report.document import document


def test_the_cache_follows_the_sources_and_the_place_it_is_told(monkeypatch, tmp_path):
    monkeypatch.setenv("YAFFLE_CACHE_DIR", str(tmp_path))
    assert cache_folder().parent == tmp_path
    assert not compiled()
    cache_folder().mkdir(parents=True)
    (cache_folder() / "complete").touch()
    assert compiled()
    compile_first(lambda share, words: False)  # Nothing to do, nobody is asked.


def test_the_cache_has_one_name_before_and_after_the_compiler_is_loaded(monkeypatch):
    code = (
        "from yaffle.kernel_cache import key; before = key(); import yaffle.kernels; key.cache_clear();"
        "print(before == key())"
    )
    monkeypatch.delenv("NUMBA_CPU_NAME", raising=False)
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout == "True\n"


@pytest.fixture
def plain():
    """What a test leaves behind: kernels are compiled again."""
    yield
    run_plainly(False)


_DATA = Path(__file__).parent / "data"
_SMALL = sorted(p for p in _DATA.rglob("*.pcap*") if p.stat().st_size < 60_000)[:12]


@pytest.mark.parametrize("path", _SMALL, ids=lambda p: p.name)
def test_the_plain_way_gives_the_same_document_to_the_last_byte(path, plain):
    compiled_way = json.dumps(document(analyse([path]), include=["flows"]))
    run_plainly(True)
    assert json.dumps(document(analyse([path]), include=["flows"])) == compiled_way


def test_two_points_and_loss_the_plain_way(tmp_path, plain):
    requests = [Request(300, 20 * MS, 30_000, 30 * MS) for _ in range(3)]
    paths = [
        simulate(tmp_path / f"{near}.pcapng", requests, loss=0.05, delay_ms=12, seed=3, near_client=near)[0]
        for near in (True, False)
    ]
    compiled_way = json.dumps(document(analyse(paths)))
    run_plainly(True)
    assert json.dumps(document(analyse(paths))) == compiled_way


def test_small_captures_do_not_wait_for_the_compiler_and_large_ones_do(monkeypatch, tmp_path, plain):
    monkeypatch.setenv("YAFFLE_CACHE_DIR", str(tmp_path / "cache"))
    begun, waited = [], []
    monkeypatch.setattr("yaffle.engine_start.compile_in_background", lambda: begun.append(1))
    monkeypatch.setattr("yaffle.engine_start.compile_first", lambda progress: waited.append(1))
    path, _ = simulate(tmp_path / "a.pcapng", [Request(300, MS, 3_000, MS)])
    make_ready([path], lambda share, words: True)
    make_ready([path], lambda share, words: True)
    assert (begun, waited, running_plainly()) == ([1], [], True)
    assert not switch_when_compiled()
    monkeypatch.setattr("yaffle.engine_start.MOST_PLAIN", 5)
    make_ready([path], lambda share, words: True)
    assert (begun, waited, running_plainly()) == ([1], [1], False)
    run_plainly(True)
    cache_folder().mkdir(parents=True, exist_ok=True)
    (cache_folder() / COMPLETE).touch()
    assert switch_when_compiled()
    assert not running_plainly()


def test_packets_are_counted_up_to_a_limit(tmp_path):
    path, _ = simulate(tmp_path / "a.pcapng", [Request(300, MS, 3_000, MS)])
    packets = int(analyse([path]).capture.packets.time_ns.size)
    assert holds_at_most([path], packets)
    assert not holds_at_most([path], packets - 1)
    packed = tmp_path / "a.pcapng.gz"
    packed.write_bytes(gzip.compress(path.read_bytes()))
    assert holds_at_most([packed], packets) and not holds_at_most([packed], packets - 1)
    broken = tmp_path / "broken.pcapng"
    broken.write_bytes(path.read_bytes()[:100] + b"\xff" * 40)
    assert holds_at_most([broken, tmp_path / "gone.pcap"], 10)


def test_kernels_that_came_with_the_package_are_used_as_they_are(monkeypatch, tmp_path):
    monkeypatch.setenv("YAFFLE_CACHE_DIR", str(tmp_path / "cache"))
    monkeypatch.setattr("yaffle.kernel_cache.SHIPPED", tmp_path / "shipped")
    assert not compiled()
    folder = tmp_path / "shipped" / key() / "ledger"
    folder.mkdir(parents=True)
    (folder / "one.nbi").write_bytes(b"index")
    assert not compiled()  # Not all of them.
    (folder.parent / COMPLETE).touch()
    assert compiled()
    assert (cache_folder() / "ledger" / "one.nbi").read_bytes() == b"index"
    assert SHIPPED.name == "compiled"


def test_compiling_says_a_word_and_stops_when_told(monkeypatch, tmp_path):
    monkeypatch.setenv("YAFFLE_CACHE_DIR", str(tmp_path))
    said = []
    with pytest.raises(Cancelled):
        compile_first(lambda share, words: said.append(words) is not None)
    assert "compiling the engine" in said[0]


def test_a_child_that_fails_is_told_in_one_line(monkeypatch, tmp_path):
    monkeypatch.setenv("YAFFLE_CACHE_DIR", str(tmp_path))
    monkeypatch.setattr(sys, "executable", "/bin/false")
    with pytest.raises(YaffleError) as caught:
        compile_first(lambda share, words: True)
    assert "\n" not in str(caught.value)


def test_the_commands_help_imports_neither_the_compiler_nor_the_window():
    code = (
        "import sys, yaffle.cli; sys.exit(any(m in sys.modules for m in ('numba', 'PySide6', 'duckdb', 'pyarrow',"
        " 'scipy')))"
    )
    assert subprocess.run([sys.executable, "-c", code], check=False, env=dict(os.environ)).returncode == 0


def test_whatever_the_tests_needed_was_compiled_at_once():
    """Kernels that a capture compiles although the engine was said to be ready make the first answer late."""
    done = cache_folder() / COMPLETE
    if not done.exists():
        pytest.skip("nothing was compiled here")
    late = [file.name for file in cache_folder().rglob("*.nbc") if file.stat().st_mtime > done.stat().st_mtime]
    assert late == []


_START = """
import sys
from yaffle.analysis import analyse
analyse([sys.argv[1]])
unwanted = ("numba.np.random.generator_methods", "scipy.linalg", "duckdb", "asyncio")
print(*(name for name in unwanted if name in sys.modules))
"""


@pytest.mark.skipif(not compiled(), reason="nothing is compiled yet")
def test_a_start_loads_nothing_that_it_does_not_need(tmp_path):
    path, _ = simulate(tmp_path / "a.pcapng", [Request(300, MS, 3_000, MS)])
    analyse([path])  # What other kernels a small capture needs is compiled by now.
    done = subprocess.run([sys.executable, "-c", _START, path], capture_output=True, text=True, check=True)
    assert done.stdout.split() == []
