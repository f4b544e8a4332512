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
        (
            'history = "h"\nhistroy = "h"',
            2,
            r"histroy: this key is not known; these are: history, store, keep, listen, host",
        ),
        ('history = "h"\n[host]\nevery = "10"', 3, r"host.every: found '10'; expected: a duration with its unit"),
        ('history = "h"\n[host]\nevery = "100ms"', 3, r"host.every: found '100ms'; expected: a duration from 1s"),
        ('history = "h"\n[host]\n\n# seldom\nevery = 10', 5, r"host.every: found 10; expected: a duration"),
        ('history = "h"\n[host]\nevery="2d"', 3, r"host.every: found '2d'; expected: a duration from 1s to 1d"),
        ('history = "h"\n[host]\nsokets = true', 3, r"host.sokets: this key is not known; these are: every, name"),
        ('history = "h"\n[listen]\nudp = ["x"]', 3, r"listen.udp.0: found 'x'; expected: .*integer"),
        ('history = "h"\n[listen]\nudp = [70000]', 3, r"listen.udp.0: found 70000; expected: .*65535"),
        ('history = "h"\n[listen]\nbind = "here"', 3, r"listen.bind: found 'here'; expected: an address of this host"),
        ('history = "h"\n[listen]\nudp = []', 2, r"listen: found .*; expected: at least one port"),
        ('history = "h"\n[keep]\nrecords = 0', 2, r"keep: found .*; expected: a day at least of records"),
        (
            'history = "h"\n[keep]\nyears = 3',
            2,
            r"keep: found .*; expected: one of records, .*probes_1day \(not years\)",
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


_DEVICE = 'history = "h"\n[[device]]\naddress = "192.0.2.7"\n'


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        (_DEVICE, 2, r"device\.0: expected: community, community_file or community_env, with version 2c"),
        (f'{_DEVICE}version = "3"\n', 2, r"device\.0: expected: user, with version 3"),
        (f'{_DEVICE}version = "3"\nuser = "a"\nauth = "hush"\n', 2, r"expected: auth of at least 8 characters"),
        (f'{_DEVICE}version = "4"\n', 4, r"device\.0\.version: found '4'; expected: .*'1', '2c' or '3'"),
        (f"{_DEVICE}community = 5\n", 4, r"device\.0\.community: expected"),
        (f'{_DEVICE}community = "quay"\ntables = ["arp"]\n', 5, r"some of interfaces, .* \(not arp\)"),
        (f'{_DEVICE}community = "quay"\n[device.ssh]\nuser = "a"\ntexts = {{}}\n', 7, r"device\.0\.ssh\.texts"),
        (f'{_DEVICE}community = "quay"\n[device.ssh]\nuserr = "a"\n', 6, r"userr: this key is not known; these are: "),
        (
            f'{_DEVICE}community = "quay"\n[[device]]\naddress = "192.0.2.7"\ncommunity = "quay"\n',
            2,
            "stands there twice",
        ),
        ('history = "h"\n[[capture]]\ninterface = "lo"\n', 2, r"capture\.0\.ring: missing"),
        ('history = "h"\n[[capture]]\ninterface = "lo"\nring = "r"\nhosts = ["pier"]\n', 5, "pier: this is no address"),
        ('history = "h"\n[[capture]]\ninterface = "lo"\nring = "r"\nlimit_bytes = 5\n', 5, "an amount with its unit"),
        ('history = "h"\n[[capture]]\ninterface = "lo"\nring = "r"\nlimit_time = "soon"\n', 5, "a duration"),
        ('history = "h"\n[host]\nexport = "192.0.2.9:4739"\n', 3, r'found .*; expected: where to, as "udp://'),
        ('history = "h"\n[host]\nexport = "udp://192.0.2.9:4739"\nsockets = false\n', 2, "sockets = true"),
    ],
)
def test_mistakes_in_devices_are_told_without_secrets(tmp_path, text, line, words):
    with pytest.raises(YaffleError, match=rf":{line}: .*{words}") as told:
        read_configuration(written(tmp_path, text))
    assert "hush" not in str(told.value) and "quay" not in str(told.value)


def test_secrets_stand_in_files_of_their_own_or_in_the_environment(tmp_path, monkeypatch):
    file = tmp_path / "community"
    file.write_text("quay\n")
    file.chmod(0o644)
    device = read_configuration(written(tmp_path, f'{_DEVICE}community_file = "{file}"\n')).device[0]
    with pytest.raises(YaffleError, match="chmod 600"):
        device.credentials()
    file.chmod(0o600)
    assert device.credentials().community == "quay"
    device = read_configuration(written(tmp_path, f'{_DEVICE}community_env = "QUAY_SECRET"\n')).device[0]
    with pytest.raises(YaffleError, match="the environment has no QUAY_SECRET"):
        device.credentials()
    monkeypatch.setenv("QUAY_SECRET", "mole")
    assert device.credentials().community == "mole"


def test_files_are_from_the_configuration_s_folder(tmp_path, monkeypatch):
    (tmp_path / "quay").write_text("mole")
    (tmp_path / "quay").chmod(0o600)
    text = f'{_DEVICE}community_file = "quay"\n[device.ssh]\nuser = "a"\nkey_file = "key"\ntexts = {{ t = "show" }}\n'
    path = written(tmp_path, text)
    monkeypatch.chdir("/")
    device = read_configuration(path).device[0]
    assert device.credentials().community == "mole"
    assert device.ssh.key_file == str(tmp_path / "key") and device.ssh.known_hosts.endswith("/.ssh/known_hosts")
    assert "~" not in device.ssh.known_hosts and device.ssh.password_file == ""


def test_a_secret_that_cannot_be_had_is_told_beforehand(tmp_path):
    path = written(tmp_path, f'{_DEVICE}community_file = "{tmp_path}/none"\n')
    assert any("not yet possible: 192.0.2.7: community: " in line for line in words_of(path))


def test_a_file_with_secrets_that_others_can_read_is_told(tmp_path):
    path = written(tmp_path, f'{_DEVICE}community = "quay"\n')
    path.chmod(0o644)
    assert any("chmod 600" in line for line in words_of(path)) and not any("quay" in line for line in words_of(path))
    path.chmod(0o600)
    assert not any("chmod" in line for line in words_of(path))
