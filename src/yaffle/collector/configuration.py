"""What a collector shall do: read from TOML, checked whole before anything begins.

A mistake is told as FILE:LINE: KEY: what was found, what is expected. Values of secrets are never repeated.
"""

import tomllib
from pathlib import Path
from typing import Annotated, Any

from pydantic import BaseModel, Field, ValidationError, field_validator, model_validator

from yaffle.collector.capture_task import Capture
from yaffle.collector.configuration_parts import Every, Part, Port
from yaffle.collector.device_configuration import Device, Ssh
from yaffle.collector.flow_sender import address_of
from yaffle.collector.mesh_task import Mesh
from yaffle.collector.notice_configuration import Answering, Maintaining, Notify
from yaffle.collector.probe_task import Probe, Responding
from yaffle.collector.report_configuration import Flows, Promising, Reporting
from yaffle.collector.toml_lines import Place, line_of, wrong_line
from yaffle.collector.watch_configuration import Watching, linked
from yaffle.errors import YaffleError
from yaffle.file_store import is_url
from yaffle.history.copying import folder_here
from yaffle.history.layout import LEVELS, TABLE_SUMS, TABLES, least_days
from yaffle.hops.reports import INT_DSCP
from yaffle.records.elements import PATH_DELAY
from yaffle.watching.channels import MAIL

_LONGEST_SHOWN = 60
_SECRETS = ("community", "auth", "privacy", "password")
_KEPT = tuple(one.name for one in (*LEVELS, *TABLES, *TABLE_SUMS))
_MOST_DAYS = 100_000


Element = Annotated[int, Field(ge=1, le=0x7FFF, strict=True)]


class Listen(Part):
    """Flow records and counters that devices send."""

    udp: tuple[Port, ...] = (2055, 4739, 6343)
    tcp: tuple[Port, ...] = ()
    telemetry: tuple[Port, ...] = ()  # reports of per-hop telemetry
    int_dscp: Annotated[int, Field(ge=0, le=63, strict=True)] = INT_DSCP
    path_delay: tuple[Element, Element, Element, Element] = PATH_DELAY  # elements: mean, least, most, sum
    bind: str = "127.0.0.1"

    @field_validator("bind")
    @classmethod
    def _an_address(cls, value: str) -> str:
        from ipaddress import ip_address

        try:
            ip_address(value)
        except ValueError as error:
            raise ValueError("an address of this host, or 0.0.0.0 or :: for all of them") from error
        return value

    @model_validator(mode="after")
    def _some_port(self) -> "Listen":
        if not self.udp and not self.tcp and not self.telemetry:
            raise ValueError("at least one port in udp, tcp or telemetry")
        if 0 in self.telemetry:
            raise ValueError("telemetry: a port from 1 on")
        if both := set(self.udp) & set(self.telemetry):
            raise ValueError(f"port {min(both)} cannot be both in udp and in telemetry")
        return self


class Host(Part):
    """This machine: its interfaces' counters, and what its kernel counts."""

    every: Every = 10 * 10**9
    name: str = ""  # by which it is known; without it, its own
    sockets: Annotated[bool, Field(strict=True)] = True  # its connections, as flow records
    export: str = ""  # where they are sent on to

    @field_validator("export")
    @classmethod
    def _somewhere(cls, value: str) -> str:
        if value:
            address_of(value)
        return value

    @model_validator(mode="after")
    def _something_to_export(self) -> "Host":
        if self.export and not self.sockets:
            raise ValueError("sockets = true, where export is set: it is sockets' flow records that are sent on")
        return self


class Configuration(Part):
    """All of it."""

    history: Annotated[str, Field(min_length=1)]
    store: str = ""  # an address: what is kept is put there as well, and kept there for longer
    keep: dict[str, Annotated[int, Field(ge=0, lt=_MOST_DAYS, strict=True)]] = Field(default_factory=dict)
    listen: Listen | None = None
    host: Host | None = None
    device: tuple[Device, ...] = ()
    capture: tuple[Capture, ...] = ()
    probe: tuple[Probe, ...] = ()
    mesh: tuple[Mesh, ...] = ()
    responder: Responding | None = None
    watch: tuple[Watching, ...] = ()
    notify: tuple[Notify, ...] = ()
    response: tuple[Answering, ...] = ()
    maintenance: tuple[Maintaining, ...] = ()
    service_level: tuple[Promising, ...] = ()
    flow_set: tuple[Flows, ...] = ()
    report: tuple[Reporting, ...] = ()

    @property
    def holds_secrets(self) -> bool:
        """Whether secrets stand in the file itself."""
        given = [(one.community, one.auth, one.privacy, one.ssh and one.ssh.password) for one in self.device]
        return any(secret is not None for one in given for secret in one)

    @field_validator("store")
    @classmethod
    def _an_address(cls, value: str) -> str:
        if value and not is_url(value):
            raise ValueError("an address of a store, as s3://bucket/name")
        return value

    @model_validator(mode="after")
    def _one_store(self) -> "Configuration":
        if self.store and is_url(self.history):
            raise ValueError("one store: history is an address already, or a folder where store is one")
        return self

    @field_validator("device")
    @classmethod
    def _each_once(cls, value: tuple[Device, ...]) -> tuple[Device, ...]:
        seen = [one.address for one in value]
        if twice := next((address for address in seen if seen.count(address) > 1), ""):
            raise ValueError(f"each device once ({twice} stands there twice)")
        return value

    @field_validator("capture")
    @classmethod
    def _a_ring_each(cls, value: tuple[Capture, ...]) -> tuple[Capture, ...]:
        rings = [one.ring for one in value]
        if twice := next((ring for ring in rings if rings.count(ring) > 1), ""):
            raise ValueError(f"a ring of its own for each capture ({twice} stands there twice)")
        return value

    @field_validator("watch", "notify", "response", "service_level", "flow_set", "report")
    @classmethod
    def _called_once(cls, value: tuple[Any, ...]) -> tuple[Any, ...]:
        names = [one.name for one in value]
        if twice := next((name for name in names if names.count(name) > 1), ""):
            raise ValueError(f"a name of its own for each ({twice} stands there twice)")
        return value

    @model_validator(mode="after")
    def _linked(self) -> "Configuration":
        linked(self.watch, self.notify, self.response)
        mails = [one.name for one in self.notify if one.kind == MAIL]
        for one in self.report:
            if one.mail and one.mail not in mails:
                raise ValueError(
                    f"report {one.name}: mail names {one.mail}, and no [[notify]] of kind mail is called so"
                )
        return self

    @field_validator("probe", "mesh")
    @classmethod
    def _a_name_each(cls, value: tuple[Any, ...]) -> tuple[Any, ...]:
        names = [one.called for one in value]
        if twice := next((name for name in names if names.count(name) > 1), ""):
            raise ValueError(f"a name of its own for each test ({twice} stands there twice)")
        return value

    @field_validator("keep")
    @classmethod
    def _known_levels(cls, value: dict[str, int]) -> dict[str, int]:
        if unknown := [name for name in value if name not in _KEPT]:
            raise ValueError(f"one of {', '.join(_KEPT)} (not {unknown[0]})")
        if short := [name for name, days in value.items() if days < least_days(name)]:
            raise ValueError(f"a day at least of {short[0]}")
        return value


def read_configuration(path: Path) -> Configuration:
    """The configuration of a file; a relative history is from the file's folder. Raises YaffleError."""
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise YaffleError(f"{path}: cannot be read ({getattr(error, 'strerror', None) or error})") from error
    try:
        found = Configuration.model_validate(tomllib.loads(text))
    except tomllib.TOMLDecodeError as error:
        line, words = wrong_line(text, error)
        raise YaffleError(f"{path}:{line}: this is no TOML: {words}") from error
    except ValidationError as error:
        raise YaffleError("\n".join(_told(path, text, one) for one in error.errors(include_url=False))) from error
    folder = path.parent.resolve()
    told = {
        **_place(folder, found),
        "capture": tuple(one.model_copy(update={"ring": str(folder / one.ring)}) for one in found.capture),
        "device": tuple(one.within(folder) for one in found.device),
        "probe": tuple(one.within(folder) for one in found.probe),
        "mesh": tuple(one.within(folder) for one in found.mesh),
        "notify": tuple(one.within(folder) for one in found.notify),
        "response": tuple(one.within(folder) for one in found.response),
        "report": tuple(one.within(folder) for one in found.report),
        "responder": found.responder.within(folder) if found.responder is not None else None,
    }
    return found.model_copy(update=told)


def _place(folder: Path, found: Configuration) -> dict[str, str]:
    """Where the history lies on this machine, and the store it is put into."""
    if is_url(found.history):
        return {"history": str(folder_here(found.history)), "store": found.history}
    return {"history": str(folder / found.history), "store": found.store}


def _told(path: Path, text: str, error: Any) -> str:
    """One mistake in words."""
    place: Place = tuple(part for part in error["loc"] if part != "[key]")
    key = ".".join(str(part) for part in place)
    where = f"{path}:{line_of(text, place)}: {key or 'the file'}"
    if error["type"] == "extra_forbidden":
        table = _table_at(place[:-1])
        return f"{where}: this key is not known; {'these are' if table else 'none is'}: {', '.join(table)}"
    if error["type"] == "missing":
        return f"{where}: missing"
    expected = str(error.get("ctx", {}).get("error") or error["msg"]).removeprefix("Value error, ")
    # What stands in a secret's place is not repeated, nor is a device whole, which may hold some.
    hidden = place[:1] == ("device",) and (place[-1] in _SECRETS or not isinstance(error["input"], str | int | float))
    found = repr(error["input"])
    if len(found) > _LONGEST_SHOWN:
        found = f"{found[:_LONGEST_SHOWN]}…"
    return f"{where}: {'' if hidden else f'found {found}; '}expected: {expected}"


def _table_at(place: Place) -> list[str]:
    """The keys that a table knows."""
    models: dict[Place, type[BaseModel]] = {
        (): Configuration,
        ("listen",): Listen,
        ("host",): Host,
        ("capture",): Capture,
        ("device",): Device,
        ("probe",): Probe,
        ("mesh",): Mesh,
        ("watch",): Watching,
        ("notify",): Notify,
        ("response",): Answering,
        ("maintenance",): Maintaining,
        ("service_level",): Promising,
        ("flow_set",): Flows,
        ("report",): Reporting,
        ("responder",): Responding,
        ("device", "ssh"): Ssh,
    }
    named = tuple(part for part in place if isinstance(part, str))
    fields = models[named].model_fields if named in models else {}
    return [one.alias or name for name, one in fields.items()]
