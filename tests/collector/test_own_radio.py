"""This host's links on the air, from messages as a kernel sends them (nl80211)."""

import pytest
from pyroute2.netlink.nl80211 import nl80211cmd

from yaffle.collector.own_radio import RadioWatch, link_of, own_links, wireless
from yaffle.records.host_measures import RADIO_LINK

POINT, OTHER = "02:4a:00:00:00:10", "02:4a:00:00:00:20"
S0 = 1_795_000_000 * 10**9


def message(point, figures):
    """A station as the kernel tells it, packed and read again."""
    sent = nl80211cmd()
    sent["attrs"] = [["NL80211_ATTR_MAC", point], ["NL80211_ATTR_STA_INFO", {"attrs": [
        [f"NL80211_STA_INFO_{name}", value] for name, value in figures.items()]}]]  # fmt: skip
    sent.encode()
    read = nl80211cmd(sent.data)
    read.decode()
    return read


def told(point=POINT, signal=-56):
    rate = {"attrs": [["NL80211_RATE_INFO_BITRATE", 1733], ["NL80211_RATE_INFO_BITRATE32", 8666]]}
    slow = {"attrs": [["NL80211_RATE_INFO_BITRATE", 65]]}
    return message(point, {"SIGNAL_AVG": signal, "TX_BITRATE": rate, "RX_BITRATE": slow, "TX_PACKETS": 4711,
                           "TX_RETRIES": 512, "TX_FAILED": 3})  # fmt: skip


def test_a_link_is_read_with_its_units():
    link = link_of("wlan0", [told()])
    assert link.point == POINT
    assert link.figures == {"SIGNAL_AVG": -56, "TX_BITRATE": 866.6, "RX_BITRATE": 6.5, "TX_PACKETS": 4711,
                            "TX_RETRIES": 512, "TX_FAILED": 3}  # fmt: skip
    assert {one.object for one in link.readings()} == {"wlan0"}
    assert {one.measure for one in link.readings()} == {one for one in RADIO_LINK if one.kernel != "BEACON_LOSS"}


def test_another_access_point_is_told_when_it_changes():
    watch = RadioWatch("tablet")
    first = watch.told([link_of("wlan0", [told()])], S0)
    assert first["texts"]["text"].to_pylist() == [POINT] and first["readings"].num_rows == 6
    assert "texts" not in watch.told([link_of("wlan0", [told(signal=-70)])], S0 + 1)
    assert watch.told([link_of("wlan0", [told(OTHER)])], S0 + 2)["texts"]["text"].to_pylist() == [OTHER]
    assert watch.told([link_of("wlan0", [])], S0 + 3)["texts"]["text"].to_pylist() == ["none"]


def test_hosts_without_radio_are_not_asked(tmp_path):
    assert wireless(tmp_path) == {} and own_links({}) == []
    assert RadioWatch("server", tmp_path).look(S0) == {}


def test_a_kernel_that_knows_no_radio_is_no_failure_of_the_rest(tmp_path):
    (tmp_path / "wlan7/phy80211").mkdir(parents=True)
    (tmp_path / "wlan7/ifindex").write_text("7\n")
    assert wireless(tmp_path) == {"wlan7": 7}
    watch = RadioWatch("server", tmp_path)
    if not wireless():  # Not on a machine that has one.
        assert watch.look(S0) == {} and watch.trouble


@pytest.mark.parametrize("point", ["", POINT])
def test_a_station_without_figures(point):
    bare = nl80211cmd()
    bare["attrs"] = [["NL80211_ATTR_MAC", point]] if point else []
    bare.encode()
    read = nl80211cmd(bare.data)
    read.decode()
    link = link_of("wlan0", [read])
    assert (link.point, link.figures) == (point, {}) and list(link.readings()) == []
