"""What another team gets: everything the report rests on, and the commands that give its figures again."""

import hashlib
import json
import re
import subprocess
import sys
import zipfile

import pytest

from yaffle.capture.masking import Masker
from yaffle.errors import Cancelled
from yaffle.session.bundle import MANIFEST, SUMS, WORDS, write_bundle
from yaffle.session.investigation import Opened
from yaffle.session.kept import Kept
from yaffle.session.reporting import report_page


def written(analysis, folder, masker=None):
    opened, kept = Opened(analysis), Kept()
    path = write_bundle(opened, kept, report_page(opened, kept, masker), folder / "b.zip", masker, lambda *_: True)
    with zipfile.ZipFile(path) as held:
        held.extractall(folder / "elsewhere")
    return folder / "elsewhere"


def value_at(path, content):
    if path == "number of exchanges":
        return len(content["exchanges"])
    key = re.fullmatch(r"sum of exchanges\[\]\.(\w+)", path).group(1)
    return sum(one[key] for one in content["exchanges"])


@pytest.fixture(scope="module")
def unpacked(analysed_morning, tmp_path_factory):
    return written(analysed_morning, tmp_path_factory.mktemp("bundle"))


def test_a_bundle_holds_what_its_manifest_says(unpacked):
    told = json.loads((unpacked / MANIFEST).read_text())
    assert told["format"] == "yaffle-bundle" and not told["masked"]
    names = {one["name"] for one in told["files"]}
    assert {"report.html", "report.pdf", "analysis.json", "exchanges.csv", "connections.csv"} <= names
    for one in told["files"]:
        data = (unpacked / one["name"]).read_bytes()
        assert (len(data), hashlib.sha256(data).hexdigest()) == (one["bytes"], one["sha256"])
    sums = subprocess.run(["sha256sum", "-c", SUMS], cwd=unpacked, capture_output=True, text=True, check=False)
    assert sums.returncode == 0, sums.stderr


def test_unpacked_elsewhere_its_commands_give_its_figures(unpacked):
    told = json.loads((unpacked / MANIFEST).read_text())["figures"]
    assert len({one["finding"] for one in told}) >= 3
    for command in dict.fromkeys(one["command"] for one in told):
        words = command.split()
        assert words[0] == "yaffle"
        done = subprocess.run(
            [sys.executable, "-m", "yaffle", *words[1:]], cwd=unpacked, capture_output=True, text=True, check=True
        )
        content = json.loads(done.stdout)
        for one in told:
            if one["command"] == command:
                assert value_at(one["path"], content) == pytest.approx(one["from_packets"], abs=1e-5)
                assert one["figure"] != "exchanges" or one["from_packets"] == one["in_report"]
    assert told[0]["command"] in (unpacked / WORDS).read_text()


def test_a_masked_bundle_names_nobody(analysed_morning, tmp_path):
    folder = written(analysed_morning, tmp_path, Masker(b"k" * 16))
    for file in folder.rglob("*"):
        if file.is_file() and file.suffix != ".pdf":
            data = file.read_bytes()
            for name in (b"harbourline", b"198.51.100.", b"203.0.113.", b"Saltmarsh", b"Northpoint"):
                assert name not in data, (file, name)


def test_a_bundle_that_is_stopped_leaves_nothing(analysed_morning, tmp_path):
    opened = Opened(analysed_morning)
    with pytest.raises(Cancelled):
        write_bundle(opened, Kept(), "<p>", tmp_path / "b.zip", None, lambda share, _words: share < 0.3)
    assert not list(tmp_path.iterdir())
