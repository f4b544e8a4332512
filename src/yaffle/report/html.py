"""The report: one self-contained HTML page. Answer, findings with grounds, ledger pictures, method and limits."""

import ipaddress
import re
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import jinja2
import numpy as np
from markupsafe import Markup

from yaffle import __version__
from yaffle.analysis import Analysis
from yaffle.capture.addresses import client_labels, server_labels
from yaffle.capture.masking import Masker
from yaffle.exchanges.lookups import Lookups
from yaffle.findings.cleared import cleared
from yaffle.findings.ranking import all_findings
from yaffle.inventory.expected_markings import VIDEO, VOICE
from yaffle.inventory.places import Places
from yaffle.ledger import causes
from yaffle.ledger.sums import party_sums
from yaffle.quantiles import median, p95
from yaffle.report.answer import write_whole
from yaffle.report.flow_part import flow_tables
from yaffle.report.tiers_part import waited_table
from yaffle.units import count, day, duration, moment, share, zone_name


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


_ADDRESS = re.compile(
    r"(?<![\w.:])((?:\d{1,3}\.){3}\d{1,3}(?!\.?\d)|[0-9a-fA-F]{1,4}(?::[0-9a-fA-F]{0,4}){2,7}(?![\w:]))(/\d{1,3})?"
)
_FILL = {
    causes.CLIENT: "url(#client)",
    causes.NETWORK: "#1c7676",
    causes.SERVER: "url(#server)",
    causes.UNEXPLAINED: "#fbf8ef",
}


def ledger_picture(charges: Any, full_ns: float, width: int = 560) -> Markup:
    """The ledger bar as SVG."""
    total = float(charges.sum())
    if total <= 0:
        return Markup("")
    x, parts = 0.0, []
    for party in causes.PARTIES:
        own = float(charges[causes.party_columns(party)].sum())
        w = width * own / max(full_ns, 1.0)
        if w > 0:
            stroke = ' stroke="#7d796d"' if party == causes.UNEXPLAINED else ""
            parts.append(
                f'<rect x="{x:.1f}" width="{w:.1f}" height="14" fill="{_FILL[party]}"{stroke}><title>{party}'
                f" {duration(own)}</title></rect>"
            )
        x += w
    return Markup(
        f'<svg viewBox="0 0 {width} 14" width="100%" height="14" preserveAspectRatio="none">{"".join(parts)}</svg>'
    )


def party_picture(party: str) -> Markup:
    """The color and mark of a party as SVG."""
    return Markup(
        '<svg width="18" height="10"><rect width="18" height="10" fill="{}" stroke="#7d796d" stroke-width=".5"/></svg>'
    ).format(_FILL[party])


def _groups(analysis: Analysis, places: Places, speaks: Any) -> list[dict[str, Any]]:
    account, flows = analysis.account, analysis.capture.conversations
    server, ports = server_labels(flows, account.flow), flows.b_port[account.flow].tolist()
    application = {
        pair: places.application(server.texts[pair[0]], pair[1])
        for pair in set(zip(server.codes.tolist(), ports, strict=True))
    }
    names = np.array([application[pair] for pair in zip(server.codes.tolist(), ports, strict=True)])
    clients = client_labels(flows, account.flow).codes
    owner = account.of_exchange("connection")
    wait = account.exchange_charges.sum(axis=1)
    found = []
    for name in sorted(set(names.tolist())):
        member = (names == name) & speaks
        rows = member[owner] if owner.size else np.zeros(0, bool)
        if not rows.any():
            continue
        charges = account.exchange_charges[rows].sum(axis=0)
        found.append(
            {
                "label": name,
                "exchanges": count(int(rows.sum())),
                "users": int(np.unique(clients[member]).size),
                "median": duration(median(wait[rows])),
                "p95": duration(p95(wait[rows])),
                "worst": duration(int(wait[rows].max())),
                "wait": duration(int(charges.sum())),
                "charges": charges,
                "total": int(charges.sum()),
            }
        )
    return sorted(found, key=lambda g: -int(g["total"]))


def _nameless(analysis: Analysis) -> Analysis:
    """The same without the names that captures hold or bear: of hosts, of what was looked up, of files and their
    points; and without the user's own.
    """
    capture = analysis.capture
    sources = [replace(source, name=f"capture {k + 1}", names={}) for k, source in enumerate(capture.sources)]
    points = [f"point {k + 1}" for k in range(len(capture.points))]
    expected = tuple(rule for rule in analysis.expected if rule.application in (VOICE, VIDEO))
    analysis = replace(analysis, rules=(), sites=(), expected=expected, renamed=())
    return replace(
        analysis,
        capture=replace(capture, names={}, sources=sources, points=points),
        lookups=Lookups(),
        messages=replace(analysis.messages, host={}),
    )


def render(
    analysis: Analysis,
    title: str = "Whose delay was it?",
    said: Said = Said(),
    masker: Masker | None = None,
    bar: Callable[[Any, float], Markup] = ledger_picture,
    swatch: Callable[[str], Markup] = party_picture,
) -> str:
    """The page.

    With a masker: without names, and with addresses masked. bar: draws a ledger; swatch: a party's color and mark.
    """
    if masker is not None:
        analysis = _nameless(analysis)
    capture, account = analysis.capture, analysis.account
    speaks = analysis.speaker == np.arange(analysis.speaker.size)
    charges = account.connection_charges[speaks].sum(axis=0) if speaks.any() else np.zeros(causes.COUNT, np.int64)
    total = int(charges.sum())
    parties = party_sums(charges[None, :])[0]
    groups = _groups(analysis, analysis.places, speaks)
    held = [s for s in capture.sources if s.packets]
    period = "no packets"
    if held:
        first, last = min(s.first_ns for s in held), max(s.last_ns for s in held)
        period = f"{day(first)}, {moment(first, digits=0)} to {moment(last, digits=0)} {zone_name()}"
    everything = all_findings(analysis)
    found = sorted((f for f in everything if f.key not in said.dismissed), key=lambda f: f.key not in said.pinned)
    findings = [
        {
            "sentence": f.sentence,
            "severity": f.severity,
            "next_step": f.next_step,
            "ruled_out": f.grounds.get("ruled_out", ""),
            "remark": said.remarks.get(f.key, ""),
            "pinned": f.key in said.pinned,
            "facts": (f"total delay {duration(f.lost_ns)}, " if f.lost_ns else "")
            + (f"{f.users} clients, " if f.users else "")
            + f"confidence {round(100 * f.confidence)} %.",
        }
        for f in found
    ]
    environment = jinja2.Environment(loader=jinja2.PackageLoader("yaffle", "report"), autoescape=True, trim_blocks=True)
    page = environment.get_template("report.html.j2").render(
        title=title,
        said=said,
        masked=masker is not None,
        dismissed=[(f.sentence, said.dismissed[f.key]) for f in everything if f.key in said.dismissed],
        version=__version__,
        period=period,
        summary=(
            f"{count(int(speaks.sum()))} connections, {count(int(account.fact('exchanges')[speaks].sum()))} exchanges,"
            f" {duration(total)} total delay."
        ),
        total=charges,
        total_ns=total,
        bar=bar,
        swatch=swatch,
        key=[
            (p, f"{duration(int(parties[i]))} ({share(parties[i] / max(1, total))})")
            for i, p in enumerate(causes.PARTIES)
        ],
        findings=findings,
        cleared=[place.sentence for place in cleared(analysis, analysis.speaker, everything)[:12]],
        groups=groups,
        waited=waited_table(analysis),
        flows=flow_tables(analysis),
        widest=max((int(g["total"]) for g in groups), default=1),
        causes=[
            (party, cause, causes.WORDS[cause], duration(int(charges[k])), share(charges[k] / max(1, total)))
            for k, (party, cause) in sorted(enumerate(causes.CHARGES), key=lambda item: -int(charges[item[0]]))
            if charges[k]
        ],
        sources=[
            {
                "name": s.name,
                "words": f"{count(s.packets)} packets, {'complete' if s.complete else 'not complete'}",
                "notes": s.notes,
            }
            for s in capture.sources
        ],
    )
    return _mask(page, masker) if masker is not None else page


def _mask(page: str, masker: Masker) -> str:
    """Addresses and networks in a text, masked."""

    def other(match: re.Match[str]) -> str:
        try:
            if match.group(2):
                network = ipaddress.ip_network(match.group(0))
                return str(
                    ipaddress.ip_network(f"{masker.text(str(network.network_address))}{match.group(2)}", strict=False)
                )
            return masker.text(match.group(0))
        except ValueError:
            return match.group(0)

    return _ADDRESS.sub(other, page)


def write_report(analysis: Analysis, path: Path, said: Said = Said(), masker: Masker | None = None) -> None:
    """Writes the page, whole or not at all."""
    write_whole(path, render(analysis, said=said, masker=masker))
