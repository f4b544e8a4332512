"""The filter: a boolean SQL expression over documented columns, run where it can reach nothing else."""

import re
import threading
import time
from functools import cached_property
from typing import Any

import duckdb
import numpy as np
import pyarrow as pa

from yaffle.capture.addresses import Labels
from yaffle.capture.reader import Progress, go_on
from yaffle.capture.registry import marking
from yaffle.errors import Cancelled, YaffleError
from yaffle.ledger import causes
from yaffle.ledger.account import CLOSINGS, OPENINGS
from yaffle.ledger.bounds import BOUNDED
from yaffle.session.evidence import Evidence

MOST_S = 20.0  # A filter that runs longer is stopped.
_LOOK_EVERY_S = 0.05
_MOST_ANSWERS = 24

# (column, meaning). One row an exchange, or a failed connection attempt.
COLUMNS: tuple[tuple[str, str], ...] = (
    ("application", "what runs at the server"),
    ("client", "address of the client"),
    ("client_name", "name of the client, where known"),
    ("site", "site of the client"),
    ("server", "address of the server"),
    ("server_port", "port of the server"),
    ("wait_ms", "wait at the client, ms"),
    ("client_ms", "part of it charged to the client, ms"),
    ("network_ms", "part of it charged to the network, ms"),
    ("server_ms", "part of it charged to the server, ms"),
    ("unexplained_ms", "part of it that the evidence does not explain, ms"),
    *(
        (f"{party}_ms_{end}", f"{word} the {party}'s part can be, by the evidence, ms")
        for party in BOUNDED
        for end, word in (("low", "the least that"), ("high", "the most that"))
    ),
    ("loss_ms", "part of it charged to loss, ms"),
    ("request_bytes", "request bytes"),
    ("response_bytes", "response bytes"),
    ("retransmissions", "retransmitted segments of the connection"),
    ("timeouts", "how often a retransmission timer of the connection expired (RTO), SYN included"),
    ("after_timeout", "segments retransmitted with the rest of a window after a timeout"),
    ("fast_retransmissions", "fast retransmissions of the connection (RFC 5681, RFC 6675)"),
    ("tail_probes", "tail loss probes of the connection"),
    ("out_of_order", "out-of-order segments of the connection"),
    ("duplicates", "packets of the connection duplicated by the network"),
    ("duplicate_acks", "duplicate acknowledgements on the connection"),
    ("zero_window_ms", "how long either side of the connection advertised a zero window, ms"),
    ("resets", "RST segments of the connection"),
    ("dscp", "DSCP of the connection's first packet, by its name"),
    ("vlan", "VLAN of the connection's first packet, 0 for untagged"),
    ("round_trip_ms", "least round trip between client and server, ms"),
    ("opening", "complete, unseen, refused, unanswered"),
    ("closing", "orderly, reset, open"),
    (
        "protocol",
        (
            "application protocol: http, http2, tls, postgresql, mysql, redis, smb, ldap, dns; tcp where that is"
            " not known"
        ),
    ),
    ("label", "the request, literals of statements masked"),
    ("outcome", "outcome: a status, an SQLSTATE, a code; answered, unanswered"),
    ("began", "when the exchange began, UTC"),
)


class FilterError(YaffleError):
    """The expression cannot be used; the text says why, `place` where (characters from its start), if known."""

    def __init__(self, text: str, place: int | None = None) -> None:
        super().__init__(text)
        self.place = place


def _texts(labels: Labels, rows: Any) -> Any:
    return pa.DictionaryArray.from_arrays(
        pa.array(labels.codes[rows].astype(np.int32)), pa.array(labels.texts, pa.string())
    )


def _said(evidence: Evidence, message: Any) -> dict[str, Any]:
    """Protocol, label and outcome of each wait."""
    messages, waits = evidence.analysis.messages, evidence.waits
    protocols = ["tcp"] * evidence.analysis.account.flow.size
    for connection, protocol in messages.protocol.items():
        protocols[connection] = protocol
    spoken = pa.array(protocols, pa.string()).dictionary_encode().take(pa.array(waits.connection))
    answered = np.zeros(waits.connection.size, bool)
    has = waits.exchange >= 0
    answered[has] = evidence.analysis.account.of_exchange("answered_ns")[waits.exchange[has]] >= 0
    outcome = pa.array([*messages.outcome, "answered", "unanswered"], pa.string()).dictionary_encode()
    plain = len(messages.outcome) + (~answered).astype(np.int64)
    label = pa.array([*evidence.labels, ""], pa.string()).dictionary_encode()
    return {
        "protocol": spoken,
        "label": label.take(pa.array(np.where(message >= 0, message, len(messages.label)))),
        "outcome": outcome.take(pa.array(np.where(message >= 0, message, plain))),
    }


class Filter:
    """Answers which waits an expression selects."""

    def __init__(self, evidence: Evidence) -> None:
        self._evidence = evidence
        self._answers: dict[str, Any] = {}  # masks, and errors, of the latest expressions

    @cached_property
    def _database(self) -> Any:
        return locked_database()

    @cached_property
    def table(self) -> Any:
        """Columns of COLUMNS, made when the first question comes."""
        evidence = self._evidence
        waits, account = evidence.waits, evidence.analysis.account
        c = waits.connection
        exchange = waits.exchange
        has = exchange >= 0

        def of_exchange(name: str, without: int = 0) -> Any:
            values = np.full(c.size, without, np.int64)
            values[has] = account.of_exchange(name)[exchange[has]]
            return values

        names = evidence.client.named(evidence.places.host)
        first = evidence.first_packet[account.flow[c]]
        packets = evidence.analysis.capture.packets

        def both(name: str) -> Any:
            return (account.side(0, name) + account.side(1, name))[c]

        trip = account.fact("to_client_min_ns").clip(0) + account.fact("to_server_min_ns").clip(0)
        words = {
            "opening": Labels(account.fact("opening"), list(OPENINGS)),
            "closing": Labels(account.fact("closing"), list(CLOSINGS)),
        }
        parties = {f"{name}_ms": waits.parties[:, i] / 1e6 for i, name in enumerate(causes.PARTIES)}
        table = pa.table(
            {
                "application": _texts(evidence.application, c),
                "client": _texts(evidence.client, c),
                "client_name": _texts(names, c),
                "site": _texts(evidence.site, c),
                "server": _texts(evidence.server, c),
                "server_port": evidence.port[c],
                "wait_ms": waits.wait_ns / 1e6,
                **{name: parties[name] for name in ("client_ms", "network_ms", "server_ms", "unexplained_ms")},
                **{
                    name: evidence.bounds[:, k] / 1e6
                    for k, name in enumerate(f"{party}_ms_{end}" for party in BOUNDED for end in ("low", "high"))
                },
                "loss_ms": waits.charges[:, causes.LOSS] / 1e6,
                "request_bytes": of_exchange("request_bytes"),
                "response_bytes": of_exchange("response_bytes"),
                "retransmissions": both("retransmitted_packets"),
                **{name: both(name) for name in ("timeouts", "after_timeout", "fast_retransmissions", "tail_probes")},
                "out_of_order": both("out_of_order_packets"),
                "duplicates": both("duplicate_packets"),
                "duplicate_acks": both("duplicate_acks"),
                "zero_window_ms": both("zero_window_ns") / 1e6,
                "resets": both("resets"),
                "dscp": _texts(
                    Labels((packets.tos[first] >> 2).astype(np.int64), [marking(k) for k in range(64)]), slice(None)
                ),
                "vlan": packets.vlan[first],
                "round_trip_ms": trip[c] / 1e6,
                "opening": _texts(words["opening"], c),
                "closing": _texts(words["closing"], c),
                **_said(evidence, of_exchange("message", -1)),
                "began": pa.array(waits.first_ns, pa.timestamp("ns")),
            }
        )
        assert table.column_names == [name for name, _ in COLUMNS]
        return table

    def known(self, expression: str) -> bool:
        """Whether the answer is at hand: nothing has to be run for it."""
        return not expression.strip() or expression in self._answers

    def rows(self, expression: str, progress: Progress = go_on) -> Any:
        """A boolean mask over the waits. Raises FilterError, also for one that runs too long; Cancelled when
        `progress` says so.
        """
        if not expression.strip():
            return np.ones(self._evidence.waits.connection.size, bool)
        answer = self._answers.get(expression)
        if answer is None:
            try:
                answer = self._run(expression, progress)
            except FilterError as error:
                answer = error
            if len(self._answers) >= _MOST_ANSWERS:
                self._answers.pop(next(iter(self._answers)), None)
            self._answers[expression] = answer
        if isinstance(answer, FilterError):
            raise answer
        return answer

    def _run(self, expression: str, progress: Progress) -> Any:
        connection = self._database.cursor()  # Of its own: measures are asked from another thread.
        watch = _Watch(connection, progress)
        try:
            relation = connection.from_arrow(self.table.append_column("row_", pa.array(np.arange(self.table.num_rows))))
            # A newline keeps a comment in the expression from swallowing the bracket; only one expression can stand
            # here.
            rows = relation.filter(f"({expression}\n)").project("row_").fetchnumpy()["row_"]
        except duckdb.Error as error:
            watch.end()
            if watch.stopped:
                raise Cancelled from error
            if watch.late:
                raise FilterError(f"it ran for over {MOST_S:.0f} s and was stopped: write a simpler one") from error
            raise FilterError(_plain(str(error)), _place(str(error), expression)) from error
        finally:
            watch.end()
            connection.close()
        mask = np.zeros(self.table.num_rows, bool)
        mask[np.asarray(rows, np.int64)] = True
        return mask


class _Watch:
    """Looks after a question to the database from a thread of its own: ends it when the user stops it, or when it
    takes too long.
    """

    def __init__(self, connection: Any, progress: Progress) -> None:
        self.stopped = self.late = False
        self._connection, self._progress = connection, progress
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._look, name="filter watch", daemon=True)
        self._thread.start()

    def _look(self) -> None:
        began = time.monotonic()
        while not self._over.wait(_LOOK_EVERY_S):
            spent = time.monotonic() - began
            self.stopped = self.stopped or not self._progress(min(0.99, spent / MOST_S), "running the filter")
            self.late = self.late or spent > MOST_S
            if self.stopped or self.late:
                self._connection.interrupt()

    def end(self) -> None:
        """The question is answered."""
        self._over.set()
        self._thread.join()


def locked_database() -> Any:
    """A database in memory that cannot read files, load extensions or be reconfigured."""
    return duckdb.connect(
        ":memory:",
        config={
            "enable_external_access": "false",
            "autoload_known_extensions": "false",
            "autoinstall_known_extensions": "false",
            "lock_configuration": "true",
            "threads": "2",
            "memory_limit": "1GB",
            "temp_directory": "",
        },
    )


def _place(text: str, expression: str) -> int | None:
    """Where in the expression the database's message points to, if that can be told."""
    for word in re.findall(r"[\"'](\w+)[\"']|with name (\w+)", text.split("\nCandidate")[0]):
        found = re.search(rf"\b{re.escape(word[0] or word[1])}\b", expression, re.IGNORECASE)
        if found:
            return found.start()
    return len(expression.rstrip()) if "syntax error" in text else None


def _plain(text: str) -> str:
    """First line of the database's message, without its jargon."""
    first = text.strip().split("\n")[0]
    for prefix in (
        "Binder Error: ",
        "Parser Error: ",
        "Conversion Error: ",
        "Catalog Error: ",
        "Invalid Input Error: ",
    ):
        first = first.removeprefix(prefix)
    return first
