"""The report: one self-contained HTML page. Answer, findings with grounds, ledger pictures, method and limits."""

from pathlib import Path
from typing import Any

import jinja2
import numpy as np
from markupsafe import Markup

from yaffle import __version__
from yaffle.analysis import Analysis
from yaffle.capture.addresses import server_labels
from yaffle.findings.cleared import cleared
from yaffle.findings.finding import find
from yaffle.findings.places import Places
from yaffle.ledger import causes
from yaffle.ledger.sums import party_sums
from yaffle.report.answer import write_whole
from yaffle.units import count, day, duration, moment, share

_FILL = {causes.CLIENT: "url(#client)", causes.NETWORK: "#1c7676", causes.SERVER: "url(#server)", causes.UNEXPLAINED: "#fbf8ef"}


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
            parts.append(f'<rect x="{x:.1f}" width="{w:.1f}" height="14" fill="{_FILL[party]}"{stroke}><title>{party} {duration(own)}</title></rect>')
        x += w
    return Markup(f'<svg viewBox="0 0 {width} 14" width="100%" height="14" preserveAspectRatio="none">{"".join(parts)}</svg>')


def _groups(analysis: Analysis, places: Places, speaks: Any) -> list[dict[str, Any]]:
    account, flows = analysis.account, analysis.capture.conversations
    server, ports = server_labels(flows, account.flow), flows.b_port[account.flow].tolist()
    application = {pair: places.application(server.texts[pair[0]], pair[1]) for pair in set(zip(server.codes.tolist(), ports, strict=True))}
    names = np.array([application[pair] for pair in zip(server.codes.tolist(), ports, strict=True)])
    clients = flows.a_lo[account.flow] ^ flows.a_hi[account.flow]
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
                "median": duration(float(np.median(wait[rows]))),
                "p95": duration(float(np.quantile(wait[rows], 0.95))),
                "worst": duration(int(wait[rows].max())),
                "wait": duration(int(charges.sum())),
                "charges": charges,
                "total": int(charges.sum()),
            }
        )
    return sorted(found, key=lambda g: -int(g["total"]))


def render(analysis: Analysis, title: str = "Whose delay was it?") -> str:
    """The page."""
    capture, account = analysis.capture, analysis.account
    speaks = analysis.speaker == np.arange(analysis.speaker.size)
    charges = account.connection_charges[speaks].sum(axis=0) if speaks.any() else np.zeros(causes.COUNT, np.int64)
    total = int(charges.sum())
    parties = party_sums(charges[None, :])[0]
    groups = _groups(analysis, Places(capture.names), speaks)
    held = [s for s in capture.sources if s.packets]
    period = f"{day(held[0].first_ns)}, {moment(min(s.first_ns for s in held), digits=0)} to {moment(max(s.last_ns for s in held), digits=0)} UTC" if held else "no packets"
    found = find(analysis, analysis.speaker)
    findings = [
        {
            "sentence": f.sentence,
            "severity": f.severity,
            "next_step": f.next_step,
            "ruled_out": f.grounds.get("ruled_out", ""),
            "facts": f"{duration(f.lost_ns)} lost, {f.users} users, {round(100 * f.confidence)} % sure.",
        }
        for f in found
    ]
    environment = jinja2.Environment(loader=jinja2.PackageLoader("yaffle", "report"), autoescape=True, trim_blocks=True)
    return environment.get_template("report.html.j2").render(
        title=title,
        version=__version__,
        period=period,
        summary=f"{count(int(speaks.sum()))} connections, {count(int(account.fact('exchanges')[speaks].sum()))} exchanges, {duration(total)} of waiting in all.",
        total=charges,
        total_ns=total,
        bar=ledger_picture,
        key=[(p, _FILL[p], f"{duration(int(parties[i]))} ({share(parties[i] / max(1, total))})") for i, p in enumerate(causes.PARTIES)],
        findings=findings,
        cleared=[place.sentence for place in cleared(analysis, analysis.speaker, found)[:12]],
        groups=groups,
        widest=max((int(g["total"]) for g in groups), default=1),
        causes=[
            (party, cause, causes.WORDS[cause], duration(int(charges[k])), share(charges[k] / max(1, total)))
            for k, (party, cause) in sorted(enumerate(causes.CHARGES), key=lambda item: -int(charges[item[0]]))
            if charges[k]
        ],
        sources=[{"name": s.name, "words": f"{count(s.packets)} packets, {'complete' if s.complete else 'not complete'}", "notes": s.notes} for s in capture.sources],
    )


def write_report(analysis: Analysis, path: Path) -> None:
    """Writes the page, whole or not at all."""
    write_whole(path, render(analysis))
