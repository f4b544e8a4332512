"""Where the places of a map stand: in columns from the clients to the servers, none over another; what the user moved
stays there.
"""

from collections import defaultdict
from dataclasses import dataclass, field, replace
from itertools import pairwise

from yaffle.session.map_edits import BY_HAND, Drawn, Placed
from yaffle.session.map_view import BY_HAND as DRAWN_KIND
from yaffle.session.map_view import CLIENTS, SERVERS, SERVICE, Link, MapPicture, Place

WIDTH, HEIGHT = 132, 44  # of a box
COLUMN, ROW = 246, 96  # from box to box
_MANY, _NARROW = 5, 204  # with more columns than so many, from one to the next
_ROUNDS = 8


@dataclass
class Layout:
    """What is drawn: places with their upper left corners, and links between them."""

    places: list[Place] = field(default_factory=list)
    at: dict[str, tuple[int, int]] = field(default_factory=dict)
    links: list[Link] = field(default_factory=list)
    bends: dict[tuple[str, str], list[tuple[int, int]]] = field(
        default_factory=dict
    )  # of links that pass columns between: where they do
    hidden: int = 0


def laid_out(picture: MapPicture, placed: tuple[Placed, ...] = (), drawn: tuple[Drawn, ...] = ()) -> Layout:
    """The map with the user's changes."""
    by_key = {one.key: one for one in placed}
    found = Layout()
    for place in picture.places:
        mine = by_key.get(place.key)
        if mine is not None and mine.hidden:
            found.hidden += 1
            continue
        found.places.append(replace(place, label=mine.label if mine is not None and mine.label else place.label))
    known = {place.key for place in picture.places}
    found.places += [
        Place(one.key, one.label or one.key.removeprefix(BY_HAND), DRAWN_KIND)
        for one in placed
        if one.key.startswith(BY_HAND) and not one.hidden and one.key not in known
    ]
    shown = {place.key for place in found.places}
    found.links = [link for link in picture.links if link.one in shown and link.two in shown]
    told = {link.key for link in found.links}
    found.links += [
        Link(one.one, one.two, words=one.words or "drawn by hand", labels=(one.words,) if one.words else ())
        for one in drawn
        if {one.one, one.two} <= shown and (one.one, one.two) not in told
    ]
    found.at, found.bends = _columns(found.places, found.links)
    taken = {key: (one.x, one.y) for key, one in by_key.items() if key in shown and one.x >= 0 and one.y >= 0}
    for key, corner in taken.items():
        found.at[key] = corner
    found.bends = {link: corners for link, corners in found.bends.items() if not set(link) & set(taken)}
    for key in sorted(shown - set(taken)):  # Whoever was not moved makes way for who was.
        x, y = found.at[key]
        while any(
            abs(x - ox) < WIDTH + 8 and abs(y - oy) < HEIGHT + 8
            for other, (ox, oy) in found.at.items()
            if other != key and other in taken
        ):
            y += HEIGHT + 12
        found.at[key] = (x, y)
    _apart(found, taken)
    return found


def _apart(layout: Layout, taken: dict[str, tuple[int, int]]) -> None:
    """Moves down what still lies over another, as long as the user did not put it there."""
    settled: list[tuple[int, int]] = list(taken.values())
    for key in sorted(
        (p.key for p in layout.places if p.key not in taken), key=lambda k: (layout.at[k][0], layout.at[k][1], k)
    ):
        x, y = layout.at[key]
        while any(abs(x - ox) < WIDTH + 8 and abs(y - oy) < HEIGHT + 8 for ox, oy in settled):
            y += HEIGHT + 12
        layout.at[key] = (x, y)
        settled.append((x, y))


def _ranks(places: list[Place], links: list[Link]) -> dict[str, int]:
    """The column of each place: as many links as lie before it on the longest way from the clients; servers in the
    last, and behind these their services.
    """
    kinds = {place.key: place.kind for place in places}
    services = {key for key, kind in kinds.items() if kind == SERVICE}
    ranks = _longest_ways({key: 0 for key in kinds if key not in services}, links)
    top = max(ranks.values(), default=0)
    linked = {key for link in links for key in link.key}
    for key, kind in kinds.items():
        if kind == SERVERS:
            ranks[key] = max(1, top)
        elif kind == CLIENTS or (key not in linked and kind not in (DRAWN_KIND, SERVICE)):
            ranks[key] = 0 if kind == CLIENTS else max(1, top // 2)
    last = max(ranks.values(), default=0)
    return ranks | _longest_ways({key: last + 1 for key in services}, links)


def _longest_ways(ranks: dict[str, int], links: list[Link]) -> dict[str, int]:
    """How many of these places lie before each on the longest way to it, from where they begin; circles end."""
    most = max(ranks.values(), default=0) + len(ranks)
    inside = [link.key for link in links if link.one in ranks and link.two in ranks]
    for _ in range(len(ranks)):
        moved = False
        for one, two in inside:
            if ranks[two] < ranks[one] + 1 < most:
                ranks[two], moved = ranks[one] + 1, True
        if not moved:
            break
    return ranks


def _columns(
    places: list[Place], links: list[Link]
) -> tuple[dict[str, tuple[int, int]], dict[tuple[str, str], list[tuple[int, int]]]]:
    """Corners by column, and the bends of links that pass columns between.

    Within a column places are ordered so that links cross little (barycentre of the neighbors, a few rounds; Sugiyama,
    Tagawa and Toda 1981); a link that passes a column has a place of its own there.
    """
    ranks = _ranks(places, links)
    columns: dict[int, list[str]] = defaultdict(list)
    for place in places:
        columns[ranks[place.key]].append(place.key)
    beside: dict[str, list[str]] = defaultdict(list)
    passing: dict[tuple[str, str], list[str]] = {}
    for link in links:
        low, high = sorted(link.key, key=lambda key: ranks[key])
        between = [f"{link.key} at {rank}" for rank in range(ranks[low] + 1, ranks[high]) if rank in columns]
        for name, rank in zip(between, (r for r in range(ranks[low] + 1, ranks[high]) if r in columns), strict=True):
            columns[rank].append(name)
        if between:
            passing[link.key] = between
        for one, two in pairwise([low, *between, high]):
            beside[one].append(two)
            beside[two].append(one)
    tallest = max((len(own) for own in columns.values()), default=1)
    y = {key: (k + 0.5) * tallest / len(own) for own in columns.values() for k, key in enumerate(own)}
    for number in range(_ROUNDS):
        for rank in sorted(columns, reverse=bool(number % 2)):
            own = columns[rank]
            own.sort(key=lambda key: sum(y[b] for b in beside[key]) / len(beside[key]) if beside[key] else y[key])
            for k, key in enumerate(own):
                y[key] = (k + 0.5) * tallest / len(own)
    order = sorted(columns)
    pitch = COLUMN if len(order) <= _MANY else _NARROW
    at = {
        key: (20 + order.index(rank) * pitch, round(20 + (y[key] - 0.5) * ROW))
        for rank, own in columns.items()
        for key in own
    }
    boxes = {place.key for place in places}
    bends = {
        link: [(at[name][0] + x, at[name][1] + HEIGHT // 2) for name in names for x in (0, WIDTH)]
        for link, names in passing.items()
    }
    return {key: corner for key, corner in at.items() if key in boxes}, bends
