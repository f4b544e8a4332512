"""Evidence for others: waits and connections as tables, packets as a capture with comments; addresses masked where
wished.
"""

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute
import pyarrow.csv
import pyarrow.parquet

from yaffle.arrays import Bools, Int64s, Structs
from yaffle.capture.addresses import labels_of
from yaffle.capture.byte_source import ByteSource
from yaffle.capture.captured import Source
from yaffle.capture.masking import Masker
from yaffle.capture.pcapng_writer import Kept, write_selection
from yaffle.case.folder import missing_source
from yaffle.errors import Cancelled, YaffleError
from yaffle.findings.flow_labels import exporter_words
from yaffle.findings.flow_source import held_flows
from yaffle.ledger import causes
from yaffle.ledger.fields import CLOSINGS, OPENINGS
from yaffle.progress import Progress, go_on
from yaffle.records.flow_table import MEASURED, Exporter
from yaffle.records.ipfix_writer import write_ipfix
from yaffle.session.evidence import Evidence
from yaffle.session.flow_filter import narrowed
from yaffle.session.scene import Scene
from yaffle.transport import kinds

_ADDRESSES = ("client", "server")
_NAMES = ("client_name", "site", "application", "label")
_EVERY = 2000  # Packets between two looks at whether to go on.


def waits_table(scene: Scene, masker: Masker | None = None) -> Any:
    """The exchanges in focus with the columns of the filter, and a column for each charge, ms."""
    rows = pa.array(scene.rows)
    table = scene.filter.table.take(rows)
    for k, (party, cause) in enumerate(causes.CHARGES):
        table = table.append_column(
            f"{party}_{cause.replace('-', '_')}_charge_ms",
            pa.array(scene.evidence.waits.by_column[k][scene.rows] / 1e6),
        )
    return _masked(table, masker)


def write_flows(scene: Scene, path: Path, progress: Progress = go_on) -> int:
    """The flow records of the period, as IPFIX, CSV or Parquet by the name's ending; gives how many.

    Raises YaffleError or Cancelled.
    """
    held = held_flows(scene.evidence.analysis, scene.first_ns, scene.last_ns)
    held = narrowed(held, scene.evidence.places, scene.focus.filter, progress)
    rows = held.rows[(held.rows["last_ns"] >= scene.first_ns) & (held.rows["first_ns"] <= scene.last_ns)]
    try:
        if path.suffix == ".ipfix":
            written = write_ipfix(path, rows, held.exporters, lambda share: progress(share, "writing flow records"))
            if rows.size and not written:
                raise Cancelled
            return written
        return write_table(flows_table(rows, held.exporters), path)
    except OSError as error:
        raise YaffleError(f"{path}: cannot be written ({error.strerror or error})") from error


def flows_table(rows: Structs, exporters: list[Exporter]) -> Any:
    """One row a record: who told, ends, times, counts as scaled by sampling."""
    columns: dict[str, Any] = {
        "exporter": pa.array([exporter_words(e) for e in exporters], pa.string()).take(pa.array(rows["exporter"]))
    }
    for end in ("src", "dst"):
        labels = labels_of(rows[f"{end}_hi"], rows[f"{end}_lo"], rows["ipv6"])
        columns[end] = pa.array(labels.texts, pa.string()).take(pa.array(labels.codes))
    for name in (
        "transport",
        "src_port",
        "dst_port",
        "dscp",
        "ingress",
        "egress",
        "octets",
        "packets",
        "records",
        "sampling",
    ):
        columns[name] = pa.array(np.ascontiguousarray(rows[name]))
    for name in ("first", "last"):
        columns[name] = pa.array(np.ascontiguousarray(rows[f"{name}_ns"]), pa.timestamp("ns"))
    for name in MEASURED:
        columns[name] = pa.array(np.ascontiguousarray(rows[name]), mask=rows[name] < 0)
    return pa.table(columns)


def connections_table(scene: Scene, masker: Masker | None = None) -> Any:
    """The connections in focus: ends, times, packets and repeats of each side, round trips, charges."""
    evidence = scene.evidence
    account = evidence.analysis.account
    rows = np.unique(evidence.waits.connection[scene.rows])
    columns: dict[str, Any] = {
        "application": [evidence.application[c] for c in rows],
        "client": [evidence.client[c] for c in rows],
        "client_port": evidence.client_port[rows],
        "server": [evidence.server[c] for c in rows],
        "server_port": evidence.port[rows],
        "first": pa.array(account.fact("first_ns")[rows], pa.timestamp("ns")),
        "last": pa.array(account.fact("last_ns")[rows], pa.timestamp("ns")),
        "opening": [OPENINGS[k] for k in account.fact("opening")[rows]],
        "closing": [CLOSINGS[k] for k in account.fact("closing")[rows]],
        "exchanges": account.fact("exchanges")[rows],
        "wait_ms": account.fact("wait_ns")[rows] / 1e6,
        "round_trip_to_client_ms": _known_ms(account.fact("to_client_min_ns")[rows]),
        "round_trip_to_server_ms": _known_ms(account.fact("to_server_min_ns")[rows]),
    }
    for side, name in enumerate(("client", "server")):
        for fact in (
            "packets",
            "segments",
            "payload_bytes",
            "retransmitted_packets",
            "timeouts",
            "after_timeout",
            "fast_retransmissions",
            "tail_probes",
            "out_of_order_packets",
            "duplicate_packets",
            "unseen_bytes",
        ):
            columns[f"{name}_{fact}"] = account.side(side, fact)[rows]
    for k, (party, cause) in enumerate(causes.CHARGES):
        columns[f"{party}_{cause.replace('-', '_')}_charge_ms"] = account.connection_charges[rows, k] / 1e6
    return _masked(pa.table(columns), masker)


def _known_ms(values: Int64s) -> Any:
    return pa.array(values / 1e6, mask=values < 0)


def _masked(table: Any, masker: Masker | None) -> Any:
    """The table with addresses masked and names left out."""
    if masker is None:
        return table
    for name in _ADDRESSES:
        place = table.column_names.index(name)
        texts = table.column(name).to_pylist()
        masked = {text: masker.text(text) for text in set(texts)}
        table = table.set_column(place, name, pa.array([masked[text] for text in texts]))
    return table.drop_columns([name for name in _NAMES if name in table.column_names])


def write_table(table: Any, path: Path) -> int:
    """Writes a table as CSV or Parquet, by the name's ending; returns the rows.

    The file appears whole. Raises YaffleError.
    """
    part = path.with_name(path.name + ".part")
    if path.suffix == ".parquet":
        pa.parquet.write_table(table, part)
    elif path.suffix == ".csv":
        plain = [pa.compute.cast(c, pa.string()) if pa.types.is_dictionary(c.type) else c for c in table.columns]
        pa.csv.write_csv(pa.table(dict(zip(table.column_names, plain, strict=True))), part)
    else:
        raise YaffleError(f"{path}: the name of a table ends in .csv or .parquet")
    part.replace(path)
    return int(table.num_rows)


def write_packets(
    evidence: Evidence, mask: Bools, path: Path, masker: Masker | None = None, progress: Progress = go_on
) -> int:
    """Writes the packets of a mask, in order of time, as pcapng; returns how many.

    What a packet is (a repeat, a copy, …) stands in its comment. Raises YaffleError where a source is away; Cancelled.
    """
    capture = evidence.analysis.capture
    packets = capture.packets
    rows = np.flatnonzero(mask)
    rows = rows[np.argsort(packets.time_ns[rows], kind="stable")]
    used = np.unique(packets.source[rows]).tolist()
    for number in used:
        if away := missing_source(capture.sources[number]):
            raise YaffleError(f"{away}: its packets cannot be written")
    faces: list[tuple[str, int, int]] = []
    first_face: dict[int, int] = {}
    for number in used:
        source = capture.sources[number]
        first_face[number] = len(faces)
        faces += [(f"{source.name} {face.name}".strip(), face.link_type, face.snap_bytes) for face in source.interfaces]
    names = capture.names if masker is None else {}
    comment = "selected packets; addresses are masked, payload and names left out" if masker else "selected packets"

    def chosen() -> Iterator[Kept]:
        readers = {number: _Reader(capture.sources[number]) for number in used}
        for place, row in enumerate(rows.tolist()):
            if place % _EVERY == 0 and not progress(place / rows.size, "writing packets"):
                raise Cancelled
            number, link = int(packets.source[row]), int(packets.link[row])
            data = readers[number].read(int(packets.position[row]), int(packets.captured_bytes[row]))
            face = first_face[number] + link
            if masker is not None:
                data = masker.packet(data, faces[face][1])
            yield Kept(
                int(packets.time_ns[row]), int(packets.wire_bytes[row]), data, face, _comment(int(packets.kind[row]))
            )

    try:
        return write_selection(path, faces, chosen(), names=names, comment=comment)
    except OSError as error:
        raise YaffleError(f"{path}: {error.strerror or error}") from error
    finally:
        path.with_name(path.name + ".part").unlink(missing_ok=True)


def _comment(kind: int) -> str:
    base = kind & kinds.KIND_MASK
    return (
        kinds.in_words(kind)
        if kinds.is_repeat(kind) or base in (kinds.OUT_OF_ORDER, kinds.COPY, kinds.RESET, kinds.WINDOW_PROBE)
        else ""
    )


class _Reader:
    """Bytes of one source by position; a compressed one is read through once, forwards."""

    def __init__(self, source: Source) -> None:
        self._data = ByteSource(Path(source.path))
        self._windows = self._data.windows()
        self._at, self._window, _ = next(self._windows)

    def read(self, position: int, length: int) -> bytes:
        """Some bytes. Those before the last asked for may be gone in a compressed source: then it begins anew."""
        if position < self._at:
            self._windows = self._data.windows() if not self._data.compressed else ByteSource(self._data.path).windows()
            self._at, self._window, _ = next(self._windows)
        while position + length > self._at + self._window.size:
            try:
                self._at, self._window, _ = self._windows.send(min(self._window.size, max(0, position - self._at)))
            except StopIteration:
                return b""
        start = position - self._at
        return bytes(self._window[start : start + length])


def safe_name(text: str) -> str:
    """A file name made of words."""
    return re.sub(r"[^\w.-]+", "-", text).strip("-").lower() or "selection"
