"""The short answer for people, as text: who is slow, whose fault, how sure, what next."""

import textwrap
from pathlib import Path

import numpy as np

from yaffle.analysis import Analysis
from yaffle.findings.cleared import cleared
from yaffle.findings.ranking import all_findings
from yaffle.ledger import causes
from yaffle.ledger.sums import party_sums
from yaffle.units import count, duration, moment


def write_whole(path: Path, text: str) -> None:
    """Writes a file whole or not at all."""
    part = path.with_name(path.name + ".part")
    part.write_text(text, encoding="utf-8")
    part.replace(path)


def answer(analysis: Analysis) -> str:
    """A few lines: what was read, the ledger of all, the findings in order."""
    capture, account = analysis.capture, analysis.account
    lines = []
    for source in capture.sources:
        period = (
            f"{moment(source.first_ns, digits=0)} to {moment(source.last_ns, digits=0)}"
            if source.packets
            else "no packets"
        )
        lines.append(
            f"{source.name}: {count(source.packets)} packets, {period},"
            f" {'complete' if source.complete else 'not complete'}"
        )
        lines += [f"  note: {note}" for note in source.notes]
    speaks = analysis.speaker == np.arange(analysis.speaker.size)
    charges = account.connection_charges[speaks]
    total = int(charges.sum())
    exchanges = int(account.fact("exchanges")[speaks].sum())
    lines.append("")
    lines.append(f"{count(int(speaks.sum()))} connections, {count(exchanges)} exchanges, total wait {duration(total)}:")
    if total:
        sums = party_sums(charges).sum(axis=0)
        parts = [
            f"{party} {duration(int(sums[i]))} ({100 * int(sums[i]) / total:.0f} %)"
            for i, party in enumerate(causes.PARTIES)
            if sums[i]
        ]
        lines.append("  " + ", ".join(parts))
    for exporter in analysis.exporters:
        lines += textwrap.wrap(exporter.sentence, 100, subsequent_indent="   ")
    found = all_findings(analysis)
    lines.append("")
    if not found:
        only_flows = (analysis.flows.rows.size or analysis.history is not None) and not speaks.any()
        lines.append(
            "No finding: flow records tell volumes, not waits." if only_flows else "No finding: nothing here is slow."
        )
    for number, finding in enumerate(found, 1):
        lines += textwrap.wrap(f"{number}. {finding.sentence}", 100, subsequent_indent="   ")
        lines.append(
            f"   {finding.severity}; {round(100 * finding.confidence)} %"
            f" sure{f'; {duration(finding.lost_ns)} lost' if finding.lost_ns else ''}"
        )
        if finding.grounds.get("ruled_out"):
            lines += textwrap.wrap(finding.grounds["ruled_out"], 100, initial_indent="   ", subsequent_indent="   ")
        lines += textwrap.wrap("Next: " + finding.next_step, 100, initial_indent="   ", subsequent_indent="   ")
    if found and (fine := cleared(analysis, analysis.speaker, found)):
        lines.append("")
        for place in fine[:5]:
            lines += textwrap.wrap(place.sentence, 100, subsequent_indent="   ")
    return "\n".join(lines)
