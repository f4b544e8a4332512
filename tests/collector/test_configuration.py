"""Configurations: what is right is taken, what is wrong is told with its line."""

import pytest

from yaffle.collector.collect import words_of
from yaffle.collector.configuration import read_configuration
from yaffle.collector.configuration_parts import duration_ns
from yaffle.collector.toml_lines import line_of
from yaffle.errors import YaffleError

WHOLE = """\
# what the ferry operator keeps
history = "harbourline-history"

[keep]
records = 14
readings = 100

[listen]
udp = [2055]
bind = "0.0.0.0"

[host]
every = "30s"
name = "pier-office"
"""


def written(tmp_path, text):
    path = tmp_path / "collector.toml"
    path.write_text(text)
    return path


def test_a_whole_one(tmp_path):
    told = read_configuration(written(tmp_path, WHOLE))
    assert told.history == str(tmp_path / "harbourline-history")
    assert told.keep == {"records": 14, "readings": 100}
    assert (told.listen.udp, told.listen.tcp, told.listen.bind) == ((2055,), (), "0.0.0.0")
    assert (told.host.every, told.host.name) == (30 * 10**9, "pier-office")


def test_check_says_what_would_be_done_and_makes_nothing(tmp_path):
    words = words_of(written(tmp_path, WHOLE))
    assert any("records 14 days" in line and "counters 400 days" in line for line in words)
    assert "listen: listens on 0.0.0.0: UDP 2055" in words
    assert any("every 30.0 s, as pier-office" in line for line in words)
    assert [path.name for path in tmp_path.iterdir()] == ["collector.toml"]


def test_nothing_to_collect_is_said(tmp_path):
    assert "collects nothing" in words_of(written(tmp_path, 'history = "h"\n'))[-1]


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ("", 1, r"history: missing"),
        ("history = 7", 1, r"history: found 7; expected: .*string"),
        ('history = ""', 1, r"history: found ''"),
        ('history = "h"\nhistroy = "h"', 2, r"histroy: this key is not known; these are: history, keep, listen, host"),
        ('history = "h"\n[host]\nevery = "10"', 3, r"host.every: found '10'; expected: a duration with its unit"),
        ('history = "h"\n[host]\nevery = "100ms"', 3, r"host.every: found '100ms'; expected: a duration from 1s"),
        ('history = "h"\n[host]\n\n# seldom\nevery = 10', 5, r"host.every: found 10; expected: a duration"),
        ('history = "h"\n[host]\nevery="2d"', 3, r"host.every: found '2d'; expected: a duration from 1s to 1d"),
        ('history = "h"\n[host]\nsokets = true', 3, r"host.sokets: this key is not known; these are: every, name"),
        ('history = "h"\n[listen]\nudp = ["x"]', 3, r"listen.udp.0: found 'x'; expected: .*integer"),
        ('history = "h"\n[listen]\nudp = [70000]', 3, r"listen.udp.0: found 70000; expected: .*65535"),
        ('history = "h"\n[listen]\nbind = "here"', 3, r"listen.bind: found 'here'; expected: an address of this host"),
        ('history = "h"\n[listen]\nudp = []', 2, r"listen: found .*; expected: at least one port"),
        ('history = "h"\n[keep]\nrecords = 0', 3, r"keep.records: found 0; expected: .*greater than 0"),
        (
            'history = "h"\n[keep]\nyears = 3',
            2,
            r"keep: found .*; expected: one of records, .*readings, addresses \(not years\)",
        ),
        ('history = "h"\n[host\nevery = 1', 2, r"this is no TOML"),
        ('history = "h"\nhistory = "i"', 2, r"this is no TOML"),
    ],
)
def test_mistakes_are_told_with_their_line(tmp_path, text, line, words):
    path = written(tmp_path, text)
    with pytest.raises(YaffleError, match=rf"^{path}:{line}: {words}"):
        read_configuration(path)


def test_all_mistakes_are_told_at_once(tmp_path):
    with pytest.raises(YaffleError) as told:
        read_configuration(written(tmp_path, 'history = 1\n[host]\nevery = "x"\n'))
    assert len(str(told.value).splitlines()) == 2


def test_what_is_not_there_or_no_text(tmp_path):
    with pytest.raises(YaffleError, match="No such file"):
        read_configuration(tmp_path / "nowhere.toml")
    (tmp_path / "binary.toml").write_bytes(b"\xff\xfe\x00")
    with pytest.raises(YaffleError, match="cannot be read"):
        read_configuration(tmp_path / "binary.toml")


@pytest.mark.parametrize(
    ("text", "ns"), [("10s", 10**10), ("1.5 s", 15 * 10**8), ("500ms", 5 * 10**8), ("2h", 7200 * 10**9)]
)
def test_durations(text, ns):
    assert duration_ns(text) == ns


def test_lines_of_arrays_of_tables_and_quoted_keys():
    text = '[[probe]]\nname = "a"\n[[probe]]\n"name" = "b"\na . b = 1\n[probe.deep]\nx = 1\n'
    assert line_of(text, ("probe", 0, "name")) == 2
    assert line_of(text, ("probe", 1, "name")) == 4
    assert line_of(text, ("probe", 1, "a", "b")) == 5
    assert line_of(text, ("probe", 1, "lacking")) == 3
    assert line_of(text, ("lacking",)) == 1
