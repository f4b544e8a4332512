"""Captures of one file, parts and their accounts, as files that workers and this machine exchange."""

import json
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.captured import source_from
from yaffle.capture.conversations import Rows
from yaffle.capture.draft import Draft
from yaffle.capture.headers import Ends, empty_ends
from yaffle.capture.one_file import FileFacts
from yaffle.capture.packets import HEAD, Columns, SackBlocks
from yaffle.capture.ranges import Piece
from yaffle.capture.records import Container, Interface
from yaffle.capture.transport_layer import QUOTE
from yaffle.case.columns import as_columns, as_matrix, read_columns, read_texts, write_columns
from yaffle.case.folder import CHARGE_NAMES, FACT_NAMES
from yaffle.exchanges.messages import Messages
from yaffle.exchanges.turns import TURN
from yaffle.file_store import Store
from yaffle.ledger.accounts import Exchanges, OwnAccount, no_exchanges, whole
from yaffle.ledger.fields import EXCHANGE_FIELDS
from yaffle.parts import COLUMNS, Part, PartAccount, with_zeros


def _write(store: Store, name: str, columns: Any) -> None:
    store.write(name, lambda path: write_columns(path, columns, False, lambda _octets: None))


def _write_json(store: Store, name: str, content: Any) -> None:
    store.write(name, lambda path: path.write_text(json.dumps(content), encoding="utf-8"))


def _read_json(store: Store, name: str, beside: Path) -> Any:
    return json.loads(store.read(name, beside).read_text(encoding="utf-8"))


def _fields(table: Array) -> dict[str, Array]:
    return {name: np.ascontiguousarray(table[name]) for name in table.dtype.names or ()}


def _table(columns: dict[str, Array], dtype: "np.dtype[Any]") -> Array:
    found = np.zeros(next(iter(columns.values())).size, dtype)
    for name in dtype.names or ():
        found[name] = columns[name]
    return found


def _with_head(columns: dict[str, Array]) -> dict[str, Array]:
    head = columns["head"]
    return {**columns, "head": head.view(HEAD) if head.size else np.empty(0, HEAD)}


def write_capture(store: Store, name: str, capture: Draft) -> None:
    """A capture of one file, whose points are not told yet."""
    _write(store, f"{name}/packets.arrow", capture.packets._asdict())
    _write(store, f"{name}/sack.arrow", capture.sack._asdict())
    _write(store, f"{name}/conversations.arrow", capture.conversations._asdict())
    _write(store, f"{name}/quotes.arrow", _fields(capture.quotes))
    _write_json(store, f"{name}/beside.json", {"sources": [asdict(s) for s in capture.sources], "names": capture.names})


def read_capture(store: Store, name: str, beside: Path) -> Draft:
    """The reverse."""

    def columns(part: str) -> dict[str, Array]:
        return read_columns(store.read(f"{name}/{part}.arrow", beside))

    told = _read_json(store, f"{name}/beside.json", beside)
    return Draft(
        [source_from(one) for one in told["sources"]],
        Columns(**_with_head(columns("packets"))),
        SackBlocks(**columns("sack")),
        Rows(**columns("conversations")),
        told["names"],
        quotes=_table(columns("quotes"), QUOTE),
    )


def write_piece(store: Store, name: str, piece: Piece) -> None:
    """What was read of a range of a file; of packets' ends what any of them has."""
    outer = piece.ends.outer
    ends = {key: column for key, column in piece.ends._asdict().items() if key != "outer" and column.any()}
    ends |= {f"outer{k}": np.ascontiguousarray(outer[:, k]) for k in range(outer.shape[1]) if outer.any()}
    _write(store, f"{name}/packets.arrow", piece.packets._asdict())
    _write(store, f"{name}/ends.arrow", ends)
    _write(store, f"{name}/sack.arrow", piece.sack._asdict())
    _write(store, f"{name}/quotes.arrow", _fields(piece.quotes))
    _write_json(store, f"{name}/beside.json", {"facts": asdict(piece.facts), "steady": piece.steady})


def read_facts(store: Store, name: str, beside: Path) -> tuple[FileFacts, bool]:
    """What is known of a range besides its packets, and whether the file's beginning holds for it."""
    held = _read_json(store, f"{name}/beside.json", beside)
    container = held["facts"].pop("container")
    faces = [Interface(**face) for face in container.pop("interfaces")]
    return FileFacts(Container(interfaces=faces, **container), **held["facts"]), bool(held["steady"])


def read_piece(store: Store, name: str, beside: Path) -> Piece:
    """The reverse."""

    def columns(part: str) -> dict[str, Array]:
        return read_columns(store.read(f"{name}/{part}.arrow", beside))

    packets, held = Columns(**_with_head(columns("packets"))), columns("ends")
    ends = empty_ends(packets.time_ns.size)
    for key, column in zip(Ends._fields, ends, strict=True):
        if key != "outer":
            column[:] = held.get(key, 0)
    for k in range(ends.outer.shape[1]):
        ends.outer[:, k] = held.get(f"outer{k}", 0)
    quotes = _table(columns("quotes"), QUOTE)
    return Piece(packets, ends, SackBlocks(**columns("sack")), quotes, *read_facts(store, name, beside))


def write_part(store: Store, name: str, part: Part) -> None:
    """A part."""
    _write(store, f"{name}/packets.arrow", {column: getattr(part.packets, column) for column in COLUMNS})
    _write(store, f"{name}/connections.arrow", {"end": part.starts[1:], "port": part.ports.astype(np.int64)})
    _write(store, f"{name}/sack.arrow", part.sack._asdict())


def read_part(store: Store, name: str, beside: Path) -> Part:
    """The reverse; its connections are counted from 0."""

    def columns(part: str) -> dict[str, Array]:
        return read_columns(store.read(f"{name}/{part}.arrow", beside))

    connections = columns("connections")
    starts = np.concatenate([np.zeros(1, np.int64), connections["end"]])
    packets = with_zeros(_with_head(columns("packets")))
    return Part(0, starts.size - 1, packets, starts, connections["port"], SackBlocks(**columns("sack")))


def write_account(store: Store, name: str, found: PartAccount) -> None:
    """What was found of a part."""
    account, messages = found.account, found.messages
    facts = as_columns(FACT_NAMES, account.connection) | as_columns(CHARGE_NAMES, account.connection_charges)
    facts_of, charges_of = (whole(pieces) for pieces in zip(no_exchanges(), *account.exchanges, strict=True))
    exchanges = as_columns(EXCHANGE_FIELDS, facts_of) | as_columns(CHARGE_NAMES, charges_of)
    _write(store, f"{name}/facts.arrow", facts | {"messages": np.diff(messages.starts)})
    _write(store, f"{name}/exchanges.arrow", exchanges)
    _write(store, f"{name}/kinds.arrow", {"kind": account.kind})
    _write(store, f"{name}/turns.arrow", _fields(messages.turns))
    _write(store, f"{name}/texts.arrow", {"label": messages.label, "outcome": messages.outcome})
    beside = {key: list(getattr(messages, key).items()) for key in ("protocol", "host", "note", "values")}
    _write_json(store, f"{name}/said.json", beside)


def read_account(store: Store, name: str, beside: Path) -> PartAccount:
    """The reverse."""

    def columns(part: str) -> dict[str, Array]:
        return read_columns(store.read(f"{name}/{part}.arrow", beside))

    facts, exchanges, said = columns("facts"), columns("exchanges"), _read_json(store, f"{name}/said.json", beside)
    texts = read_texts(store.read(f"{name}/texts.arrow", beside))
    counts, none = facts["messages"], np.empty(0, np.int64)
    messages = Messages(
        np.concatenate([np.zeros(1, np.int64), np.cumsum(counts)]),
        _table(columns("turns"), TURN),
        texts["label"],
        texts["outcome"],
        dict(said["protocol"]),
        dict(said["host"]),
        dict(said["note"]),
        {m: tuple(held) for m, held in said["values"]},
    )
    account = OwnAccount(
        np.arange(counts.size),
        none,
        none.astype(np.int32),
        none.astype(np.int8),
        as_matrix(FACT_NAMES, facts),
        as_matrix(CHARGE_NAMES, facts),
        [Exchanges(as_matrix(EXCHANGE_FIELDS, exchanges), as_matrix(CHARGE_NAMES, exchanges))],
        np.array([0, counts.size]),
        columns("kinds")["kind"],
    )
    return PartAccount(messages, account)
