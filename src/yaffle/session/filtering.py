"""The filter: a boolean SQL expression over documented columns, run where it can reach nothing else."""

from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa

from yaffle.capture.addresses import Labels
from yaffle.capture.registry import marking
from yaffle.exchanges.lookup import ANSWERED, UNANSWERED
from yaffle.history.locked_database import FilterError, LateFilterError, locked_database, selected
from yaffle.ledger import causes
from yaffle.ledger.bounds import BOUNDED
from yaffle.ledger.fields import CLOSINGS, OPENINGS
from yaffle.progress import Progress, go_on
from yaffle.session.evidence import Evidence
from yaffle.session.flow_filter import fits_flows

_MOST_ANSWERS = 24

# (column, meaning). One row an exchange, or a failed connection attempt.
COLUMNS: tuple[tuple[str, str], ...] = (
    ("application", "what runs at the server"),
    ("client", "address of the client"),
    ("client_name", "name of the client, where known"),
    ("site", "site of the client"),
    ("server", "address of the server"),
    ("server_port", "port of the server"),
    ("client_port", "port of the client"),
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
    ("in_front", "the request behind whose answer the exchange lies, by its label, else its application; empty: none"),
    ("longest_behind", "the request that its server waited longest for itself, likewise"),
    ("began", "when the exchange began, UTC"),
)


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
    outcome = pa.array([*(said or ANSWERED for said in messages.outcome), ANSWERED, UNANSWERED]).dictionary_encode()
    told = np.where(message >= 0, message, len(messages.outcome))
    told[~evidence.answered(np.arange(told.size))] = len(messages.outcome) + 1
    label = pa.array([*evidence.labels, ""], pa.string()).dictionary_encode()
    return {
        "protocol": spoken,
        "label": label.take(pa.array(np.where(message >= 0, message, len(messages.label)))),
        "outcome": outcome.take(pa.array(told)),
    }


def _tiers(evidence: Evidence) -> dict[str, Any]:
    """What lies in front of each wait, and what of all behind it was waited for longest, in words."""
    behind, account, exchange = evidence.analysis.behind, evidence.analysis.account, evidence.waits.exchange
    named = behind.named
    front, longest = np.full((2, account.exchange.shape[0]), -1, np.int64)
    front[behind.call[named]] = behind.front[named]
    parts = np.flatnonzero(behind.parts.via != behind.parts.of)
    of, via = behind.parts.of[parts], behind.parts.via[parts]
    pair, place = np.unique(of * max(1, front.size) + via, return_inverse=True)
    ns = np.bincount(place.reshape(-1), behind.parts.ns[parts], pair.size)
    least_first = np.argsort(ns, kind="stable")
    longest[pair[least_first] // max(1, front.size)] = pair[least_first] % max(1, front.size)
    has = exchange >= 0
    found = {}
    for name, other in (("in_front", front), ("longest_behind", longest)):
        told = np.full(exchange.size, -1, np.int64)
        told[has] = other[exchange[has]]
        found[name] = _in_words(evidence, told)
    return found


def _in_words(evidence: Evidence, exchanges: Any) -> Any:
    """Exchanges by label, else by application; empty for -1."""
    account, labels, names = evidence.analysis.account, evidence.labels, evidence.application
    texts, code = ["", *names.texts, *labels], np.zeros(exchanges.size, np.int64)
    some = np.flatnonzero(exchanges >= 0)
    row = exchanges[some]
    message = account.of_exchange("message")[row]
    said = np.array([bool(labels[m]) if m >= 0 else False for m in message.tolist()], bool)
    application = names.codes[account.of_exchange("connection")[row]]
    code[some] = 1 + np.where(said, len(names.texts) + message, application)
    return pa.array(texts, pa.string()).dictionary_encode().take(pa.array(code))


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
                "client_port": evidence.client_port[c],
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
                **_tiers(evidence),
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
        try:
            return selected(self._database, self.table, expression, progress)
        except LateFilterError:
            raise
        except FilterError:
            if fits_flows(expression):  # It speaks of flow records: exchanges stay as they are.
                return np.ones(self._evidence.waits.connection.size, bool)
            raise
