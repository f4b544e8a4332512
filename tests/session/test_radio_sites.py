"""Where access points and stations are: by names that the user gave, by addresses; sites on the air, worst first."""

import gzip
import json
from pathlib import Path

import pytest

from yaffle.analysis import analyse
from yaffle.demo.pier_air import make_pier_air
from yaffle.inventory.places import Places, Site
from yaffle.session.investigation import Investigation, Opened
from yaffle.session.kept import Kept
from yaffle.session.radio_sites import radio_sites
from yaffle.session.radio_view import radio_picture

DATA = Path(__file__).parent.parent / "data" / "radio"


def test_the_narrowest_beginning_of_an_access_points_address_counts():
    sites = (Site("Saltmarsh", "02:4a:00"), Site("pier head", "02-4A-00-00-00-30"), Site("x", "198.51.100.0/24"))
    places = Places({}, sites=sites)
    assert places.radio_site("02:4a:00:00:00:10") == "Saltmarsh"
    assert places.radio_site("02:4a:00:00:00:30") == "pier head" and places.radio_site("02:4b:00:00:00:30") == ""
    assert places.site("198.51.100.3") == "x"


@pytest.mark.parametrize("wrong", ["02", "02:4a:00:00:00:00:00", "2:4a", "02:4g"])
def test_what_is_neither_range_nor_hardware_is_refused(wrong):
    with pytest.raises(ValueError, match="not appear to be"):
        _ = Site("x", wrong).range


def test_sites_by_addresses_of_stations_in_open_frames(tmp_path):
    path = tmp_path / "bare.pcapng"
    path.write_bytes(gzip.decompress((DATA / "bare.pcapng.gz").read_bytes()))
    analysis = analyse([path])
    truth = json.loads((DATA / "bare.json").read_text())
    clients = {one["client"].rpartition(":")[0] for one in truth["connections"]}
    site = Site("campus", f"{min(clients).rpartition('.')[0]}.0/24")
    found = radio_sites(analysis, Places({}, sites=(site,)))
    assert analysis.radio.held.carried
    for number in analysis.radio.held.carried.values():
        assert found.of_station[number]
    assert "campus" in found.of_station.values() and "campus" in found.of_point.values()


def test_sites_worst_first_and_named_by_the_user(tmp_path):
    work = Investigation()
    analysis = analyse([make_pier_air(tmp_path / "air.pcapng")])
    work.open(Opened(analysis))
    picture = radio_picture(work.scene)
    assert [one.site for one in picture.sites] == [""] and picture.sites[0].stations == 4
    kept = Kept(sites=(Site("Saltmarsh", "02:4a:00:00:00"), Site("pier head", "02:4a:00:00:00:30")))
    work.open(Opened(analysis, memory=kept.as_json()))
    picture = radio_picture(work.scene)
    assert [one.site for one in picture.sites] == ["Saltmarsh", "pier head"]
    assert picture.sites[0].failures == sum(len(row.failures) for row in picture.stations) > 0
    assert sum(one.access_points for one in picture.sites) == 3 and picture.sites[1].stations == 3
    assert all(0 <= one.retries <= 100 and one.signal_dbm < 0 and one.busy_percent > 0 for one in picture.sites)
    assert sum(one.moves for one in picture.sites) == sum(len(row.roams) for row in picture.stations)
    assert {row.site for row in picture.stations} <= {"Saltmarsh", "pier head"}
