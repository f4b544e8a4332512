"""Writes and opens a case, NAME.yaffle/: columns as Arrow IPC files (mapped when opened), manifest.json for the rest.

The columns of each saving stand in a folder of their own, which the manifest names; the manifest is moved into place
last, so that a crash leaves the former state, whole.
"""

import json
import secrets
import shutil
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, replace
from pathlib import Path
from threading import Lock
from typing import TYPE_CHECKING, Any

import numpy as np

from yaffle.analysis import Analysis
from yaffle.capture.captured import Capture, Source, fingerprint, source_from
from yaffle.capture.conversations import Rows
from yaffle.capture.packets import HEAD, Columns, SackBlocks
from yaffle.capture.transport_layer import QUOTE
from yaffle.case.checks import check
from yaffle.case.columns import as_columns, as_matrix, flush, read_columns, read_texts, write_columns
from yaffle.case.migrations import BESIDE_HEADS, BY_NUMBER, WITHOUT_BEHIND, by_name, own_heads
from yaffle.case.stored_behind import behind_tables, read_behind
from yaffle.case.stored_cyclic import beside_cyclic, read_cyclic
from yaffle.case.stored_flows import beside, counter_columns, flow_columns, read_flows
from yaffle.case.stored_hops import beside_visits, read_hops, visit_columns
from yaffle.case.stored_media import beside_media, read_media
from yaffle.case.stored_path import beside_path, odd_columns, passed_columns, read_path
from yaffle.case.stored_radio import beside_heard, heard_columns, read_radio
from yaffle.cyclic.streams import Cyclic
from yaffle.errors import Cancelled, CaseError
from yaffle.exchanges.lookup import Lookup
from yaffle.exchanges.lookups import Lookups
from yaffle.exchanges.messages import Messages
from yaffle.exchanges.turns import TURN
from yaffle.hops.telemetry import Telemetry
from yaffle.ledger.accounts import Account
from yaffle.ledger.causes import CHARGES
from yaffle.ledger.fields import CONNECTION_FIELDS, EXCHANGE_FIELDS, SIDE_FIELDS
from yaffle.media.calls import Call
from yaffle.media.programs import Program
from yaffle.media.streams import Media
from yaffle.path.points_path import PointsPath
from yaffle.progress import Progress, go_on
from yaffle.radio.radio import Radio
from yaffle.records.flow_table import FlowRecords
from yaffle.texts import Texts
from yaffle.tiers.behind import nothing_behind

if TYPE_CHECKING:
    from yaffle.history.store import History

FORMAT, VERSION = "yaffle-case", 11
SUFFIX = ".yaffle"
_COLUMNS = "columns-"
FACT_NAMES = (*CONNECTION_FIELDS, *(f"{side}_{name}" for side in ("client", "server") for name in SIDE_FIELDS))
CHARGE_NAMES = tuple(" ".join(pair) for pair in CHARGES)


class _Writing:
    """How far two threads are that write, and whether they should go on."""

    def __init__(self, total: int, progress: Progress) -> None:
        self._total, self._progress = max(1, total), progress
        self._written, self._stopped = 0, False
        self._lock = Lock()

    def wrote(self, octets: int) -> None:
        """So much more. Raises Cancelled, and from then on again: a writer closes with another write."""
        with self._lock:
            self._written += octets
            share = min(1.0, self._written / self._total)
            self._stopped = self._stopped or not self._progress(share, "saving the case")
            if self._stopped:
                raise Cancelled


def save_case(
    folder: Path, analysis: Analysis, memory: dict[str, Any], *, settle: bool = True, progress: Progress = go_on
) -> None:
    """Writes the case. `memory` is what the user did: focus, pins, notes. `settle`: wait until the disk has it.

    The columns go to a folder of their own, which the manifest names last: until then the former state is what opens.
    Raises CaseError; Cancelled when `progress` says so.
    """
    if folder.suffix != SUFFIX:
        raise CaseError(f"{folder}: the name of a case ends in {SUFFIX}")
    # The columns hold what was found; what the user says is in `memory`.
    analysis = analysis.as_told(replace(analysis.told, apart=()))
    capture, account = analysis.capture, analysis.account
    tables: dict[str, Any] = {
        "packets": capture.packets._asdict(),
        "sack": {"left": capture.sack.left, "right": capture.sack.right},
        "conversations": {**capture.conversations._asdict(), "how": account.how},
        "connections": {
            "flow": account.flow,
            "start": account.starts[:-1],
            "speaker": analysis.speaker,
            **as_columns(FACT_NAMES, account.connection),
            **as_columns(CHARGE_NAMES, account.connection_charges),
        },
        "order": {"row": account.order},
        "exchanges": {
            **as_columns(EXCHANGE_FIELDS, account.exchange),
            **as_columns(CHARGE_NAMES, account.exchange_charges),
        },
        "messages": {"start": analysis.messages.starts},
        "texts": {"label": analysis.messages.label, "outcome": analysis.messages.outcome},
        "flows": flow_columns(analysis.flows),
        "counters": counter_columns(analysis.flows),
        "passed": passed_columns(analysis.path),
        "odd": odd_columns(analysis.path),
        **behind_tables(analysis.behind),
        **({} if analysis.telemetry.is_empty else {"hops": visit_columns(analysis.telemetry)}),
        **({} if analysis.radio.is_empty else {"radio": heard_columns(analysis.radio)}),
        "turns": {name: analysis.messages.turns[name] for name in TURN.names or ()},
        "icmp_errors": {name: capture.quotes[name] for name in QUOTE.names or ()},
    }
    columns = folder / f"{_COLUMNS}{secrets.token_hex(4)}"
    manifest = {
        "format": FORMAT,
        "version": VERSION,
        "columns": columns.name,
        "sources": [asdict(s) for s in capture.sources],
        "points": capture.points,
        "names": capture.names,
        "dropped_copies": capture.dropped_copies,
        "history": str(analysis.history.folder.resolve()) if analysis.history is not None else "",
    }
    total = sum(values.nbytes for table in tables.values() for values in table.values())
    try:
        columns.mkdir(parents=True)
        writers = _Writing(total, progress)
        with ThreadPoolExecutor(2) as pool:
            writing = [
                pool.submit(write_columns, columns / f"{name}.arrow", table, settle, writers.wrote)
                for name, table in tables.items()
            ]
            try:
                for one in writing:
                    one.result()
            finally:
                pool.shutdown(cancel_futures=True)
        _write_json(
            columns / "said.json",
            {**_said(analysis), "flows": beside(analysis.flows), "path": beside_path(analysis.path)},
            settle,
        )
        save_memory(folder, memory)
        _write_json(folder / "manifest.json", manifest)
    except BaseException as error:
        shutil.rmtree(columns, ignore_errors=True)
        if isinstance(error, OSError):
            raise CaseError(f"{folder}: cannot be written ({error.strerror or error})") from error
        raise
    for former in folder.glob(f"{_COLUMNS}*"):
        if former != columns:
            shutil.rmtree(former, ignore_errors=True)


def _said(analysis: Analysis) -> dict[str, Any]:
    """What was asked, in texts."""
    messages = analysis.messages
    return {
        **{
            name: {str(c): text for c, text in getattr(messages, name).items()} for name in ("protocol", "host", "note")
        },
        "lookups": [asdict(lookup) for lookup in analysis.lookups.rows],
        **beside_media(analysis.media, analysis.programs, analysis.calls),
        "hops": beside_visits(analysis.telemetry),
        "radio": beside_heard(analysis.radio),
        "cyclic": beside_cyclic(analysis.cyclic),
    }


def _read_said(
    folder: Path, connections: int, packets: int, points: int, conversations: int
) -> tuple[Messages, Lookups, tuple[list[Media], list[Program], list[Call]], FlowRecords, PointsPath]:
    """The reverse. Raises CaseError, KeyError, TypeError, ValueError where it makes no sense."""
    try:
        said = json.loads((folder / "said.json").read_text(encoding="utf-8"))
    except OSError as error:
        raise CaseError(f"{folder}: the case is damaged here ({error})") from error
    starts = read_columns(folder / "messages.arrow")["start"]
    columns = read_columns(folder / "turns.arrow")
    turns = np.zeros(columns["first"].size, TURN)
    for name in TURN.names or ():
        turns[name] = columns[name]
    if (texts := folder / "texts.arrow").exists():
        label, outcome = (read_texts(texts)[name] for name in ("label", "outcome"))
    else:  # As version 9 and those before wrote them.
        label, outcome = (Texts.of(str(text) for text in said[name]) for name in ("label", "outcome"))
    protocol, host, note = (
        {int(c): str(text) for c, text in said[name].items()} for name in ("protocol", "host", "note")
    )
    if starts.size != connections + 1 or len(label) != len(outcome) or any(not 0 <= c < connections for c in protocol):
        raise ValueError("messages point outside their table")
    rows = [Lookup(**{**row, "addresses": tuple(row["addresses"])}) for row in said["lookups"]]
    return (
        Messages(starts, turns, label, outcome, protocol, host, note),
        Lookups(rows),
        read_media(said, points),
        read_flows(read_columns(folder / "flows.arrow"), read_columns(folder / "counters.arrow"), said["flows"]),
        read_path(
            read_columns(folder / "passed.arrow"),
            read_columns(folder / "odd.arrow"),
            said["path"],
            packets,
            points,
            conversations,
        ),
    )


def _beside_packets(folder: Path, points: int) -> tuple[Telemetry, Radio, list[Cyclic]]:
    """Per-hop telemetry, what radios heard, and cyclic streams; none in cases of former versions. Raises KeyError,
    TypeError, ValueError.
    """
    hops, heard = folder / "hops.arrow", folder / "radio.arrow"
    said = json.loads((folder / "said.json").read_text(encoding="utf-8"))
    return (
        read_hops(read_columns(hops), said["hops"]) if hops.exists() else Telemetry(),
        read_radio(read_columns(heard), said["radio"]) if heard.exists() else Radio(),
        read_cyclic(said.get("cyclic", []), points),
    )


def _write_json(path: Path, content: dict[str, Any], settle: bool = True) -> None:
    part = path.with_name(path.name + ".part")
    part.write_text(json.dumps(content, indent=1 if settle else None), encoding="utf-8")
    if settle:
        flush(part)
    part.replace(path)


def save_memory(folder: Path, memory: dict[str, Any]) -> None:
    """Writes only what the user did."""
    _write_json(folder / "memory.json", memory)


def open_case(folder: Path) -> tuple[Analysis, dict[str, Any]]:
    """The analysis, with its columns mapped, and what the user did. Raises CaseError."""
    try:
        manifest = json.loads((folder / "manifest.json").read_text(encoding="utf-8"))
        memory_file = folder / "memory.json"
        memory = json.loads(memory_file.read_text(encoding="utf-8")) if memory_file.exists() else {}
    except FileNotFoundError as error:
        raise CaseError(f"{folder}: this is not a case (no manifest.json)") from error
    except (OSError, ValueError) as error:
        raise CaseError(f"{folder}: the manifest cannot be read ({error})") from error
    if not isinstance(manifest, dict) or not isinstance(memory, dict) or manifest.get("format") != FORMAT:
        raise CaseError(f"{folder}: this is not a case")
    version = manifest.get("version")
    if not isinstance(version, int) or not WITHOUT_BEHIND <= version <= VERSION:
        later = isinstance(version, int) and version > VERSION
        raise CaseError(
            f"{folder}: made by {'a later' if later else 'an earlier'} version of this program; its captures can be"
            " opened again"
        )
    named = str(manifest.get("columns", ""))
    if not named.startswith(_COLUMNS) or Path(named).name != named:
        raise CaseError(f"{folder}: the case is damaged (its columns are said to be in {named!r})")
    try:
        packets = read_columns(folder / named / "packets.arrow")
        packets["head"] = packets["head"].view(HEAD)
        if version <= BESIDE_HEADS:
            packets = own_heads(packets)
        conversations = read_columns(folder / named / "conversations.arrow")
        connections = read_columns(folder / named / "connections.arrow")
        exchanges = read_columns(folder / named / "exchanges.arrow")
        if version <= BY_NUMBER:
            connections, exchanges = by_name("connections", connections), by_name("exchanges", exchanges)
        sack = read_columns(folder / named / "sack.arrow")
        order = read_columns(folder / named / "order.arrow")["row"]
        told = read_columns(folder / named / "icmp_errors.arrow")
        quotes = np.zeros(told["flow"].size, QUOTE)
        for name in QUOTE.names or ():
            quotes[name] = told[name]
        sources = [source_from(one) for one in manifest["sources"]]
        capture = Capture(
            sources,
            Columns(**packets),
            SackBlocks(sack["left"], sack["right"]),
            Rows(**{name: conversations[name] for name in Rows._fields}),
            manifest["points"],
            manifest["names"],
            manifest["dropped_copies"],
            quotes,
        )
        account = Account(
            connections["flow"],
            np.append(connections["start"], order.size),
            order,
            conversations["how"],
            as_matrix(FACT_NAMES, connections),
            as_matrix(CHARGE_NAMES, connections),
            as_matrix(EXCHANGE_FIELDS, exchanges),
            as_matrix(CHARGE_NAMES, exchanges),
        )
        check(capture, account, connections["speaker"])
        messages, lookups, (media, programs, calls), flows, path = _read_said(
            folder / named,
            account.flow.size,
            packets["time_ns"].size,
            len(capture.points),
            capture.conversations.point.size,
        )
        telemetry, radio, cyclic = _beside_packets(folder / named, len(capture.points))
        history = _history(manifest["history"], sources)
        behind = nothing_behind()
        if version > WITHOUT_BEHIND:
            links, parts = (read_columns(folder / named / f"{name}.arrow") for name in ("links", "server_parts"))
            behind = read_behind(links, parts, account.exchange.shape[0])
        if account.exchange.shape[0] and int(account.of_exchange("message").max()) >= len(messages.label):
            raise ValueError("the message of an exchange points outside its table")
    except (KeyError, TypeError, ValueError) as error:
        raise CaseError(f"{folder}: the case is damaged ({error})") from error
    return (
        Analysis(
            capture,
            account,
            connections["speaker"],
            messages,
            lookups,
            media,
            flows,
            history=history,
            path=path,
            calls=calls,
            programs=programs,
            behind=behind,
            telemetry=telemetry,
            radio=radio,
            cyclic=cyclic,
        ),
        memory,
    )


def _history(path: str, sources: list[Source]) -> "History | None":
    """The history that a case goes with, where it can still be read; else its source says why not, and the rest
    opens.
    """
    from yaffle.history.layout import HistoryError
    from yaffle.history.store import History

    try:
        return History(Path(path)) if path else None
    except HistoryError as error:
        away = f"its flow records and counters cannot be had: {error}"
        sources[:] = [source.noting(away) if source.path == path else source for source in sources]
        return None


def missing_source(source: Source) -> str:
    """Why the packets of a source cannot be looked at: it moved or changed; empty where all is well."""
    path = Path(source.path)
    if "://" in source.path:
        return f"{source.path} lies in a store: fetch it, and say where it is now"
    if not path.exists():
        return f"{path} is not there any more"
    if source.fingerprint and fingerprint(path) != source.fingerprint:
        return f"{path} is not the file it was"
    return ""


def relocate(capture: Capture, number: int, path: Path) -> None:
    """Takes a moved file for one of the sources, if it is the same one. Raises CaseError."""
    source = capture.sources[number]
    if source.fingerprint and fingerprint(path) != source.fingerprint:
        raise CaseError(f"{path}: this is another file than the one that was analysed")
    capture.sources[number] = replace(source, path=str(path.resolve()))
