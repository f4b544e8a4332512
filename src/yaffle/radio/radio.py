"""What a radio heard of some captures: access points, stations, and how all of them were heard."""

from collections import Counter, defaultdict
from dataclasses import dataclass, field, replace

import numpy as np

from yaffle.arrays import Array, Bools, Float64s, Int64s, Structs
from yaffle.capture.captured import Capture
from yaffle.capture.payload import Payload
from yaffle.capture.radio_head import UNKNOWN
from yaffle.progress import Progress, go_on, step
from yaffle.quantiles import median
from yaffle.radio import elements as e
from yaffle.radio import frame_scan as f
from yaffle.radio.frames import GROUP, Frames, address_text
from yaffle.radio.held_up import HeldUp, held_up
from yaffle.radio.moves import Course, Note, Traffic, course_of

_KEYS = 0x888E
_SERVER_TO_CLIENT, _CLIENT_TO_SERVER = 67 << 16 | 68, 68 << 16 | 67
_CLIENT_HARDWARE_AT = 8 + 28  # behind the beginning of the UDP header
_FAST_ELEMENT, _MOBILITY = 55, 54
# One row a frame of a station, for pictures over time. way: 0 from the station, 1 to it; signal and noise as heard, of
# frames from the station; rate in kbit/s, 0 unknown; data: whether it is a data frame with a body; air_ns: how long it
# took, 0 unknown; dozes: whether the station says that it sleeps from now on (power management).
HEARD = np.dtype(
    [("time_ns", np.int64), ("station", np.int32), ("access_point", np.int32), ("way", np.int8), ("data", np.bool_),
     ("retry", np.bool_), ("signal", np.int16), ("noise", np.int16), ("rate", np.int32), ("octets", np.int32),
     ("air_ns", np.int32), ("dozes", np.bool_)]
)  # fmt: skip
NOT_HEARD = -32_768


@dataclass(frozen=True)
class Spread:
    """Least, median, greatest; NaN of nothing."""

    least: float
    median: float
    most: float


@dataclass(frozen=True)
class AccessPoint:
    """One BSSID. stations: the most it told; busy_percent: the mean it told, NaN without."""

    bssid: str
    ssid: str
    channel: int
    stations: int
    busy_percent: float
    is_open: bool
    beacons: int
    air_ns: int = 0  # of all frames from it and to it, as far as their rates are told
    heard_ns: int = 0  # from its first frame to its last
    width_mhz: int = 0  # as it told, 0 unknown
    band: str = ""


@dataclass(frozen=True)
class Station:
    """One station. Retries, %, by way; NaN where no data frame went it."""

    address: str
    ssid: str
    retry_from: float
    retry_to: float
    signal: Spread
    snr: Spread
    rate_mbps: float
    data_from: int
    data_to: int
    course: Course
    air_from_ns: int = 0  # of its frames and of those to it, as far as their rates are told
    air_to_ns: int = 0
    dozed_ns: int = 0  # from where it said that it sleeps to where it said that it wakes
    heard_ns: int = 0  # from the first frame of it or to it to the last


@dataclass
class Radio:
    """All of it. heard: rows of HEARD, whose numbers count in stations and access points."""

    access_points: list[AccessPoint] = field(default_factory=list)
    stations: list[Station] = field(default_factory=list)
    heard: Structs = field(default_factory=lambda: np.zeros(0, HEARD))
    notes: list[str] = field(default_factory=list)
    held: HeldUp = field(default_factory=HeldUp)

    @property
    def is_empty(self) -> bool:
        """Whether no radio heard anything."""
        return not self.access_points and not self.stations


def find_radio(capture: Capture, payload: Payload, every: Frames, progress: Progress = go_on) -> Radio:
    """What radios heard, from all frames. Raises Cancelled."""
    if not every.rows.size:
        return Radio()
    step(progress, 0.0, "reading what a radio heard")
    frames = every.good
    bodies = _Bodies(frames, payload)
    told = _told(frames, bodies)
    points = _with_airtime(_access_points(told, frames), frames)
    names = {bssid: one.ssid for bssid, one in points.items()}
    notes = _management(frames, bodies, names)
    people, traffic, answers = _people(frames, bodies, notes, set(points))
    order = sorted(people)
    place = {address: k for k, address in enumerate(order)}
    bssids = list(points)
    heard, others = _heard(frames, place, {bssid: k for k, bssid in enumerate(bssids)})
    stations = []
    for address in order:
        own = heard["station"] == place[address]
        told_of = notes.get(address, []), traffic.get(address), answers.get(address, [])
        stations.append(_station(address, heard[own], others[own], told_of, names, frames))
    moves = [
        (k, one.back_ns - one.gap_ns, one.back_ns)
        for k, station in enumerate(stations)
        for one in station.course.roams
        if one.back_ns >= 0
    ]
    held = held_up(frames, capture.packets, place, moves)
    return Radio(list(points.values()), stations, heard, [*_notes(every, frames), *every.notes], held)


class _Bodies:
    """Bodies of single frames."""

    def __init__(self, frames: Frames, payload: Payload) -> None:
        self._frames, self._payload = frames, payload

    def of(self, row: int) -> bytes:
        """The body of a frame, as far as it was kept."""
        data = self._payload.sources[int(self._frames.source[row])]
        at, size = (int(self._frames.rows[row, column]) for column in (f.BODY, f.LENGTH))
        return data[at : at + size].tobytes() if data is not None and at >= 0 and size > 0 else b""


def _told(frames: Frames, bodies: _Bodies) -> dict[int, list[tuple[e.Told, int, bool]]]:
    """(elements, frequency, whether it is a beacon) by BSSID, of beacons and answers to probes."""
    rows = frames.rows
    wanted = (rows[:, f.TYPE] == f.MANAGEMENT) & np.isin(rows[:, f.SUBTYPE], (e.BEACON, e.PROBED))
    found: dict[int, list[tuple[e.Told, int, bool]]] = defaultdict(list)
    for row in np.flatnonzero(wanted).tolist():
        subtype = int(rows[row, f.SUBTYPE])
        own = e.elements_of(bodies.of(row), subtype)
        found[int(rows[row, f.SENDER])].append((own, int(rows[row, f.HEARD_FREQUENCY]), subtype == e.BEACON))
    return found


def _access_points(told: dict[int, list[tuple[e.Told, int, bool]]], frames: Frames) -> dict[int, AccessPoint]:
    found = {}
    for bssid, own in sorted(told.items()):
        ssid = Counter(one.ssid for one, _, _ in own if one.ssid).most_common(1)
        channels = Counter(one.channel for one, _, _ in own if one.channel >= 0).most_common(1)
        heard = Counter(e.channel_of(frequency) for _, frequency, _ in own if frequency).most_common(1)
        channel = channels[0][0] if channels else heard[0][0] if heard else -1
        loads = [one for one, _, beacon in own if one.stations >= 0]
        busy = [one.busy_percent for one in loads]
        found[bssid] = AccessPoint(
            address_text(bssid), ssid[0][0] if ssid else "", channel, max((one.stations for one in loads), default=-1),
            float(np.mean(busy)) if busy else float("nan"), all(one.is_open for one, _, _ in own),
            sum(beacon for _, _, beacon in own), width_mhz=max(one.width_mhz for one, _, _ in own),
            band=e.band_of(channel, own[0][1], six_ghz=any(one.six_ghz for one, _, _ in own)),
        )  # fmt: skip
    return found


def _with_airtime(points: dict[int, AccessPoint], frames: Frames) -> dict[int, AccessPoint]:
    """The same, with how long each was on the air."""
    found = {}
    for bssid, one in points.items():
        own = np.flatnonzero((frames.rows[:, f.SENDER] == bssid) | (frames.rows[:, f.RECEIVER] == bssid))
        heard_ns = int(frames.time_ns[own[-1]] - frames.time_ns[own[0]]) if own.size else 0
        found[bssid] = replace(one, air_ns=int(frames.air_ns[own].sum()), heard_ns=heard_ns)
    return found


def _management(frames: Frames, bodies: _Bodies, names: dict[int, str]) -> dict[int, list[Note]]:
    """Notes by station, each frame once however often it was sent; names that stations asked for are learnt."""
    rows = frames.rows
    kinds = (e.ASSOCIATION, e.ASSOCIATED, e.REASSOCIATION, e.REASSOCIATED, e.DISASSOCIATION, e.AUTHENTICATION,
             e.DEAUTHENTICATION)  # fmt: skip
    found: dict[int, list[Note]] = defaultdict(list)
    last: dict[tuple[int, int, int], int] = {}
    for row in np.flatnonzero((rows[:, f.TYPE] == f.MANAGEMENT) & np.isin(rows[:, f.SUBTYPE], kinds)).tolist():
        receiver, sender, bssid = (int(rows[row, column]) for column in (f.RECEIVER, f.SENDER, f.THIRD))
        subtype, now = int(rows[row, f.SUBTYPE]), int(frames.time_ns[row])
        again = (sender, receiver, subtype)
        sequence = int(rows[row, f.SEQUENCE])
        if rows[row, f.FLAGS] & f.RETRY and last.get(again) == sequence and subtype != e.DEAUTHENTICATION:
            continue
        last[again] = sequence
        by_station = sender != bssid
        station = sender if by_station else receiver
        if station & GROUP or station < 0:
            continue
        body = b"" if rows[row, f.FLAGS] & f.PROTECTED else bodies.of(row)
        found[station].append(_note(now, subtype, bssid, by_station, body))
        if by_station and subtype in (e.ASSOCIATION, e.REASSOCIATION) and not names.get(bssid):
            names[bssid] = e.elements_of(body, subtype).ssid
    return found


def _note(now: int, subtype: int, bssid: int, by_station: bool, body: bytes) -> Note:
    if subtype == e.AUTHENTICATION:
        algorithm, number, status = e.authentication(body) or (0, 0, 0)
        return Note(now, subtype, bssid, by_station, status, algorithm, number)
    if subtype in (e.ASSOCIATED, e.REASSOCIATED):
        return Note(now, subtype, bssid, by_station, e.status_of(body), fast=_is_fast(body, 6))
    if subtype in (e.DEAUTHENTICATION, e.DISASSOCIATION):
        return Note(now, subtype, bssid, by_station, e.reason_of(body))
    again = subtype == e.REASSOCIATION
    current = int.from_bytes(body[4:10], "big") if again and len(body) >= 10 else -1
    return Note(now, subtype, bssid, by_station, fast=_is_fast(body, 10 if again else 4), current=current)


def _is_fast(body: bytes, at: int) -> bool:
    """Whether the elements of a frame are those of a fast transition (802.11-2020, 13.8)."""
    kinds = set()
    while at + 2 <= len(body):
        kinds.add(body[at])
        at += 2 + body[at + 1]
    return _FAST_ELEMENT in kinds and _MOBILITY in kinds


def _people(
    frames: Frames, bodies: _Bodies, notes: dict[int, list[Note]], bssids: set[int]
) -> tuple[set[int], dict[int, Array], dict[int, list[int]]]:
    """(stations, rows of their data frames, when each was answered with an address)."""
    rows = frames.rows
    way = rows[:, f.FLAGS] & (f.TO_DS | f.FROM_DS)
    data = (rows[:, f.TYPE] == f.DATA) & (rows[:, f.SUBTYPE] & 4 == 0) & (rows[:, f.LENGTH] > 0)
    up = np.flatnonzero(data & (way == f.TO_DS))
    down = np.flatnonzero(data & (way == f.FROM_DS) & (rows[:, f.RECEIVER] & GROUP == 0))
    station = np.concatenate([rows[up, f.SENDER], rows[down, f.RECEIVER]])
    row = np.concatenate([up, down])
    order = np.lexsort((row, station))
    station, row = station[order], row[order]
    begins = np.flatnonzero(np.concatenate([[True], station[1:] != station[:-1]])) if station.size else np.zeros(0, int)
    traffic = dict(zip(station[begins].tolist(), np.split(row, begins[1:]), strict=True)) if begins.size else {}
    answers: dict[int, list[int]] = defaultdict(list)
    for k in np.flatnonzero((rows[:, f.PORTS] == _SERVER_TO_CLIENT) & (way == f.FROM_DS)).tolist():
        client = _asked_for(bodies.of(k))
        answers[client if client >= 0 else int(rows[k, f.RECEIVER])].append(int(frames.time_ns[k]))
    people = (set(traffic) | set(notes)) - bssids
    return people, traffic, answers


def _asked_for(body: bytes) -> int:
    """The hardware address that an answer for an address is for; -1 where it was cut off."""
    at = 8 + 4 * (body[8] & 15) + _CLIENT_HARDWARE_AT if len(body) > 8 else 0
    return int.from_bytes(body[at : at + 6], "big") if at and len(body) >= at + 6 else -1


def _heard(frames: Frames, place: dict[int, int], points: dict[int, int]) -> tuple[Structs, Int64s]:
    """(rows of HEARD of all frames from or to stations, in order of time; the address at the other end of each)."""
    rows = frames.rows
    known = np.array(sorted(place), np.int64)
    if not known.size:
        return np.zeros(0, HEARD), np.zeros(0, np.int64)

    def number(addresses: Array) -> Array:
        at = np.minimum(np.searchsorted(known, addresses), known.size - 1)
        return np.where(known[at] == addresses, at, -1)

    sender, receiver = number(rows[:, f.SENDER]), number(rows[:, f.RECEIVER])
    way = np.where(sender >= 0, 0, 1)
    mine = np.flatnonzero((sender >= 0) | (receiver >= 0))
    found = np.zeros(mine.size, HEARD)
    own = rows[mine]
    found["time_ns"], found["way"] = frames.time_ns[mine], way[mine]
    found["station"] = np.where(sender[mine] >= 0, sender[mine], receiver[mine])
    other = np.where(way[mine] == 0, own[:, f.RECEIVER], own[:, f.SENDER])
    found["access_point"] = [points.get(address, -1) for address in other.tolist()]
    direction = own[:, f.FLAGS] & (f.TO_DS | f.FROM_DS)
    data = (own[:, f.TYPE] == f.DATA) & (own[:, f.SUBTYPE] & 4 == 0) & (own[:, f.LENGTH] > 0)
    found["data"] = data & (direction == np.where(way[mine] == 0, f.TO_DS, f.FROM_DS))
    found["retry"] = own[:, f.FLAGS] & f.RETRY > 0
    for name, column in (("signal", f.HEARD_SIGNAL), ("noise", f.HEARD_NOISE)):
        found[name] = np.where(own[:, column] == UNKNOWN, NOT_HEARD, own[:, column])
    found["rate"], found["octets"] = own[:, f.HEARD_RATE], np.maximum(0, own[:, f.LENGTH])
    found["air_ns"] = np.minimum(frames.air_ns[mine], np.iinfo(np.int32).max)
    found["dozes"] = own[:, f.FLAGS] & f.POWER > 0
    return found, other


def _station(
    address: int, heard: Structs, others: Int64s, told_of: tuple[list[Note], Array | None, list[int]],
    names: dict[int, str], frames: Frames,
) -> Station:  # fmt: skip
    notes, rows, answers = told_of
    everything = heard["time_ns"], others
    traffic = _traffic(frames, rows if rows is not None else np.zeros(0, int), answers, everything)
    course = course_of(notes, traffic)
    data = heard[heard["data"]]
    up, down = data[data["way"] == 0], data[data["way"] == 1]
    sent = heard[heard["way"] == 0]
    signal = sent["signal"][sent["signal"] != NOT_HEARD].astype(np.float64)
    both = (sent["signal"] != NOT_HEARD) & (sent["noise"] != NOT_HEARD)
    snr = sent["signal"][both].astype(np.float64) - sent["noise"][both]
    rates = data["rate"][data["rate"] > 0] / 1000
    at = (
        [one.bssid for one in course.associations]
        or [note.bssid for note in notes]
        or np.unique(traffic.bssid).tolist()
    )
    ssid = next((names[bssid] for bssid in at if names.get(bssid)), "")
    return Station(
        address_text(address), ssid, _share(up["retry"]), _share(down["retry"]), _spread(signal), _spread(snr),
        median(rates), int(up.size), int(down.size), course,
        int(sent["air_ns"].sum(dtype=np.int64)), int(heard["air_ns"][heard["way"] == 1].sum(dtype=np.int64)),
        _dozed_ns(sent), int(heard["time_ns"][-1] - heard["time_ns"][0]) if heard.size else 0,
    )  # fmt: skip


def _dozed_ns(sent: Structs) -> int:
    """How long a station slept, by the power management bit of its frames (IEEE 802.11-2020, 9.2.4.1.7): from each that
    has it to the next of its frames.
    """
    if sent.size < 2:
        return 0
    return int(np.diff(sent["time_ns"])[sent["dozes"][:-1]].sum())


def _traffic(frames: Frames, rows: Int64s, answers: list[int], everything: tuple[Array, Array]) -> Traffic:
    own = frames.rows[rows]
    up = own[:, f.FLAGS] & f.TO_DS > 0
    times = frames.time_ns[rows]
    return Traffic(
        times, np.where(up, own[:, f.RECEIVER], own[:, f.SENDER]), up, own[:, f.ETHERTYPE] == _KEYS,
        own[:, f.FLAGS] & f.PROTECTED > 0, times[up & (own[:, f.PORTS] == _CLIENT_TO_SERVER)],
        np.array(sorted(answers), np.int64), *everything,
    )  # fmt: skip


def _share(flags: Bools) -> float:
    return 100 * float(flags.mean()) if flags.size else float("nan")


def _spread(values: Float64s) -> Spread:
    if not values.size:
        return Spread(float("nan"), float("nan"), float("nan"))
    return Spread(float(values.min()), median(values), float(values.max()))


def _notes(every: Frames, good: Frames) -> list[str]:
    """Frames that were heard wrong, and those that were missed, by gaps in each sender's sequence numbers."""
    bad = every.rows.shape[0] - good.rows.shape[0]
    found = [f"{bad:,} frames were heard with errors (check sequence): they count for nothing"] if bad else []
    missed = _missed(good)
    if missed:
        found.append(f"about {missed:,} frames were missed, by gaps in senders' sequence numbers")
    return found


def _missed(frames: Frames) -> int:
    rows = frames.rows
    own = np.flatnonzero((rows[:, f.TYPE] != f.CONTROL) & (rows[:, f.SEQUENCE] >= 0) & (rows[:, f.SENDER] >= 0)
                         & (rows[:, f.RECEIVER] & GROUP == 0))  # fmt: skip
    order = own[np.lexsort((frames.time_ns[own], rows[own, f.TID], rows[own, f.RECEIVER], rows[own, f.SENDER]))]
    a, b = order[:-1], order[1:]
    same = np.ones(a.size, bool)
    for column in (f.TID, f.RECEIVER, f.SENDER):
        same &= rows[a, column] == rows[b, column]
    steps = (rows[b, f.SEQUENCE] - rows[a, f.SEQUENCE]) % 4096
    gaps = steps[same & (rows[b, f.TID] >= 0) & (steps > 1) & (steps < 64)]
    return int((gaps - 1).sum())
