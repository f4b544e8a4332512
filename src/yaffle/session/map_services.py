"""Services on the map: which service asked which other one in the period, and how much of its time it waited there."""

from dataclasses import dataclass

import numpy as np

from yaffle.ledger import causes
from yaffle.session.map_view import BELONGS, SERVERS, SERVICE, WAITED, Link, MapPicture, Place
from yaffle.session.scene import Scene
from yaffle.tiers.dependencies import Dependency, dependencies
from yaffle.units import count, duration, share

_MOST = 16  # dependencies on the map, those with the longest waits
_LEAST_NS = 1_000_000  # waited in all: less is not drawn
_SURE = 0.9


@dataclass(frozen=True)
class _Services:
    """The services that call each other in the period."""

    names: list[str]  # by number, as the dependencies count them
    plain: dict[str, int]  # the same by names that do not know what host was asked for
    found: list[Dependency]

    def key(self, number: int) -> str:
        return f"{SERVICE}: {self.names[number]}"


def with_services(scene: Scene, picture: MapPicture) -> MapPicture:
    """The map with the services of its servers that ask other ones, and those that are asked."""
    services = _services(scene)
    if not services.found:
        return picture
    numbers = list(dict.fromkeys(n for one in services.found for n in (one.front, one.behind)))
    asked = {one.front: one.requests for one in services.found}
    places = [Place(services.key(n), services.names[n], SERVICE, hosts=asked.get(n, 0)) for n in numbers]
    links = [_link(services, one) for one in services.found]
    sites = _sites(scene, services, {place.key for place in picture.places})
    behind = {one.behind for one in services.found}
    for n in numbers:  # Those behind others stand behind these, wherever they are.
        if n in sites and n not in behind:
            links.append(Link(f"{SERVERS}: {sites[n]}", services.key(n), BELONGS, "a service of these servers"))
    return MapPicture(
        picture.places + places,
        picture.links + links,
        [(name, stations + _chain(services, name.partition(" → ")[2])) for name, stations in picture.flows],
    )


def _services(scene: Scene) -> _Services:
    """By the names of their applications, in the period of the focus."""
    evidence = scene.evidence
    account = evidence.analysis.account
    began = account.of_exchange("first_ns")
    service = evidence.application.codes[account.of_exchange("connection")]
    within = (evidence.wait_of_exchange >= 0) & (began >= scene.first_ns) & (began <= scene.last_ns)
    server_ns = account.exchange_charges[:, causes.party_columns(causes.SERVER)].sum(axis=1)
    found = dependencies(evidence.analysis.behind, np.where(within, service, -1), server_ns)
    kept = [one for one in found if one.wait_ns >= _LEAST_NS and one.front != one.behind]
    numbers = {n for one in kept for n in (one.front, one.behind)}
    plain = {}
    for n in sorted(numbers):
        for c in np.flatnonzero(evidence.application.codes == n)[:1].tolist():
            plain[evidence.places.application(evidence.server[c], int(evidence.port[c]))] = n
    return _Services(evidence.application.texts, plain, kept[:_MOST])


def _link(services: _Services, one: Dependency) -> Link:
    front, behind = services.names[one.front], services.names[one.behind]
    part = one.wait_ns / one.server_ns if one.server_ns else 0.0
    each = f"{one.calls / max(1, one.requests):.2g}"
    calls = f"{each} call{'' if each == '1' else 's'} a request"
    sure = "" if one.certainty >= _SURE else f"; links {100 * one.certainty:.0f} % sure on average"
    words = (
        f"{front} waited {duration(one.wait_ns)} for {behind}, {share(part)} of its server time;"
        f" {duration(one.network_ns)} of it for the network between them;"
        f" {count(round(one.calls))} calls for {count(one.requests)} requests{sure}"
    )
    return Link(services.key(one.front), services.key(one.behind), WAITED, words, (f"{share(part)} of its time", calls))


def _sites(scene: Scene, services: _Services, shown: set[str]) -> dict[int, str]:
    """The site of each service's server, where that stands on the map."""
    evidence = scene.evidence
    site = evidence.server.named(evidence.places.site)
    found: dict[int, str] = {}
    for code in {n for one in services.found for n in (one.front, one.behind)}:
        mine = np.flatnonzero(evidence.application.codes == code)
        name = site.texts[site.codes[mine[0]]] if mine.size else ""
        if f"{SERVERS}: {name}" in shown:
            found[code] = name
    return found


def _chain(services: _Services, application: str) -> list[str]:
    """From a service to the one it waited most for, and on."""
    found = [services.plain[application]] if application in services.plain else []
    while found:
        after = next((one.behind for one in services.found if one.front == found[-1]), -1)
        if after < 0 or after in found:
            break
        found.append(after)
    return [services.key(n) for n in found]
