"""The map of the demo morning, and where its places stand: never one over another, whatever the user moved."""

import itertools
import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yaffle.session.focus import Focus
from yaffle.session.investigation import Investigation, Opened
from yaffle.session.kept import Kept
from yaffle.session.map_edits import BY_HAND, Drawn, Placed
from yaffle.session.map_layout import HEIGHT, WIDTH, laid_out
from yaffle.session.map_services import with_services
from yaffle.session.map_view import (
    CLIENTS,
    DEVICE,
    EDGE,
    HURT,
    POINT,
    SERVERS,
    SERVICE,
    WAITED,
    WORN,
    Link,
    MapPicture,
    Place,
    map_picture,
)


@pytest.fixture(scope="module")
def model(analysed_morning):
    found = Investigation()
    found.open(Opened(analysed_morning))
    return found


def test_the_morning_has_its_sites_points_and_routers(model, morning):
    picture = map_picture(model.scene)
    kinds = {
        kind: sorted(p.label for p in picture.places if p.kind == kind) for kind in (CLIENTS, POINT, DEVICE, SERVERS)
    }
    assert kinds[CLIENTS] == ["Isle of Wren", "Northpoint", "Quay House", "Saltmarsh"]
    assert (kinds[POINT], kinds[DEVICE]) == ([], [])  # All of them stand at a site.
    witnesses = {p.label: p.witnesses for p in picture.places if p.kind == EDGE}
    assert witnesses == {
        "Isle of Wren": ("isle-of-wren.pcapng", "isle-of-wren-router"),
        "Quay House": ("quay-house-data-centre.pcapng", "quay-house-router"),
        "Saltmarsh": ("saltmarsh.pcapng", "saltmarsh-router"),
    }
    assert kinds[SERVERS] == ["Quay House"]
    links = {link.key: link for link in picture.links}
    wren = links["edge: Isle of Wren", "edge: Quay House"]
    assert wren.state == HURT
    lost = json.loads((morning[0].parent / "truth.json").read_text())["lost_packets"]
    assert [label[0] for label in wren.labels] == ["→", "←"]
    assert all(label.endswith(" % lost") for label in wren.labels)
    assert f"lost {lost['up']} of" in wren.words
    assert f"lost {lost['down']} of" in wren.words
    assert "flow records" in wren.words
    salt = links["edge: Saltmarsh", "edge: Quay House"]
    assert (salt.state, "EF becomes CS0, default" in salt.words) == (WORN, True)
    name, stations = next(f for f in picture.flows if f[0] == "Isle of Wren → ticket desk")
    assert stations == [
        "clients: Isle of Wren",
        "edge: Isle of Wren",
        "edge: Quay House",
        "servers: Quay House",
    ]
    assert all(pair in links for pair in itertools.pairwise(stations)), name


def test_the_map_moves_with_the_period(model):
    first = model.evidence.first_ns
    model.look(Focus((first, first + 120 * 10**9)))  # Before the rain.
    picture = map_picture(model.scene)
    wren = next(link for link in picture.links if link.key == ("edge: Isle of Wren", "edge: Quay House"))
    assert wren.state != HURT
    model.look(Focus())


def boxes_apart(layout):
    return all(
        abs(layout.at[a.key][0] - layout.at[b.key][0]) >= WIDTH
        or abs(layout.at[a.key][1] - layout.at[b.key][1]) >= HEIGHT
        for a, b in itertools.combinations(layout.places, 2)
    )


keys = st.integers(0, 11).map(lambda n: f"{(CLIENTS, POINT, DEVICE, SERVERS)[n % 4]}: {n}")


@given(
    st.sets(keys, min_size=1),
    st.lists(st.tuples(keys, keys), max_size=30),
    st.none() | st.tuples(keys, st.integers(0, 1200), st.integers(0, 900)),
)
def test_no_place_stands_over_another(names, pairs, moved):
    places = [Place(key, key, key.partition(":")[0]) for key in sorted(names)]
    picture = MapPicture(places, [Link(a, b) for a, b in dict.fromkeys(pairs) if a in names and b in names and a != b])
    placed = (Placed(moved[0], x=moved[1], y=moved[2]),) if moved is not None and moved[0] in names else ()
    layout = laid_out(picture, placed)
    assert {p.key for p in layout.places} == names
    assert boxes_apart(layout)
    for one in placed:
        assert layout.at[one.key] == (one.x, one.y)


def test_what_the_user_changed_is_on_the_map_and_in_the_case():
    picture = MapPicture(
        [Place("clients: a", "a", CLIENTS), Place("point: p", "p", POINT)], [Link("clients: a", "point: p")]
    )
    placed = (Placed("clients: a", label="boarding"), Placed("point: p", hidden=1), Placed(BY_HAND + "mast"))
    drawn = (Drawn("clients: a", BY_HAND + "mast", "radio"), Drawn("clients: a", "point: p"))
    layout = laid_out(picture, placed, drawn)
    assert [(p.label, p.kind) for p in layout.places] == [("boarding", CLIENTS), ("mast", "by hand")]
    assert [(link.key, link.words) for link in layout.links] == [(("clients: a", BY_HAND + "mast"), "radio")]
    assert layout.hidden == 1
    kept = Kept(placed=placed, drawn=drawn)
    assert Kept.from_json(kept.as_json()) == kept


def test_the_map_shows_which_service_waits_for_which(model):
    picture = with_services(model.scene, map_picture(model.scene))
    services = {place.label: place for place in picture.places if place.kind == SERVICE}
    assert set(services) == {"ticket desk", "timetable.harbourline.example", "ticket database"}
    desk = next(link for link in picture.links if link.one == "service: ticket desk")
    assert (desk.two, desk.state) == ("service: ticket database", WAITED)
    assert float(desk.labels[0].partition(" %")[0]) > 80  # of its time: the lock
    quick = next(link for link in picture.links if link.one == services["timetable.harbourline.example"].key)
    assert float(quick.labels[0].partition(" %")[0]) < 20
    assert ("servers: Quay House", "service: ticket desk") in {link.key for link in picture.links}
    _, stations = next(f for f in picture.flows if f[0] == "Northpoint → ticket desk")
    assert stations[-2:] == ["service: ticket desk", "service: ticket database"]
    layout = laid_out(picture)
    x = {place.key: layout.at[place.key][0] for place in layout.places}
    assert x["servers: Quay House"] < x["service: ticket desk"] < x["service: ticket database"]


def test_a_period_before_the_lock_shows_little_waiting(model):
    first = model.evidence.first_ns
    model.look(Focus((first, first + 600 * 10**9)))
    picture = with_services(model.scene, map_picture(model.scene))
    desk = next(link for link in picture.links if link.one == "service: ticket desk")
    assert float(desk.labels[0].partition(" %")[0]) < 60
    model.look(Focus())
