"""The sections of a report, in their usual order: each with a key, so that it can be moved, left out, reworded."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Bools, Int64s
from yaffle.findings.cleared import cleared
from yaffle.findings.finding import Finding
from yaffle.findings.headline import headline
from yaffle.ledger import causes
from yaffle.ledger.sums import party_sums
from yaffle.report.by_application import by_application
from yaffle.report.figure import Figure
from yaffle.report.flow_part import flow_tables
from yaffle.report.ledger_picture import ledger_picture, party_picture
from yaffle.report.plan import ANSWER, ReportPlan
from yaffle.report.three_sentences import three_sentences
from yaffle.report.tiers_part import waited_table
from yaffle.units import count, duration, share

FINDING = "finding/"
_MOST_CLEARED = 12


@dataclass(frozen=True)
class Said:
    """What the user adds to the report: complaints (who, what, when, words), findings kept, put away and remarked on
    (by key), notes.
    """

    complaints: tuple[tuple[str, str, str, str], ...] = ()
    pinned: tuple[str, ...] = ()
    dismissed: dict[str, str] = field(default_factory=dict)
    remarks: dict[str, str] = field(default_factory=dict)
    notes: str = ""


@dataclass(frozen=True)
class Section:
    """key: what it is known by. template: which part of the page draws it. usual: its words where they can be
    changed. appendix: whether it comes behind what has to be read.
    """

    key: str
    title: str
    template: str
    content: Mapping[str, Any]
    usual: str | None = None
    appendix: bool = False


Figures = Mapping[str, Sequence[Figure]]  # by the key of a finding


def told_findings(found: Sequence[Finding], said: Said, plan: ReportPlan) -> list[Finding]:
    """Those that are told: pinned ones first, dismissed ones not."""
    kept = [f for f in found if f.key not in said.dismissed and (not plan.pinned_only or f.key in said.pinned)]
    return sorted(kept, key=lambda f: f.key not in said.pinned)


def sections_of(
    analysis: Analysis, everything: Sequence[Finding], said: Said, plan: ReportPlan, figures: Figures
) -> list[Section]:
    """All sections that have something to say, in their usual order."""
    told = told_findings(everything, said, plan)
    dismissed = [(f.sentence, said.dismissed[f.key]) for f in everything if f.key in said.dismissed]
    speaks = analysis.speaker == np.arange(analysis.speaker.size)
    charges = analysis.account.connection_charges[speaks].sum(axis=0) if speaks.any() else np.zeros(causes.COUNT, int)
    usual = three_sentences(analysis, charges, told)
    found = []
    if said.complaints:
        found.append(Section("complaint", "Complaint", "complaint", {"complaints": said.complaints}))
    found.append(
        Section(ANSWER, "Answer", "answer", _ledger(charges) | {"words": plan.words.get(ANSWER, usual)}, usual)
    )
    for number, finding in enumerate(told, 1):
        found.append(_finding(finding, number, said, plan, figures))
    if not told:
        none = "No finding was pinned." if plan.pinned_only and everything else "Nothing here is slow."
        found.append(Section("findings", "Findings", "lines", {"lines": [none]}))
    if fine := [place.sentence for place in cleared(analysis, analysis.speaker, list(everything))[:_MOST_CLEARED]]:
        found.append(Section("fine", "No problem found", "lines", {"lines": fine}))
    if dismissed:
        lines = [f"Dismissed ({reason}): {sentence}" for sentence, reason in dismissed]
        found.append(Section("dismissed", "Dismissed", "lines", {"lines": lines}))
    if said.notes:
        found.append(Section("notes", "Notes", "notes", {"notes": said.notes}))
    return found + _appendix(analysis, speaks, charges)


def _finding(finding: Finding, number: int, said: Said, plan: ReportPlan, figures: Figures) -> Section:
    key = f"{FINDING}{finding.key}"
    facts = (
        (f"Total delay {duration(finding.lost_ns)}; " if finding.lost_ns else "")
        + (f"{count(finding.users)} client{'s' if finding.users != 1 else ''}; " if finding.users else "")
        + f"confidence {round(100 * finding.confidence)} %."
    )
    content = {
        "words": plan.words.get(key, finding.sentence),
        "severity": finding.severity,
        "facts": facts,
        "ruled_out": finding.grounds.get("ruled_out", ""),
        "remark": said.remarks.get(finding.key, ""),
        "next_step": finding.next_step,
        "figures": [(figure.inline(), figure.sentence) for figure in figures.get(finding.key, ())],
    }
    return Section(key, f"{number}. {headline(finding)}", "finding", content, finding.sentence)


def _ledger(charges: Int64s) -> dict[str, Any]:
    total, parties = int(charges.sum()), party_sums(charges[None, :])[0]
    key = [
        (party_picture(p), f"{p} {duration(int(parties[i]))} ({share(parties[i] / max(1, total))})")
        for i, p in enumerate(causes.PARTIES)
        if total
    ]
    return {"bar": ledger_picture(charges, total), "key": key}


def _appendix(analysis: Analysis, speaks: Bools, charges: Int64s) -> list[Section]:
    """Tables, sources, method."""
    found: list[Section] = []

    def add(key: str, title: str, template: str, content: dict[str, Any]) -> None:
        found.append(Section(key, title, template, content, appendix=True))

    if groups := by_application(analysis, speaks):
        widest = max(int(g["total"]) for g in groups)
        bars = [ledger_picture(g["charges"], widest, 150) for g in groups]
        add("applications", "Waits by application", "applications", {"groups": list(zip(groups, bars, strict=True))})
    if waited := waited_table(analysis):
        add("tiers", "Servers that waited for servers", "tiers", {"waited": waited})
    if total := int(charges.sum()):
        rows = [
            (party, f"{cause}: {causes.WORDS[cause]}", duration(int(charges[k])), share(charges[k] / total))
            for k, (party, cause) in sorted(enumerate(causes.CHARGES), key=lambda item: -int(charges[item[0]]))
            if charges[k]
        ]
        add("causes", "Delay by cause", "causes", {"rows": rows})
    if flows := flow_tables(analysis):
        add("flows", "Flow records", "flows", {"flows": flows})
    sources = [
        (s.name, f"{count(s.packets)} packets, {'complete' if s.complete else 'not complete'}", s.notes)
        for s in analysis.capture.sources
    ]
    add("sources", "Sources", "sources", {"sources": sources})
    add("method", "Method and limits", "method", {})
    return found


Draw = Callable[[Analysis, Sequence[Finding]], Figures]
