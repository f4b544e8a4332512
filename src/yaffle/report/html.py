"""The report: one self-contained HTML page, readable without scripts, for screen and paper."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import jinja2
from markupsafe import Markup

from yaffle import __version__
from yaffle.analysis import Analysis
from yaffle.capture.masking import Masker
from yaffle.findings.finding import Finding
from yaffle.findings.ranking import all_findings
from yaffle.report.answer import write_whole
from yaffle.report.figure import told
from yaffle.report.nameless import masked, nameless
from yaffle.report.plan import TITLE, Letterhead, ReportPlan
from yaffle.report.sections import Draw, Figures, Said, Section, sections_of, told_findings
from yaffle.units import day, moment, zone_name

_FIGURES_OF = 8  # So many findings bring figures at most.


@dataclass(frozen=True)
class Shown:
    """What a page is made of: sections in the order in which they stand, those left out apart."""

    sections: tuple[Section, ...]
    left_out: tuple[Section, ...]


def period_words(analysis: Analysis) -> str:
    """From when to when the evidence is."""
    held = [s for s in analysis.capture.sources if s.packets]
    if not held:
        return "no packets"
    first, last = min(s.first_ns for s in held), max(s.last_ns for s in held)
    return f"{day(first)}, {moment(first, digits=0)} to {moment(last, digits=0)} {zone_name()}"


def shown_sections(
    analysis: Analysis,
    said: Said,
    plan: ReportPlan,
    letterhead: Letterhead = Letterhead(),
    draw: Draw | None = None,
    everything: Sequence[Finding] | None = None,
) -> Shown:
    """What the report shows. draw: gives findings their figures."""
    everything = all_findings(analysis) if everything is None else everything
    told = [f for f in told_findings(everything, said, plan) if f"finding/{f.key}" not in plan.left_out]
    figures = draw(analysis, told[:_FIGURES_OF]) if draw is not None else {}
    found = {one.key: one for one in sections_of(analysis, everything, said, plan, figures)}
    order = plan if plan.order else ReportPlan(order=letterhead.order)
    arranged = [found[key] for key in order.arranged(found)]
    arranged.sort(key=lambda one: one.appendix)
    return Shown(
        tuple(one for one in arranged if one.key not in plan.left_out),
        tuple(one for one in arranged if one.key in plan.left_out),
    )


def render(
    analysis: Analysis,
    said: Said = Said(),
    masker: Masker | None = None,
    plan: ReportPlan = ReportPlan(),
    letterhead: Letterhead = Letterhead(),
    draw: Draw | None = None,
) -> str:
    """The page.

    With a masker: without names, and with addresses masked. draw: gives findings their figures.
    """
    if masker is not None:
        analysis, said = _without_names(analysis, said)
        draw = _masking(draw, masker) if draw is not None else None
    shown = shown_sections(analysis, said, plan, letterhead, draw)
    page = page_of(shown.sections, plan.title or TITLE, period_words(analysis), letterhead, masker is not None)
    return masked(page, masker) if masker is not None else page


def _masking(draw: Draw, masker: Masker) -> Draw:
    def drawn(analysis: Analysis, found: Sequence[Finding]) -> Figures:
        return {key: [one.masked(masker) for one in own] for key, own in draw(analysis, found).items()}

    return drawn


def _without_names(analysis: Analysis, said: Said) -> tuple[Analysis, Said]:
    """The same without names. What the user said of findings goes along, though their subjects are called otherwise."""

    def mark(finding: Finding) -> tuple[object, ...]:
        return finding.party, finding.cause, finding.first_ns, finding.last_ns, finding.lost_ns, finding.users

    plain = nameless(analysis)
    keys = {mark(f): f.key for f in all_findings(plain)}
    other = {f.key: keys.get(mark(f), f.key) for f in all_findings(analysis)}
    return plain, Said(
        said.complaints,
        tuple(other.get(key, key) for key in said.pinned),
        {other.get(key, key): reason for key, reason in said.dismissed.items()},
        {other.get(key, key): text for key, text in said.remarks.items()},
        said.notes,
    )


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


def write_report(
    analysis: Analysis,
    path: Path,
    said: Said = Said(),
    masker: Masker | None = None,
    plan: ReportPlan = ReportPlan(),
    letterhead: Letterhead = Letterhead(),
    draw: Draw | None = None,
) -> None:
    """Writes the page, whole or not at all."""
    write_whole(path, render(analysis, said, masker, plan, letterhead, draw))
