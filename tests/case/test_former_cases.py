"""Cases that former versions wrote open, and say what they said."""

import json
import tarfile
from pathlib import Path

import numpy as np
import pytest

from yaffle.analysis import analyse
from yaffle.capture.packets import MARK_FROM_B, Columns
from yaffle.case.columns import as_columns, as_matrix, read_columns, read_texts, write_columns
from yaffle.case.folder import VERSION, open_case, save_case
from yaffle.case.migrations import WITHOUT_BEHIND
from yaffle.errors import CaseError
from yaffle.findings.ranking import all_findings
from yaffle.texts import Texts

DATA = Path(__file__).parents[1] / "data"


@pytest.fixture
def of_version(tmp_path):
    """Gives a case of database statements as a former version wrote it. 9: columns by number, texts beside; 10: what
    heads say of packets beside them once more.
    """

    def unpacked(version):
        with tarfile.open(DATA / "cases" / f"version-{version}.tar.xz") as packed:
            packed.extractall(tmp_path)
        return tmp_path / f"version-{version}.yaffle"

    return unpacked


@pytest.fixture
def of_version_9(of_version):
    return of_version(9)


@pytest.fixture(scope="module")
def analysis():
    return analyse([DATA / "services" / "statements.pcap.gz"])


def same(one, other):
    assert np.array_equal(one.account.connection, other.account.connection)
    assert np.array_equal(one.account.connection_charges, other.account.connection_charges)
    assert np.array_equal(one.account.exchange, other.account.exchange)
    assert np.array_equal(one.account.exchange_charges, other.account.exchange_charges)
    assert one.messages.label == other.messages.label
    assert one.messages.outcome == other.messages.outcome
    assert one.messages.protocol == other.messages.protocol
    for name in Columns._fields:
        mine, theirs = (getattr(found.capture.packets, name) for found in (one, other))
        if name == "head":  # Ends stand either way round: which of them is the client, the directions tell.
            mine, theirs = (without_ends(column) for column in (mine, theirs))
        assert np.array_equal(mine, theirs), name


def without_ends(head):
    """The same, without which end sent each packet."""
    found = head.copy()
    found["marks"] &= MARK_FROM_B - 1
    return found


@pytest.mark.parametrize("version", [9, 10])
def test_a_case_of_a_former_version_opens_and_is_saved_as_the_present_one(of_version, version, analysis, tmp_path):
    former, _ = open_case(of_version(version))
    same(former, analysis)
    save_case(tmp_path / "again.yaffle", former, {})
    assert json.loads((tmp_path / "again.yaffle" / "manifest.json").read_text())["version"] == VERSION
    same(open_case(tmp_path / "again.yaffle")[0], analysis)


def test_a_case_of_version_8_opens_without_what_lies_behind(of_version_9):
    manifest = of_version_9 / "manifest.json"
    manifest.write_text(manifest.read_text().replace('"version": 9', f'"version": {WITHOUT_BEHIND}'))
    former, _ = open_case(of_version_9)
    assert former.behind.call.size == 0
    assert all_findings(former) is not None


@pytest.mark.parametrize("version", [WITHOUT_BEHIND - 1, VERSION + 1, "9", None])
def test_other_versions_are_named(of_version_9, version):
    manifest = of_version_9 / "manifest.json"
    manifest.write_text(manifest.read_text().replace('"version": 9', f'"version": {json.dumps(version)}'))
    with pytest.raises(CaseError, match="made by a"):
        open_case(of_version_9)


def test_columns_are_found_by_name_whatever_their_order(analysis, tmp_path):
    save_case(tmp_path / "a.yaffle", analysis, {})
    (exchanges,) = (tmp_path / "a.yaffle").rglob("exchanges.arrow")
    columns = read_columns(exchanges)
    columns = {name: values.copy() for name, values in reversed(columns.items())}
    write_columns(exchanges, columns, False, lambda _octets: None)
    same(open_case(tmp_path / "a.yaffle")[0], analysis)


def test_a_column_that_is_missing_is_named(analysis, tmp_path):
    save_case(tmp_path / "a.yaffle", analysis, {})
    (exchanges,) = (tmp_path / "a.yaffle").rglob("exchanges.arrow")
    columns = {name: values.copy() for name, values in read_columns(exchanges).items() if name != "answered_ns"}
    write_columns(exchanges, columns, False, lambda _octets: None)
    with pytest.raises(CaseError, match="answered_ns"):
        open_case(tmp_path / "a.yaffle")


def test_a_matrix_is_mapped_not_copied(tmp_path):
    names, matrix = ("one", "two", "three"), np.arange(30, dtype=np.int64).reshape(3, 10).T
    write_columns(tmp_path / "m.arrow", as_columns(names, matrix), False, lambda _octets: None)
    columns = read_columns(tmp_path / "m.arrow")
    found = as_matrix(names, columns)
    assert np.array_equal(found, matrix)
    assert np.shares_memory(found, columns["two"])
    assert found.flags.f_contiguous
    assert np.array_equal(as_matrix(("three", "one"), columns), matrix[:, [2, 0]])


@pytest.mark.parametrize("rows", [1, 1 << 17, (1 << 17) + 5, 3 << 17])
def test_what_is_nil_takes_no_room_on_the_disk(tmp_path, rows):
    nil, late, some = np.zeros(rows, np.int64), np.zeros(rows, np.int64), np.arange(1, rows + 1)
    late[-1] = 7
    write_columns(tmp_path / "n.arrow", {"nil": nil, "some": some, "late": late}, True, lambda _octets: None)
    found = read_columns(tmp_path / "n.arrow")
    for name, wanted in {"nil": nil, "some": some, "late": late}.items():
        assert np.array_equal(found[name], wanted), name
    kept = (tmp_path / "n.arrow").stat()
    if rows == 3 << 17:
        assert kept.st_blocks * 512 < kept.st_size - 4 * (1 << 20)  # two thirds were nil, all but their edges


def test_texts_as_they_were(tmp_path):
    texts = Texts.of(["GET /fähre", "", "one\ntwo", "\udc80 broken", "日本"])
    assert texts[3] == "\\udc80 broken"
    write_columns(tmp_path / "t.arrow", {"label": texts}, False, lambda _octets: None)
    assert read_texts(tmp_path / "t.arrow")["label"] == texts
    assert texts[1:3] == ["", "one\ntwo"]
    assert texts[-1] == "日本"
    assert list(texts[::-2]) == ["日本", "one\ntwo", "GET /fähre"]
    assert Texts.joined([texts[3:], texts[:2]]) == [*texts[3:], *texts[:2]]
    write_columns(tmp_path / "t.arrow", {"label": texts[1:4]}, False, lambda _octets: None)
    assert read_texts(tmp_path / "t.arrow")["label"] == texts[1:4]
    with pytest.raises(IndexError):
        texts[5]


def test_texts_that_point_outside_are_refused():
    with pytest.raises(ValueError, match="outside"):
        Texts(np.array([0, 4, 2]), np.zeros(4, np.uint8))
    with pytest.raises(ValueError, match="outside"):
        Texts(np.array([0, 9]), np.zeros(4, np.uint8))
