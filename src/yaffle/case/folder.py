"""Writes and opens a case, NAME.yaffle/: columns as Arrow IPC files (mapped when opened), manifest.json for the rest.

Every file is written beside its place and then moved there, the manifest last: a crash leaves the former state.
"""

import json
import os
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from yaffle.analysis import Analysis
from yaffle.arrays import Array
from yaffle.capture.captured import Capture, Source
from yaffle.capture.conversations import Rows
from yaffle.capture.headers import QUOTE
from yaffle.capture.packets import HEAD, Columns, SackBlocks
from yaffle.capture.reader import fingerprint
from yaffle.capture.records import Interface
from yaffle.errors import CaseError
from yaffle.ledger.engine import Account

FORMAT, VERSION = "yaffle-case", 2
SUFFIX = ".yaffle"


def _write_columns(path: Path, columns: dict[str, Array], settle: bool) -> None:
    table = pa.table({name: _column(values) for name, values in columns.items()})
    part = path.with_name(path.name + ".part")
    with pa.OSFile(str(part), "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
        writer.write_table(table)
    if settle:
        _flush(part)
    part.replace(path)


def _column(values: Array) -> Any:
    """An Arrow column over the same memory; rows of several fields become bytes of their length."""
    values = np.ascontiguousarray(values)
    if values.dtype.fields is None:
        return pa.array(values)
    return pa.FixedSizeBinaryArray.from_buffers(pa.binary(values.dtype.itemsize), values.size, [None, pa.py_buffer(values)])


def _flush(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _read_columns(path: Path) -> dict[str, Array]:
    """The columns of a file, mapped privately: what is written to them stays in memory. Raises CaseError."""
    try:
        mapped = np.memmap(path, np.uint8, "c")
        table = pa.ipc.open_file(pa.BufferReader(pa.py_buffer(mapped))).read_all()
    except (OSError, ValueError, pa.ArrowInvalid) as error:
        raise CaseError(f"{path}: the case is damaged here ({error})") from error
    found = {}
    for name, column in zip(table.column_names, table.columns, strict=True):
        if column.num_chunks > 1 or column.null_count:
            raise CaseError(f"{path}: the case is damaged here (column {name})")
        kind = column.type
        packed = pa.types.is_fixed_size_binary(kind)
        dtype = np.dtype(f"V{kind.byte_width}") if packed else np.dtype(kind.to_pandas_dtype())
        if not len(column):
            found[name] = np.empty(0, dtype)
            continue
        values = column.chunk(0).buffers()[1]
        start = values.address - mapped.ctypes.data
        found[name] = mapped[start : start + len(column) * dtype.itemsize].view(dtype)
    return {name: np.asarray(values) for name, values in found.items()}


def _matrix(prefix: str, matrix: Array) -> dict[str, Array]:
    return {f"{prefix}{k}": matrix[:, k] for k in range(matrix.shape[1])}


def _unmatrix(prefix: str, columns: dict[str, Array]) -> Array:
    own = [name for name in columns if name.startswith(prefix) and name[len(prefix) :].isdigit()]
    return np.stack([columns[f"{prefix}{k}"] for k in range(len(own))], axis=0).T


def save_case(folder: Path, analysis: Analysis, memory: dict[str, Any], *, settle: bool = True) -> None:
    """Writes the case. `memory` is what the user did: focus, pins, notes, complaints. `settle`: wait until the disk has it."""
    if folder.suffix != SUFFIX:
        raise CaseError(f"{folder}: the name of a case ends in {SUFFIX}")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        capture, account = analysis.capture, analysis.account
        _write_columns(folder / "packets.arrow", capture.packets._asdict(), settle)
        _write_columns(folder / "sack.arrow", {"left": capture.sack.left, "right": capture.sack.right}, settle)
        _write_columns(folder / "conversations.arrow", {**capture.conversations._asdict(), "how": account.how}, settle)
        _write_columns(
            folder / "connections.arrow",
            {
                "flow": account.flow,
                "start": account.starts[:-1],
                "speaker": analysis.speaker,
                **_matrix("fact", account.connection),
                **_matrix("charge", account.connection_charges),
            },
            settle,
        )
        _write_columns(folder / "order.arrow", {"row": account.order}, settle)
        _write_columns(folder / "exchanges.arrow", {**_matrix("fact", account.exchange), **_matrix("charge", account.exchange_charges)}, settle)
        _write_columns(folder / "icmp_errors.arrow", {name: capture.quotes[name] for name in QUOTE.names or ()}, settle)
        manifest = {
            "format": FORMAT,
            "version": VERSION,
            "sources": [asdict(s) for s in capture.sources],
            "points": capture.points,
            "names": capture.names,
            "dropped_copies": capture.dropped_copies,
        }
        _write_json(folder / "manifest.json", manifest)
        save_memory(folder, memory)
    except OSError as error:
        raise CaseError(f"{folder}: cannot be written ({error.strerror or error})") from error


def _write_json(path: Path, content: dict[str, Any]) -> None:
    part = path.with_name(path.name + ".part")
    part.write_text(json.dumps(content, indent=1), encoding="utf-8")
    _flush(part)
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
    if manifest.get("format") != FORMAT:
        raise CaseError(f"{folder}: this is not a case")
    if manifest.get("version", 0) > VERSION:
        raise CaseError(f"{folder}: made by a later version of this program")
    try:
        packets = _read_columns(folder / "packets.arrow")
        conversations = _read_columns(folder / "conversations.arrow")
        connections = _read_columns(folder / "connections.arrow")
        exchanges = _read_columns(folder / "exchanges.arrow")
        sack = _read_columns(folder / "sack.arrow")
        order = _read_columns(folder / "order.arrow")["row"]
        told = _read_columns(folder / "icmp_errors.arrow")
        quotes = np.zeros(told["flow"].size, QUOTE)
        for name in QUOTE.names or ():
            quotes[name] = told[name]
        sources = [Source(**{**s, "interfaces": [Interface(**face) for face in s["interfaces"]]}) for s in manifest["sources"]]
        capture = Capture(
            sources,
            Columns(**{**packets, "head": packets["head"].view(HEAD)}),
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
            _unmatrix("fact", connections),
            _unmatrix("charge", connections),
            _unmatrix("fact", exchanges),
            _unmatrix("charge", exchanges),
            conversations["how"],
        )
    except (KeyError, TypeError, ValueError) as error:
        raise CaseError(f"{folder}: the case is damaged ({error})") from error
    return Analysis(capture, account, connections["speaker"]), memory


def missing_source(source: Source) -> str:
    """Why the packets of a source cannot be looked at: it moved or changed; empty where all is well."""
    path = Path(source.path)
    if not path.exists():
        return f"{path} is not there any more"
    if fingerprint(path) != source.fingerprint:
        return f"{path} is not the file it was"
    return ""


def relocate(source: Source, path: Path) -> None:
    """Takes a moved file for the source, if it is the same one. Raises CaseError."""
    if fingerprint(path) != source.fingerprint:
        raise CaseError(f"{path}: this is another file than the one that was analysed")
    source.path = str(path.resolve())
