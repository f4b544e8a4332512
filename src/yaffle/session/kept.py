"""What the user keeps with a case: notes, pins, what was dismissed and why, complaints, periods, measures, names."""

from dataclasses import asdict, dataclass, field, replace
from typing import Any

from yaffle.analysis import Told
from yaffle.inventory.expected_markings import USUAL, Expected
from yaffle.inventory.places import HARDWARE, PointName, Rule, Site
from yaffle.path.translations import PairedEnds
from yaffle.report.plan import ReportPlan
from yaffle.session.former_words import present_key
from yaffle.session.map_edits import Drawn, Placed
from yaffle.session.measures import DEFAULT, Measure

_LISTS = ("complaints", "periods", "rules", "sites", "expected", "apart", "placed", "drawn", "renamed")


@dataclass(frozen=True)
class Complaint:
    """Who complained, about what, when, in which words. Times in ns since 1970 UTC."""

    who: str
    what: str
    words: str
    first_ns: int
    last_ns: int


@dataclass(frozen=True)
class NamedPeriod:
    """A period with a name."""

    name: str
    first_ns: int
    last_ns: int


@dataclass(frozen=True)
class Kept:
    """Never changed, only replaced: so that every change can be taken back."""

    notes: str = ""
    pinned: tuple[str, ...] = ()  # keys of findings
    dismissed: dict[str, str] = field(default_factory=dict)  # key: reason
    remarks: dict[str, str] = field(default_factory=dict)  # key: the user's words
    complaints: tuple[Complaint, ...] = ()
    periods: tuple[NamedPeriod, ...] = ()
    measures: tuple[Measure, ...] = DEFAULT
    line_bps: float = 0.0
    rules: tuple[Rule, ...] = ()
    sites: tuple[Site, ...] = ()
    expected: tuple[Expected, ...] = USUAL  # markings that applications should bear
    apart: tuple[PairedEnds, ...] = ()  # conversations of two points that are not the same
    placed: tuple[Placed, ...] = ()  # on the map
    drawn: tuple[Drawn, ...] = ()
    renamed: tuple[PointName, ...] = ()  # capture points as the user calls them
    report: ReportPlan = field(default_factory=ReportPlan)

    def pin(self, key: str, kept: bool) -> "Kept":
        """With a finding kept for the report, or not."""
        others = tuple(k for k in self.pinned if k != key)
        return replace(self, pinned=(*others, key) if kept else others)

    def dismiss(self, key: str, reason: str | None) -> "Kept":
        """With a finding put away for a reason; None takes it back."""
        others = {k: v for k, v in self.dismissed.items() if k != key}
        return replace(self, dismissed=others if reason is None else {**others, key: reason})

    def remark(self, key: str, text: str) -> "Kept":
        """With the user's words on a finding; empty text takes them off."""
        others = {k: v for k, v in self.remarks.items() if k != key}
        return replace(self, remarks={**others, key: text} if text.strip() else others)

    @property
    def told(self) -> Told:
        """What changes the findings."""
        return Told(self.rules, self.sites, self.expected, self.apart, self.renamed)

    def as_json(self) -> dict[str, Any]:
        """For the case."""
        return {
            **{name: getattr(self, name) for name in ("notes", "dismissed", "remarks", "line_bps")},
            "pinned": list(self.pinned),
            **{name: [asdict(entry) for entry in getattr(self, name)] for name in _LISTS},
            "measures": [m.as_json() for m in self.measures],
            "report": self.report.as_json(),
        }

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> "Kept":
        """The reverse; whatever is not understood is left out."""

        def texts(name: str) -> dict[str, str]:
            found = data.get(name)
            return {present_key(str(k)): str(v) for k, v in found.items()} if isinstance(found, dict) else {}

        def listed(name: str) -> list[Any]:
            found = data.get(name)
            return found if isinstance(found, list) else []

        def entries(name: str, kind: type) -> tuple[Any, ...]:
            made = []
            for entry in listed(name):
                try:
                    fields = {key: type_of(kind, key)(entry[key]) for key in kind.__dataclass_fields__}  # type: ignore[attr-defined]
                except (KeyError, TypeError, ValueError):
                    continue
                made.append(kind(**fields))
            return tuple(made)

        measures = [Measure.from_json(m) for m in listed("measures") if isinstance(m, dict)]
        line = data.get("line_bps")
        return cls(
            str(data.get("notes", "")),
            tuple(present_key(str(key)) for key in listed("pinned")),
            texts("dismissed"),
            texts("remarks"),
            entries("complaints", Complaint),
            entries("periods", NamedPeriod),
            tuple(m for m in measures if m is not None) or DEFAULT,
            float(line) if isinstance(line, int | float) and line >= 0 else 0.0,
            entries("rules", Rule),
            tuple(site for site in entries("sites", Site) if _is_range(site)),
            (
                tuple(rule for rule in entries("expected", Expected) if 0 <= rule.dscp < 64)
                if "expected" in data
                else USUAL
            ),
            entries("apart", PairedEnds),
            entries("placed", Placed),
            entries("drawn", Drawn),
            entries("renamed", PointName),
            ReportPlan.from_json(data.get("report")),
        )


def _is_range(site: Site) -> bool:
    try:
        return site.range[0] in (4, 6, HARDWARE)
    except ValueError:
        return False


def type_of(kind: type, name: str) -> type:
    """Type of a field: text or whole number."""
    return int if kind.__dataclass_fields__[name].type in (int, "int") else str  # type: ignore[attr-defined]
