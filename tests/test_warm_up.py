import os
import subprocess
import sys

import pytest

from yaffle.errors import Cancelled, YaffleError
from yaffle.kernels import cache_folder
from yaffle.warm_up import compile_first, compiled


def test_the_cache_follows_the_sources_and_the_place_it_is_told(monkeypatch, tmp_path):
    monkeypatch.setenv("YAFFLE_CACHE_DIR", str(tmp_path))
    assert cache_folder().parent == tmp_path
    assert not compiled()
    cache_folder().mkdir(parents=True)
    (cache_folder() / "complete").touch()
    assert compiled()
    compile_first(lambda share, words: False)  # Nothing to do, nobody is asked.


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
