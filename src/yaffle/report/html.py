"""The report: one self-contained HTML page, readable without scripts, for screen and paper."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cache

import jinja2
from markupsafe import Markup

from yaffle import __version__
from yaffle.analysis import Analysis
from yaffle.capture.masking import Masker
from yaffle.findings.finding import Finding
from yaffle.findings.ranking import all_findings
from yaffle.report.figure import told
from yaffle.report.nameless import masked, nameless
from yaffle.report.plan import TITLE, Letterhead, ReportPlan
from yaffle.report.sections import FINDING, Draw, Figures, Said, Section, sections_of, told_findings
from yaffle.units import day, moment, zone_name

_FIGURES_OF = 8  # So many findings bring figures at most.


def period_words(analysis: Analysis) -> str:
    """From when to when the evidence is."""
    held = [s for s in analysis.capture.sources if s.last_ns]
    if not held:
        return "nothing with a time"
    first, last = min(s.first_ns for s in held), max(s.last_ns for s in held)
    end = moment(last, digits=0) if day(first) == day(last) else f"{day(last)}, {moment(last, digits=0)}"
    return f"{day(first)}, {moment(first, digits=0)} to {end} {zone_name()}"


@dataclass(frozen=True)
class Shown:
    """What a page is made of: sections in the order in which they stand, those left out apart."""

    sections: tuple[Section, ...]
    left_out: tuple[Section, ...]


@dataclass(frozen=True)
class Prepared:
    """All that a report rests on but its figures. everything: findings; pictured: those that bring figures."""

    analysis: Analysis
    said: Said
    masker: Masker | None
    plan: ReportPlan
    letterhead: Letterhead
    everything: tuple[Finding, ...]

    @property
    def pictured(self) -> list[Finding]:
        """Findings that are told, the first ones."""
        told = told_findings(self.everything, self.said, self.plan)
        return [f for f in told if f"{FINDING}{f.key}" not in self.plan.left_out][:_FIGURES_OF]

    def shown(self, figures: Figures) -> Shown:
        """The sections, in the user's order; of an appendix behind the others."""
        found = {one.key: one for one in sections_of(self.analysis, self.everything, self.said, self.plan, figures)}
        order = self.plan if self.plan.order else ReportPlan(order=self.letterhead.order)
        arranged = sorted((found[key] for key in order.arranged(found)), key=lambda one: one.appendix)
        return Shown(
            tuple(one for one in arranged if one.key not in self.plan.left_out),
            tuple(one for one in arranged if one.key in self.plan.left_out),
        )

    def page(self, figures: Figures) -> str:
        """The page, with the figures of findings by their keys."""
        masker = self.masker
        if masker is not None:
            figures = {key: [one.masked(masker) for one in own] for key, own in figures.items()}
        shown, title = self.shown(figures), self.plan.title or TITLE
        page = page_of(shown.sections, title, period_words(self.analysis), self.letterhead, masker is not None)
        return masked(page, masker) if masker is not None else page


def prepared(
    analysis: Analysis,
    said: Said = Said(),
    masker: Masker | None = None,
    plan: ReportPlan = ReportPlan(),
    letterhead: Letterhead = Letterhead(),
    everything: Sequence[Finding] | None = None,
) -> Prepared:
    """What a report rests on. With a masker: without names, and with addresses masked."""
    found = all_findings(analysis) if everything is None else everything
    if masker is None:
        return Prepared(analysis, said, None, plan, letterhead, tuple(found))
    plain = nameless(analysis)
    other = all_findings(plain)
    keys = {_mark(f): f.key for f in other}
    called = {f.key: keys.get(_mark(f), f.key) for f in found}
    return Prepared(plain, _said_of(said, called), masker, _planned(plan, called), letterhead, tuple(other))


def _mark(finding: Finding) -> tuple[object, ...]:
    """What knows a finding again whose subject is called otherwise."""
    return finding.party, finding.cause, finding.first_ns, finding.last_ns, finding.lost_ns, finding.users


def _said_of(said: Said, called: dict[str, str]) -> Said:
    return Said(
        said.complaints,
        tuple(called.get(key, key) for key in said.pinned),
        {called.get(key, key): reason for key, reason in said.dismissed.items()},
        {called.get(key, key): text for key, text in said.remarks.items()},
        said.notes,
    )


def _planned(plan: ReportPlan, called: dict[str, str]) -> ReportPlan:
    sections = {f"{FINDING}{key}": f"{FINDING}{other}" for key, other in called.items()}
    return replace(
        plan,
        order=tuple(sections.get(key, key) for key in plan.order),
        left_out=tuple(sections.get(key, key) for key in plan.left_out),
        words={sections.get(key, key): text for key, text in plan.words.items()},
    )


def render(
    analysis: Analysis,
    said: Said = Said(),
    masker: Masker | None = None,
    plan: ReportPlan = ReportPlan(),
    letterhead: Letterhead = Letterhead(),
    draw: Draw | None = None,
) -> str:
    """The page. draw: gives findings their figures."""
    basis = prepared(analysis, said, masker, plan, letterhead)
    return basis.page(draw(basis.analysis, basis.pictured) if draw is not None else {})


@cache
def _environment() -> jinja2.Environment:
    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("yaffle", "report"), autoescape=True, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters["told"] = told
    return environment


def page_of(
    sections: Sequence[Section], title: str, period: str, letterhead: Letterhead = Letterhead(), is_masked: bool = False
) -> str:
    """Sections as a page."""
    return (
        _environment()
        .get_template("report.html.j2")
        .render(
            title=title,
            period=period,
            version=__version__,
            logo=_logo(letterhead.logo),
            address=letterhead.address,
            main=[one for one in sections if not one.appendix],
            appendix=[one for one in sections if one.appendix],
            masked=is_masked,
        )
    )


def _logo(logo: str) -> Markup:
    """A picture as part of the page: never by address of elsewhere, never with scripts in it."""
    return Markup('<img class="logo" src="{}" alt="">').format(logo) if logo.startswith("data:image/") else Markup("")
