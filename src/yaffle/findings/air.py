"""What goes wrong on the air, as findings: failures by stage, stations that go to and fro or stay too long where they
are hardly heard, cells without room, stations whose low rate takes a cell's airtime, retries although the signal is
strong, addresses that come late.
"""

from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from yaffle.analysis import Analysis
from yaffle.findings.behind_moves import LEASE, SIGN_ON, Asked, Questions
from yaffle.findings.finding import Finding
from yaffle.ledger import causes
from yaffle.radio.elements import REASONS, STATUSES
from yaffle.radio.frames import address_text
from yaffle.radio.moves import ADDRESS, ASSOCIATION, AUTHENTICATION, KEYS, Failure, Roam
from yaffle.radio.radio import AccessPoint, Station
from yaffle.units import count, duration, share

_S = 10**9
_TO_AND_FRO, _WITHIN_NS = 4, 120 * _S  # moves between the same two access points
_WEAK_DBM, _POOR_RETRY = -78.0, 20.0
_BUSY = 75.0  # %
_LATE_NS, _LATE_KEYS_NS = 2 * _S, _S
_MOST_AIR, _LEAST_AIR, _TIMES_BYTES = 0.4, 0.05, 2.0  # of a cell's airtime; of the time; against its share of bytes
_STRONG_DBM, _CLEAR_DB, _AGAIN, _FEW = -67.0, 20.0, 25.0, 100  # signal, SNR; % of data frames in a direction; frames
_STEPS = {
    AUTHENTICATION: "Look at the access point's log for this station: access lists, radius server, supported methods.",
    ASSOCIATION: "Let the stations of that place spread: other access points, lower power, or more of them.",
    KEYS: "Check the station's key or credentials; a changed key is not known to it.",
    ADDRESS: "Look at the DHCP server and the path to it: no answer came back over this access point.",
}
AIR = "radio"


def air_findings(analysis: Analysis) -> list[Finding]:
    """All of them, those of more stations first."""
    radio = analysis.radio
    if radio.is_empty:
        return []
    points = {one.bssid: one for one in radio.access_points}
    found = [*_failures(radio.stations, points), *_moves(radio.stations, points), *_crowded(radio.access_points),
             *_late_addresses(analysis, points), *_late_keys(analysis, points), *_slow_ones(analysis),
             *_disturbed(radio.stations)]  # fmt: skip
    first = int(radio.heard["time_ns"].min()) if radio.heard.size else 0
    last = int(radio.heard["time_ns"].max()) if radio.heard.size else 0
    for one in found:
        one.first_ns, one.last_ns = one.first_ns or first, one.last_ns or last
    return sorted(found, key=lambda one: (-one.users, one.subject))


def name_of(bssid: str, points: dict[str, AccessPoint]) -> str:
    """An access point as people name it."""
    own = points.get(bssid)
    return f"{own.ssid} at {bssid}, channel {own.channel}" if own is not None and own.ssid else bssid


def _made(cause: str, severity: str, subject: str, sentence: str, step: str, span: tuple[int, int], users: int,
          lost_ns: int = 0, name: str = "") -> Finding:  # fmt: skip
    return Finding(causes.NETWORK, cause, severity, subject, sentence, step, 0.9, *span, lost_ns, users,
                   grounds={AIR: True, "name": name or subject})  # fmt: skip


def _failures(stations: list[Station], points: dict[str, AccessPoint]) -> Iterator[Finding]:
    by_kind: dict[tuple[str, str, int], list[tuple[Station, Failure]]] = defaultdict(list)
    for station in stations:
        for one in station.course.failures:
            by_kind[address_text(one.bssid), one.stage, one.code].append((station, one))
    for (bssid, stage, code), own in by_kind.items():
        who = sorted({station.address for station, _ in own})
        words = {KEYS: REASONS}.get(stage, STATUSES).get(code, "")
        why = f" ({words or f'code {code}'})" if code >= 0 else ""
        named = ", ".join(who[:3]) + (f" and {len(who) - 3} more" if len(who) > 3 else "")
        what = {ADDRESS: "got no address", KEYS: "failed at the keys"}.get(stage, f"failed at {stage}")
        sentence = f"{named} {what} {count(len(own))} times at {name_of(bssid, points)}{why}."
        times = [one.time_ns for _, one in own]
        name, severity = who[0] if len(who) == 1 else bssid, "major" if len(own) > 2 else "minor"
        yield _made(f"{stage} failed", severity, f"{bssid} {stage} {code}", sentence, _STEPS[stage],
                    (min(times), max(times)), len(who), name=name)  # fmt: skip


def _moves(stations: list[Station], points: dict[str, AccessPoint]) -> Iterator[Finding]:
    for station in stations:
        roams = station.course.roams
        pairs = Counter(frozenset((one.old, one.new)) for one in roams)
        pair, times = pairs.most_common(1)[0] if pairs else (frozenset(), 0)
        own = [one for one in roams if frozenset((one.old, one.new)) == pair]
        if times >= _TO_AND_FRO and any(
            b.time_ns - a.time_ns <= _WITHIN_NS for a, b in zip(own, own[3:], strict=False)
        ):
            names = " and ".join(name_of(address_text(bssid), points) for bssid in sorted(pair))
            gaps = sum(max(0, one.gap_ns) for one in own)
            yield _made(
                "moves to and fro", "major", station.address,
                f"{station.address} moved {times} times between {names}; without data for {duration(gaps)} in all.",
                "Lower the power of one of both, or have the station move later: they are heard equally well.",
                (own[0].time_ns, own[-1].time_ns), 1, gaps,
            )  # fmt: skip
        elif station.signal.least <= _WEAK_DBM and max(station.retry_from, station.retry_to) >= _POOR_RETRY:
            yield _made(
                "weak signal", "minor", station.address,
                f"{station.address} was heard with {station.signal.median:.0f} dBm at the median and"
                f" {station.signal.least:.0f} dBm at worst; {max(station.retry_from, station.retry_to):.0f} % of its"
                f" data frames in one direction were sent again; it moved {len(roams)} times.",
                "Have it move earlier (802.11k, 802.11v, a higher least rate), or bring an access point nearer.",
                (0, 0), 1,
            )  # fmt: skip


def _crowded(found: list[AccessPoint]) -> Iterator[Finding]:
    """Each radio once, however many networks it has: their addresses differ in the last octet."""
    told = set()
    for one in sorted(found, key=lambda own: -own.busy_percent):
        radio = (one.bssid.rpartition(":")[0], one.channel)
        if one.busy_percent >= _BUSY and radio not in told:
            told.add(radio)
            yield _made(
                "channel without room", "major", one.bssid,
                f"{one.ssid} at {one.bssid} told that channel {one.channel} was busy for"
                f" {share(one.busy_percent / 100)} of the time, with up to {count(max(0, one.stations))} stations.",
                "Another channel, a narrower cell, or fewer low rates: the channel itself has no room left.",
                (0, 0), max(0, one.stations),
            )  # fmt: skip


def _late_addresses(analysis: Analysis, points: dict[str, AccessPoint]) -> Iterator[Finding]:
    questions = Questions(analysis.lookups.rows)
    for station in analysis.radio.stations:
        roams = station.course.roams
        leases = {one.time_ns: questions.during(station.address, one).get(LEASE) for one in roams}
        waited = {at: own.waited_ns if own is not None else -1 for at, own in leases.items()}
        waited |= {one.time_ns: one.address_ns for one in roams if one.address_ns >= 0}  # as the air has it
        late = [one for one in roams if waited[one.time_ns] >= _LATE_NS]
        if late:
            worst = max(late, key=lambda one: waited[one.time_ns])
            worst_ns = waited[worst.time_ns]
            yield _made(
                "late address", "minor", station.address,
                f"{station.address} waited {duration(worst_ns)} for an address after it moved to"
                f" {name_of(address_text(worst.new), points)}"
                f"{_served(leases[worst.time_ns], worst_ns)}.",
                "Look at the DHCP server, and whether the network behind both access points is the same.",
                (late[0].time_ns, late[-1].time_ns), 1, sum(waited[one.time_ns] for one in late),
            )  # fmt: skip


def _served(asked: Asked | None, step_ns: int) -> str:
    """What a server had of a step, as the end of a sentence."""
    return f": {asked.words(step_ns)}" if asked is not None else ""


def _late_keys(analysis: Analysis, points: dict[str, AccessPoint]) -> Iterator[Finding]:
    """Sign-on and keys that take long: by the server where most of each is its time, else by access point."""
    questions = Questions(analysis.lookups.rows)
    groups: dict[str, list[_SlowSignOn]] = defaultdict(list)
    for station in analysis.radio.stations:
        for one in station.course.roams:
            if one.keys_ns >= _LATE_KEYS_NS:
                own = _SlowSignOn(station, one, questions.during(station.address, one).get(SIGN_ON))
                groups[own.held_up_by].append(own)
    for by, slow in groups.items():
        worst = max(slow, key=lambda own: own.roam.keys_ns)
        at = sorted({own.roam.new for own in slow})
        who, times = {own.station.address for own in slow}, [own.roam.time_ns for own in slow]
        where = name_of(address_text(at[0]), points) if len(at) == 1 else f"{count(len(at))} access points"
        yield _made(
            "slow sign-on", "minor", f"{by} sign-on",
            f"Sign-on and keys took up to {duration(worst.roam.keys_ns)} after {count(len(slow))}"
            f" move{'s' if len(slow) > 1 else ''} of {count(len(who))} station{'s' if len(who) > 1 else ''} to {where}"
            f"{_served(worst.asked, worst.roam.keys_ns)}.",
            _sign_on_step(slow), (min(times), max(times)), len(who), sum(own.roam.keys_ns for own in slow),
            name=f"RADIUS at {by}" if by == worst.server else where,
        )  # fmt: skip


@dataclass(frozen=True)
class _SlowSignOn:
    """One move with late keys, and what the sign-on server was asked meanwhile, where that was captured."""

    station: Station
    roam: Roam
    asked: Asked | None

    @property
    def server(self) -> str:
        """The server, where most of the time was its; else empty."""
        mostly = self.asked is not None and 2 * self.asked.waited_ns >= self.roam.keys_ns
        return self.asked.server if mostly and self.asked is not None else ""

    @property
    def held_up_by(self) -> str:
        """The server or the access point."""
        return self.server or address_text(self.roam.new)


def _sign_on_step(slow: list[_SlowSignOn]) -> str:
    """What to do about slow sign-ons, by whose time most of them was."""
    spared = "fast transitions (802.11r) or cached keys spare it"
    if all(own.server for own in slow):
        return f"Look at the RADIUS server and what it asks (Survey, services): most of it was its time; {spared}."
    if any(own.asked is not None for own in slow):
        return f"RADIUS was quick: look at the station and at how the access point exchanges keys; {spared}."
    return f"Capture RADIUS behind the access points, too: whose time it was cannot be told from the air; {spared}."


def _slow_ones(analysis: Analysis) -> Iterator[Finding]:
    """Stations that take much of a cell's airtime for few of its bytes: their rate is low."""
    radio, heard = analysis.radio, analysis.radio.heard
    for number, cell in enumerate(radio.access_points):
        own = heard[heard["access_point"] == number]
        air = np.bincount(own["station"], own["air_ns"], len(radio.stations))
        octets = np.bincount(own["station"], own["octets"], len(radio.stations))
        if np.count_nonzero(air) < 3 or cell.heard_ns <= 0 or air.sum() < _LEAST_AIR * cell.heard_ns:
            continue
        most = int(air.argmax())
        of_air, of_bytes = float(air[most] / air.sum()), float(octets[most] / max(1, octets.sum()))
        if of_air < _MOST_AIR or of_air < _TIMES_BYTES * of_bytes:
            continue
        station = radio.stations[most]
        others = own["rate"][(own["station"] != most) & own["data"] & (own["rate"] > 0)] / 1000
        rates = f"its data went at {station.rate_mbps:,.0f} Mbit/s at the median"
        if others.size:
            rates += f", those of the others at {float(np.median(others)):,.0f} Mbit/s"
        yield _made(
            "low rate takes airtime", "major", f"{station.address} at {cell.bssid}",
            f"{station.address} took {share(of_air)} of the airtime of {name_of(cell.bssid, {cell.bssid: cell})} for"
            f" {share(of_bytes)} of its bytes: {rates}.",
            "Bring it nearer, replace its radio, or forbid the lowest rates of that cell: all others wait for it.",
            (0, 0), int(np.count_nonzero(air)) - 1, name=station.address,
        )  # fmt: skip


def _disturbed(stations: list[Station]) -> Iterator[Finding]:
    """Much is sent again although the signal is strong: something else sends there, too."""
    for station in stations:
        again = np.nanmax([station.retry_from, station.retry_to, 0.0])
        clear = station.signal.median >= _STRONG_DBM and not station.snr.median < _CLEAR_DB
        if not clear or again < _AGAIN or station.data_from + station.data_to < _FEW:
            continue
        side = "from" if again == station.retry_from else "to"
        yield _made(
            "retries despite signal", "minor", station.address,
            f"{again:.0f} % of the data frames {side} {station.address} were sent again although it was heard with"
            f" {station.signal.median:.0f} dBm at the median.",
            "Something else sends on that channel near it: another network, a device that is no 802.11, or stations"
            " that do not hear each other. Look at the channel's use there, and at 5 or 6 GHz.", (0, 0), 1,
        )  # fmt: skip
