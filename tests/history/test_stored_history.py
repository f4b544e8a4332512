"""A history in a store: put there by several collectors, read from there as a whole."""

import json
import re
import shutil
import time

import numpy as np
import pytest

from tests.cluster.object_store import fetch_to, server, store  # noqa: F401  (the fixtures)
from tests.history.test_history import HOUR_NS, START, Clock, S, filled, told
from yaffle.errors import YaffleError
from yaffle.history.layout import LEVELS, RECORDS, HistoryError, branches
from yaffle.history.mirror import Mirror, mirror_at, mirrored
from yaffle.history.shipping import Shipper
from yaffle.history.store import History
from yaffle.history.stored import ABOUT, about_of, held_of, stored_at
from yaffle.history.writer import HistoryWriter
from yaffle.records.flow_table import Exporter

URL = "s3://ferries/kept"


@pytest.fixture
def clock():
    return Clock(START)


def shipper_of(writer, clock, **more):
    return Shipper(writer.folder, URL, writer.days, now_ns=clock, grace_s=0.0, **more)


def sizes(history):
    """What all ask a history first."""
    span = (history.first_ns, history.last_ns)
    top = history.top("host", *span, level=LEVELS[1]).to_pylist()
    _, octets = history.series(*span, LEVELS[2])
    return sum(one["octets"] for one in top), float(octets.sum())


def stored_names():
    import boto3

    return {one.key for one in boto3.resource("s3").Bucket("ferries").objects.all()}


def test_what_one_collector_wrote_is_read_from_the_store(store, clock, tmp_path):  # noqa: F811
    writer, total = filled(tmp_path / "own", clock)
    writer.tidy()
    shipper_of(writer, clock).ship([])
    own, there = History(tmp_path / "own"), History(mirrored(URL))
    assert (own.first_ns, own.last_ns) == (there.first_ns, there.last_ns)
    assert sizes(own) == sizes(there)
    everything = there.rows(0, 1 << 62, level=LEVELS[0]).records
    assert int(everything.rows["octets"].sum()) == total
    assert [one.address for one in everything.exporters] == [one.address for one in own.exporters]
    assert there.readings(0, 1 << 62).rows.size == own.readings(0, 1 << 62).rows.size
    assert there.days == own.days
    writer.close()


def test_two_collectors_number_their_exporters_alike_and_are_told_apart(store, clock, tmp_path):  # noqa: F811
    writers = []
    for k, name in enumerate(("north", "south")):
        writer = HistoryWriter(tmp_path / name, now_ns=clock, settle=False)
        clock.now_ns = START + HOUR_NS // 2
        found = told(k, clock.now_ns)
        found.exporters[:] = [Exporter(f"192.0.2.{k}{n}", 0, 2, interfaces={1: name}, records=5) for n in range(3)]
        found.counters.devices[:] = [f"switch-{name}"]
        writer.append(found)
        shipper_of(writer, clock).ship([])
        writers.append((writer, found))
    there = History(mirrored(URL))
    assert len(branches(there.folder)) == 2
    assert len({one.address for one in there.exporters}) == 6
    kept = there.rows(0, 1 << 62).records
    for writer, found in writers:
        for number, exporter in enumerate(found.exporters):
            own = found.rows["octets"][found.rows["exporter"] == number].sum()
            place = next(k for k, one in enumerate(kept.exporters) if one.address == exporter.address)
            assert kept.rows["octets"][kept.rows["exporter"] == place].sum() == own
        writer.close()
    readings = there.readings(0, 1 << 62)
    assert sorted(readings.devices) == ["switch-north", "switch-south"]
    for device, name in enumerate(readings.devices):
        assert readings.rows[readings.rows["device"] == device].size == 2
        assert readings.name(device, 4) == "north", name  # The name of its port.
    both = sum(int(found.rows["octets"].sum()) for _, found in writers)
    assert int(kept.rows["octets"].sum()) == both


def test_a_history_that_goes_on_is_followed(store, clock, tmp_path):  # noqa: F811
    writer, total = filled(tmp_path / "own", clock, hours=3)
    shipper = shipper_of(writer, clock)
    writer.gather()
    shipper.ship(writer.changed())
    there = History(mirrored(URL))
    assert int(there.rows(0, 1 << 62, level=LEVELS[0]).records.rows["octets"].sum()) == total
    for k in range(6):
        clock.now_ns += 60 * S
        found = told(100 + k, clock.now_ns)
        writer.append(found)
        total += int(found.rows["octets"].sum())
        writer.gather()
        shipper.ship(writer.changed())
        assert there.refresh() or k
        assert int(there.rows(0, 1 << 62, level=LEVELS[0]).records.rows["octets"].sum()) == total
    clock.now_ns += 5 * HOUR_NS
    writer.tidy()
    shipper.ship(writer.changed())
    shipper.ship([])
    there.refresh()
    assert int(there.rows(0, 1 << 62, level=LEVELS[0]).records.rows["octets"].sum()) == total
    assert sizes(there) == sizes(History(tmp_path / "own"))
    # What was merged away is gone from the store, too.
    here = {
        f"by/{shipper.name}/{path.relative_to(writer.folder)}" for path in writer.folder.glob("records/*/*.parquet")
    }
    assert {name for name in stored_names_within() if "/records/" in name} == here
    writer.close()


def stored_names_within():
    return {name.removeprefix("kept/") for name in stored_names()}


def test_of_an_open_hour_few_files_are_put_there(store, clock, tmp_path):  # noqa: F811
    writer = HistoryWriter(tmp_path / "own", now_ns=clock, settle=False)
    shipper = shipper_of(writer, clock)
    clock.now_ns = START + S
    for k in range(40):
        clock.now_ns += S
        writer.append(told(k, clock.now_ns))
    writer.gather()
    shipper.ship(writer.changed())
    assert len([name for name in stored_names() if "/records/" in name]) == 1
    writer.close()


def test_a_store_that_is_away_loses_nothing(store, clock, tmp_path):  # noqa: F811
    writer, total = filled(tmp_path / "own", clock, hours=2)
    shipper = shipper_of(writer, clock)
    store.down = True
    with pytest.raises(YaffleError, match="the store failed"):
        shipper.ship(writer.changed())
    store.down, store.fails_every = False, 7
    shipper.ship([])  # Nothing was there yet: all is put there.
    store.fails_every = 0
    there = History(mirrored(URL))
    assert int(there.rows(0, 1 << 62, level=LEVELS[0]).records.rows["octets"].sum()) == total
    store.down = True
    there.refresh()
    trouble = mirror_at(there.folder).trouble
    assert re.match(r"what came since \d{4}-\d\d-\d\d \d\d:\d\d:\d\d is not here: s3://ferries/kept", trouble)
    time.sleep(1.1)
    there.refresh()
    assert mirror_at(there.folder).trouble == trouble  # Since it answered last.
    assert sizes(there)[0] > 0  # What is here is shown.
    writer.close()


def test_killed_between_files_and_their_list_the_store_holds_the_former_state(store, clock, tmp_path, monkeypatch):  # noqa: F811
    writer, total = filled(tmp_path / "own", clock, hours=1)
    shipper = shipper_of(writer, clock)
    shipper.ship([])
    found = told(500, clock.now_ns + S)
    clock.now_ns += S
    writer.append(found)

    def killed(*_):
        raise KeyboardInterrupt

    monkeypatch.setattr(shipper, "_write_lists", killed)
    with pytest.raises(KeyboardInterrupt):
        shipper.ship(writer.changed())
    there = History(mirrored(URL))
    assert int(there.rows(0, 1 << 62).records.rows["octets"].sum()) == total
    again = shipper_of(writer, clock)  # Begun anew: it finds what it put there.
    assert again.name == shipper.name
    again.ship([])
    there.refresh()
    assert int(there.rows(0, 1 << 62).records.rows["octets"].sum()) == total + int(found.rows["octets"].sum())
    writer.close()


def test_files_that_no_list_names_are_taken_away(store, clock, tmp_path):  # noqa: F811
    import boto3

    writer, _ = filled(tmp_path / "own", clock, hours=1)
    shipper = shipper_of(writer, clock)
    shipper.ship([])
    left = f"kept/{stored_at(shipper.name, 'records/2026-09-21T00')}/{1:020d}-{2:020d}.parquet"
    boto3.client("s3").put_object(Bucket="ferries", Key=left, Body=b"of a run that was killed")
    shipper_of(writer, clock).ship([])
    assert left not in stored_names()
    assert any("/records/" in name for name in stored_names())
    writer.close()


def test_the_store_keeps_what_the_machine_gives_up(store, clock, tmp_path):  # noqa: F811
    keep = {"records": 2, "1min": 2, "15min": 2, "1h": 2, "1day": 2, "counters": 2}
    writer = HistoryWriter(tmp_path / "own", keep, now_ns=clock, settle=False)
    shipper = Shipper(writer.folder, URL, writer.days | {"records": 30}, now_ns=clock, grace_s=0.0)
    clock.now_ns = START + HOUR_NS // 2
    found = told(1, clock.now_ns)
    writer.append(found)
    shipper.ship(writer.changed())
    clock.now_ns += 5 * 24 * HOUR_NS
    writer.tidy()
    shipper.ship(writer.changed())
    assert not list((tmp_path / "own" / RECORDS).glob("*/*"))
    there = History(mirrored(URL))
    assert there.rows(0, 1 << 62, level=LEVELS[0]).records.rows.size == found.rows.size
    assert there.days["records"] == 30
    clock.now_ns += 40 * 24 * HOUR_NS
    shipper.ship([])
    shipper.ship([])
    there.refresh()
    assert there.first_ns == 0
    assert not [name for name in stored_names() if name.endswith(".parquet")]
    writer.close()


def test_what_was_fetched_is_emptied_when_it_is_too_much(store, clock, tmp_path):  # noqa: F811
    writer, total = filled(tmp_path / "own", clock)
    shipper_of(writer, clock).ship([])
    folder = mirrored(URL)
    mirror = Mirror(folder, URL, most_bytes=200_000)
    files = sorted(folder.glob("by/*/records/*/*.parquet"))
    for path in files:
        mirror.bring([path])
        assert path.stat().st_size > 0
    held = sum(path.stat().st_size for path in files)
    assert held <= 200_000 < sum(path.stat().st_size for path in writer.folder.glob("records/*/*.parquet"))
    there = History(folder)
    assert int(there.rows(0, 1 << 62, level=LEVELS[0]).records.rows["octets"].sum()) == total  # Fetched again.
    writer.close()


def test_a_file_that_went_meanwhile_is_looked_for_once_more(store, clock, tmp_path):  # noqa: F811
    writer, total = filled(tmp_path / "own", clock, hours=2)
    shipper = shipper_of(writer, clock)
    shipper.ship([])
    there = History(mirrored(URL))
    clock.now_ns += 3 * HOUR_NS
    writer.tidy()  # Hours become one file each, and the others go.
    shipper.ship(writer.changed())
    shipper.ship([])
    assert int(there.rows(0, 1 << 62, level=LEVELS[0]).records.rows["octets"].sum()) == total
    writer.close()


@pytest.mark.parametrize(
    "content",
    [
        b"",
        b"[]",
        b'{"stamp": 1}',
        b'{"stamp": 1, "files": {"../../../etc/x": ["records/2026-09-21T00/1.parquet", 1, 1]}}',
        b'{"stamp": 1, "files": {"records/2026-09-21T00/sums.parquet": ["../../x.parquet", 1, 1]}}',
        b'{"stamp": 1, "files": {"secrets/2026-09-21T00/sums.parquet": ["a/2026-09-21T00/1.parquet", 1, 1]}}',
        b'{"stamp": 1, "files": {"records/2026-09-21T00/sums.parquet": 7}}',
        b"[" * 100_000,
    ],
)
def test_lists_that_name_anything_else_are_refused(content):
    with pytest.raises(HistoryError, match="damaged"):
        held_of("somewhere", content)


@pytest.mark.parametrize("content", [b"", b"{}", b'{"format": "yaffle-stored-history"}', b"[" * 100_000])
def test_what_is_no_stored_history_is_said_to_be_none(content):
    with pytest.raises(HistoryError, match=r"damaged|no history"):
        about_of("somewhere", content)


def test_a_damaged_collector_is_named(store, clock, tmp_path):  # noqa: F811
    import boto3

    writer, _ = filled(tmp_path / "own", clock, hours=1)
    shipper = shipper_of(writer, clock)
    shipper.ship([])
    key = f"kept/{stored_at(shipper.name, ABOUT)}"
    told_there = boto3.client("s3").get_object(Bucket="ferries", Key=key)["Body"].read()
    boto3.client("s3").put_object(Bucket="ferries", Key=key, Body=told_there[:-9])
    with pytest.raises(HistoryError, match=shipper.name):
        mirrored(URL)
    boto3.client("s3").put_object(
        Bucket="ferries", Key=key, Body=json.dumps({**json.loads(told_there), "version": 9}).encode()
    )
    with pytest.raises(HistoryError, match="another version"):
        mirrored(URL)
    writer.close()


def test_nothing_there(store):  # noqa: F811
    with pytest.raises(HistoryError, match="there is no history"):
        mirrored("s3://ferries/nothing")


def test_a_folder_that_all_see_is_a_store_too(clock, tmp_path, monkeypatch):
    fetch_to(tmp_path / "cache", monkeypatch)
    writer, total = filled(tmp_path / "own", clock, hours=2)
    url = f"file://{tmp_path}/shared/kept"
    shipper = Shipper(writer.folder, url, writer.days, now_ns=clock, grace_s=0.0)
    shipper.ship([])
    folder = mirrored(url)
    assert int(History(folder).rows(0, 1 << 62, level=LEVELS[0]).records.rows["octets"].sum()) == total
    writer.close()
    shutil.rmtree(folder)


def test_nobodys_number_changes(store, clock, tmp_path):  # noqa: F811
    """Names are numbered in the order they come, whatever collectors are called."""
    first, second = ("zebra", "aardvark")
    for k, name in enumerate((first, second)):
        (tmp_path / name).mkdir()
        (tmp_path / name / "branch.json").write_text(json.dumps({"name": name}))
        writer = HistoryWriter(tmp_path / name, now_ns=clock, settle=False)
        clock.now_ns = START + HOUR_NS // 2
        found = told(k, clock.now_ns)
        found.exporters[:] = [Exporter(f"192.0.2.{k}{n}", 0, 2) for n in range(3)]
        writer.append(found)
        shipper_of(writer, clock).ship([])
        there = History(mirrored(URL))
        before = [one.address for one in there.exporters]
        kept = there.rows(0, 1 << 62).records
        assert np.unique(kept.rows["exporter"]).size == 3 * (k + 1)
        writer.close()
    assert before[:3] == ["192.0.2.00", "192.0.2.01", "192.0.2.02"]


def test_who_told_is_known_before_what_they_told(store, clock, tmp_path, monkeypatch):  # noqa: F811
    """Somebody tells for the first time while files are being put there."""
    writer, _ = filled(tmp_path / "own", clock, hours=1)
    shipper = shipper_of(writer, clock)
    shipper.ship([])
    writer.append(told(7, clock.now_ns))
    as_usual, order = shipper._shipped, []

    def meanwhile(changed):
        found = told(8, clock.now_ns)
        found.exporters[:] = [Exporter("192.0.2.77", 0, 2) for _ in found.exporters]
        writer.append(found)
        return as_usual(changed)

    put = shipper._put
    monkeypatch.setattr(shipper, "_put", lambda name, content: (order.append(name), put(name, content)))
    monkeypatch.setattr(shipper, "_shipped", meanwhile)
    shipper.ship(writer.changed())
    assert [name.partition("/")[0] for name in order] == ["exporters.json", "held", "about.json"]
    there = History(mirrored(URL))
    assert "192.0.2.77" in {one.address for one in there.rows(0, 1 << 62).records.exporters}
    writer.close()


def test_what_is_given_up_while_it_is_looked_at_stays_in_the_store(store, clock, tmp_path, monkeypatch):  # noqa: F811
    writer, total = filled(tmp_path / "own", clock, hours=2)
    shipper = shipper_of(writer, clock)
    shipper.ship([])
    again = Shipper(writer.folder, URL, {"records": 3650}, now_ns=clock, grace_s=0.0)
    as_usual = again._folder

    def given_up(folder):
        clock.now_ns = START + 40 * 24 * HOUR_NS
        writer.tidy()
        return as_usual(folder)

    monkeypatch.setattr(again, "_folder", given_up)
    again.ship([])
    assert not list((tmp_path / "own" / RECORDS).iterdir())
    assert int(History(mirrored(URL)).rows(0, 1 << 62, level=LEVELS[0]).records.rows["octets"].sum()) == total
    writer.close()


def test_what_was_put_there_is_known_when_the_rest_fails(store, clock, tmp_path, monkeypatch):  # noqa: F811
    writer, total = filled(tmp_path / "own", clock, hours=6)
    monkeypatch.setattr("yaffle.history.shipping._AT_A_TIME", 2)
    shipper = shipper_of(writer, clock)
    as_usual, number = shipper._folder, [0]

    def fails(folder):
        number[0] += 1
        if number[0] > 5:
            raise YaffleError("the store failed")
        return as_usual(folder)

    monkeypatch.setattr(shipper, "_folder", fails)
    with pytest.raises(YaffleError, match="the store failed"):
        shipper.ship([])
    there = History(mirrored(URL))
    some = int(there.rows(0, 1 << 62, level=LEVELS[0]).records.rows["octets"].sum())
    assert 0 < some < total
    assert there.last_ns == History(tmp_path / "own").last_ns  # What is new came first.
    before = len(stored_names())
    shipper_of(writer, clock).ship([])
    there.refresh()
    assert int(there.rows(0, 1 << 62, level=LEVELS[0]).records.rows["octets"].sum()) == total
    assert len(stored_names()) > before
    writer.close()


def test_it_ends_when_there_is_no_time_and_goes_on_the_next_time(store, clock, tmp_path):  # noqa: F811
    writer, total = filled(tmp_path / "own", clock, hours=2)
    shipper = shipper_of(writer, clock)
    shipper.until_s = 0.0
    with pytest.raises(YaffleError, match="no time for all of it"):
        shipper.ship([])
    shipper_of(writer, clock).ship([])
    assert int(History(mirrored(URL)).rows(0, 1 << 62, level=LEVELS[0]).records.rows["octets"].sum()) == total
    writer.close()
