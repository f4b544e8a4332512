"""Everything a report rests on as one file: report, document, tables, packets of each finding, checksums, commands.

Figures that somebody may doubt are worked out a second time from the packets that go along, so that the command beside
each gives what stands there, wherever the bundle is unpacked.
"""

import hashlib
import json
import tempfile
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from yaffle import __version__
from yaffle.analysis import Analysis, analyse
from yaffle.arrays import Array
from yaffle.capture.masking import Masker
from yaffle.errors import YaffleError
from yaffle.findings.finding import Finding
from yaffle.findings.headline import headline
from yaffle.ledger import causes
from yaffle.ledger.sums import party_sums
from yaffle.progress import Progress, step
from yaffle.report.document import NS_PER_MS, document
from yaffle.report.nameless import masked, nameless
from yaffle.report.sections import told_findings
from yaffle.session.exports import connections_table, safe_name, waits_table, write_packets, write_table
from yaffle.session.focus import Focus
from yaffle.session.investigation import Opened
from yaffle.session.kept import Kept
from yaffle.session.reporting import said, write_page
from yaffle.session.scene import Scene

FORMAT, VERSION = "yaffle-bundle", 1
MANIFEST, SUMS, WORDS = "manifest.json", "SHA256SUMS", "README.txt"
_MOST_FINDINGS = 40


@dataclass(frozen=True)
class BundleFigure:
    """One figure: what it is, its value in the report's evidence and from the packets that go along, and how to get
    the latter again. path: where it stands in the document that the command prints.
    """

    finding: str
    figure: str
    path: str
    in_report: float
    from_packets: float
    command: str

    def as_json(self) -> dict[str, Any]:
        """For the manifest."""
        return dict(self.__dict__)


def write_bundle(opened: Opened, kept: Kept, page: str, path: Path, masker: Masker | None, progress: Progress) -> Path:
    """Writes the bundle, whole or not at all. page: the report. Raises YaffleError, Cancelled."""
    with tempfile.TemporaryDirectory(prefix="yaffle-bundle-") as made:
        folder = Path(made)
        figures = _fill(opened, kept, page, folder, masker, progress)
        _describe(folder, figures, masker is not None)
        part = path.with_name(path.name + ".part")
        try:
            with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as bundle:
                for file in sorted(one for one in folder.rglob("*") if one.is_file()):
                    step(progress, 0.95, "packing")
                    bundle.write(file, str(file.relative_to(folder)))
            part.replace(path)
        except OSError as error:
            raise YaffleError(f"{path}: cannot be written ({error.strerror or error})") from error
        finally:
            part.unlink(missing_ok=True)
    return path


def _fill(
    opened: Opened, kept: Kept, page: str, folder: Path, masker: Masker | None, progress: Progress
) -> list[BundleFigure]:
    analysis, evidence = opened.analysis, opened.evidence
    write_page(page, folder / "report.html")
    step(progress, 0.05, "laying out the report")
    try:
        write_page(page, folder / "report.pdf")
    except YaffleError as error:
        (folder / "report-pdf-is-missing.txt").write_text(f"{error}\n", encoding="utf-8")
    step(progress, 0.15, "writing the document")
    text = json.dumps(document(nameless(analysis) if masker is not None else analysis))
    (folder / "analysis.json").write_text(masked(text, masker) if masker is not None else text, encoding="utf-8")
    every = np.arange(evidence.waits.first_ns.size)
    scene = Scene(evidence, Focus(), opened.filter, every, every)
    if every.size:
        write_table(waits_table(scene, masker), folder / "exchanges.csv")
        write_table(connections_table(scene, masker), folder / "connections.csv")
    told = [f for f in told_findings(opened.findings, said(kept), kept.report) if f.connections][:_MOST_FINDINGS]
    return _packets(opened, told, folder, masker, progress)


def _packets(
    opened: Opened, told: Sequence[Finding], folder: Path, masker: Masker | None, progress: Progress
) -> list[BundleFigure]:
    """The packets of each finding's connections, and its figures once more from them."""
    found = []
    if told:
        (folder / "packets").mkdir()
    for number, finding in enumerate(told, 1):
        share = 0.2 + 0.7 * (number - 1) / len(told)
        step(progress, share, f"packets of finding {number} of {len(told)}")
        subject = finding.cause if masker is not None else f"{finding.subject} {finding.cause}"
        name = f"packets/{number:02}-{safe_name(subject)[:60]}.pcapng"
        words = f"finding {number}" if masker is not None else f"{number}. {headline(finding)}"
        rows = _packets_of(opened.analysis, finding)
        write_packets(opened.evidence, rows, folder / name, masker)
        found += _figures(opened.analysis, finding, words, folder, name)
    return found


def _packets_of(analysis: Analysis, finding: Finding) -> Array:
    """Mask of all packets of a finding's connections."""
    flows = np.zeros(int(analysis.capture.conversations.a_port.size) + 1, bool)
    flows[analysis.account.flow[np.array(finding.connections, np.int64)]] = True
    return np.asarray(flows[analysis.capture.packets.flow])


def _sums(analysis: Analysis, connections: Sequence[int] | None = None) -> dict[str, float]:
    """Exchanges and waits, as the document tells them; of some connections, or of all that speak."""
    account = analysis.account
    wanted = np.flatnonzero(analysis.speaker == np.arange(analysis.speaker.size))
    owner = account.of_exchange("connection")
    charges = account.exchange_charges[np.isin(owner, wanted if connections is None else connections)]
    parties = party_sums(charges).sum(axis=0) if charges.size else np.zeros(len(causes.PARTIES))
    found = {"exchanges": float(charges.shape[0]), "wait_ms": float(charges.sum()) / NS_PER_MS}
    return found | {f"{party}_ms": float(parties[k]) / NS_PER_MS for k, party in enumerate(causes.PARTIES)}


def _figures(analysis: Analysis, finding: Finding, words: str, folder: Path, name: str) -> list[BundleFigure]:
    own = _sums(analysis, finding.connections)
    again = _sums(analyse([folder / name]))
    command = f"yaffle analyse {name} --json -"
    paths = {key: "number of exchanges" if key == "exchanges" else f"sum of exchanges[].{key}" for key in again}
    return [
        BundleFigure(words, key, paths[key], round(own.get(key, 0.0), 6), round(again[key], 6), command)
        for key in again
    ]


def _describe(folder: Path, figures: list[BundleFigure], is_masked: bool) -> None:
    """Manifest, checksums, and words for whoever unpacks it."""
    files = [
        {"name": str(file.relative_to(folder)), "bytes": file.stat().st_size, "sha256": _sum_of(file)}
        for file in sorted(one for one in folder.rglob("*") if one.is_file())
    ]
    content = {
        "format": FORMAT, "version": VERSION, "made_by": f"yaffle {__version__}", "masked": is_masked,
        "files": files, "figures": [one.as_json() for one in figures],
    }  # fmt: skip
    (folder / MANIFEST).write_text(json.dumps(content, indent=1), encoding="utf-8")
    (folder / SUMS).write_text("".join(f"{one['sha256']}  {one['name']}\n" for one in files), encoding="utf-8")
    (folder / WORDS).write_text(_words(figures, is_masked), encoding="utf-8")


def _sum_of(file: Path) -> str:
    with file.open("rb") as data:
        return hashlib.file_digest(data, "sha256").hexdigest()


def _words(figures: list[BundleFigure], is_masked: bool) -> str:
    lines = [
        "What lies here",
        "",
        "report.html, report.pdf   the report",
        "analysis.json             all figures (docs: the analysis document)",
        "exchanges.csv, connections.csv   every exchange and connection with its charges",
        "packets/                  the packets of each finding's connections; comments say what they are",
        "manifest.json, SHA256SUMS   what belongs to it; check with: sha256sum -c SHA256SUMS",
        "",
        "Addresses are masked, names and payload are left out: figures from the packets rest on less than those of the"
        if is_masked
        else "To get the figures of a finding again from its packets alone:",
        "report, and may differ. To get them again:" if is_masked else "",
        "",
    ]
    command = ""
    for one in figures:
        if one.command != command:
            lines += ["", one.finding, f"  {one.command}"]
            command = one.command
        told = "" if one.in_report == one.from_packets else f"  (in the report, from all packets: {one.in_report:.6g})"
        lines.append(f"    {one.path} = {one.from_packets:.6g}{told}")
    return "\n".join(lines) + "\n"
