"""The shapes of what the interface answers: they make its description, and are checked against it."""

from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field


class Told(BaseModel):
    """What all answers have in common."""

    model_config = ConfigDict(extra="forbid")


class CaseTold(Told):
    """One case that is served."""

    case: str
    words: str
    first_ns: int
    last_ns: int
    findings: int
    is_history: bool


class TableTold(Told):
    """One table: what its rows are."""

    table: str
    words: str


class RowsTold(Told):
    """Rows of a table as JSON."""

    columns: list[str]
    rows: list[dict[str, Any]]


class MeasureTold(Told):
    """One measure of the catalogue."""

    measure: str
    unit: str
    words: str
    table: str
    groups: list[str]


class SeriesTold(Told):
    """A measure over time."""

    measure: str
    unit: str
    times_ns: list[int]
    members: dict[str, list[float | None]]


class FindingTold(Told):
    """A sentence about a subject, with what it rests on."""

    number: int
    key: str
    severity: str
    party: str
    cause: str
    subject: str
    site: str
    sentence: str
    next_step: str
    confidence: float
    first_ns: int
    last_ns: int
    lost_ms: float
    clients: int
    grounds: dict[str, Any]


class EventTold(Told):
    """What was noticed, told or done."""

    time_ns: int
    watch: str
    subject: str
    state: str
    severity: str | None
    value: float | None
    limit: float | None
    unit: str | None
    words: str | None
    id: str
    about: str | None


class StatusTold(Told):
    """How the interface and the collectors of its histories are."""

    version: str
    cases: list[CaseTold]
    collectors: dict[str, dict[str, Any]]


class WayTold(Told):
    """One direction of a set of flows; null where nobody told. delay_ms: RTT, of waits the network delay of an
    exchange; degraded: of each interval.
    """

    direction: str
    near: str
    far: str
    path: list[str]
    packets: list[float | None]
    retransmitted_percent: list[float | None]
    timeouts: list[float | None]
    delay_ms: list[float | None]
    median_ms: float | None
    degraded: list[bool | None]
    degraded_now: bool | None
    part: str
    words: str


class SetTold(Told):
    """A set of flows over a period."""

    name: str
    times_ns: list[int]
    ways: list[WayTold]


class HealthTold(Told):
    """How the sets of a history fare, and whether the network is at fault: yes, no, unknown."""

    network_at_fault: str
    words: str
    sets: list[SetTold]


class Wrong(BaseModel):
    """What is wrong with a question."""

    detail: Any


class ProbeAsked(Told):
    """A test on purpose."""

    kind: Annotated[str, Field(max_length=20, description="reach, connect, page, name, route, delay, speed, voice")]
    target: Annotated[str, Field(min_length=1, max_length=300)]
    timeout_s: Annotated[float, Field(gt=0, le=30)] = 2.0
    seconds: Annotated[float, Field(gt=0, le=30)] = 5.0
    packets: Annotated[int, Field(ge=1, le=1000)] = 20
    dscp: Annotated[int, Field(ge=0, le=63)] = 0


class AcknowledgeAsked(Told):
    """What is taken care of."""

    watch: Annotated[str, Field(min_length=1, max_length=300)]
    subject: Annotated[str, Field(max_length=300)] = ""
    words: Annotated[str, Field(max_length=1000)] = ""


class Done(Told):
    """Something was asked for, and what became of it."""

    words: str
