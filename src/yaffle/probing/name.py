"""Names: what a name server answers, and how long it takes (DNS, RFC 1035; over TLS, RFC 7858)."""

import asyncio
import contextlib
import socket
import ssl
import time
from dataclasses import replace
from typing import Any

import dns.asyncquery
import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
import dns.resolver

from yaffle.errors import YaffleError
from yaffle.probing.icmp_words import refusals
from yaffle.probing.result import Result
from yaffle.probing.waiting_socket import datagrams_to, readable
from yaffle.probing.wanted import End, UnknownNameError, Wanted, host_and_port, resolved

KIND = "name"
_LARGEST = 65_535
OVER = {"udp": 53, "tcp": 53, "tls": 853}


def _server(wanted: Wanted) -> str:
    """The server that is asked. Raises YaffleError where none is known."""
    if wanted.server:
        return wanted.server
    try:
        servers = dns.resolver.Resolver().nameservers
    except dns.resolver.NoResolverConfiguration:
        servers = []
    if not servers:
        raise YaffleError("which name server? This host knows none; give one with --server ADDRESS")
    return str(servers[0])


async def name(wanted: Wanted) -> list[Result]:
    """One question; to a second server, too, where its answer is to be the same. Raises YaffleError where it cannot be
    asked.
    """
    if wanted.over not in OVER:
        raise YaffleError(f"--over {wanted.over}: one of {', '.join(OVER)}")
    try:
        question = dns.message.make_query(wanted.target, dns.rdatatype.from_text(wanted.record))
    except dns.exception.DNSException as error:
        raise YaffleError(f"{wanted.target} {wanted.record}: this is no name and type ({error})") from error
    if not wanted.against:
        return [await _asked_of(_server(wanted), question, wanted)]
    servers = (_server(wanted), wanted.against)
    one, other = await asyncio.gather(*(_asked_of(server, question, wanted) for server in servers))
    told = {key: other.more[key] for key in ("server", "outcome", "answers")} | {"round_trip_ms": other.round_trip_ms}
    return [replace(one, **_compared(one, other), more=one.more | {"against": told})]


def _compared(one: Result, other: Result) -> dict[str, Any]:
    """Whether two servers answer alike, in any order; why not."""
    if not one.ok:
        return {}
    if not other.ok:
        return {"ok": False, "why": f"{other.more['server']}: {other.why}"}
    if sorted(one.more["answers"]) == sorted(other.more["answers"]):
        return {}
    told = [f"{who.more['server']} answers {', '.join(who.more['answers']) or 'nothing'}" for who in (one, other)]
    return {"ok": False, "why": ", ".join(told)}


async def _asked_of(told: str, question: dns.message.Message, wanted: Wanted) -> Result:
    """What one server answers."""
    host, port = host_and_port(told, OVER[wanted.over]) if told.count(":") < 2 or told[0] == "[" else (told, 53)
    at_ns = time.time_ns()
    more: dict[str, Any] = {"outcome": "", "answers": [], "server": told}
    try:
        end = await resolved(host, port, wanted)
        at_ns, began = time.time_ns(), time.monotonic_ns()
        answer = await _asked(question, end.address, end.port, host, wanted)
    except UnknownNameError as error:
        return Result(KIND, wanted.target, at_ns, False, str(error), None, more)
    except (dns.exception.Timeout, TimeoutError):
        words = f"unanswered within {wanted.timeout_s:g} s"
        return Result(KIND, wanted.target, at_ns, False, words, None, more | {"outcome": "unanswered"})
    except (dns.exception.DNSException, OSError, EOFError, ssl.SSLError) as error:
        words = "refused" if isinstance(error, ConnectionRefusedError) else str(error) or type(error).__name__
        return Result(KIND, wanted.target, at_ns, False, words, None, more)
    took_ms = (time.monotonic_ns() - began) / 1e6
    outcome = dns.rcode.to_text(answer.rcode())
    more |= {
        "outcome": outcome,
        "answers": [
            row.to_text() for rows in answer.answer for row in rows if rows.rdtype == question.question[0].rdtype
        ],
    }
    why = "" if outcome == "NOERROR" else _WORDS.get(outcome, outcome)
    return Result(KIND, wanted.target, at_ns, not why, why, took_ms, more)


_WORDS = {
    "NXDOMAIN": "there is no such name (NXDOMAIN)",
    "SERVFAIL": "the server could not find out (SERVFAIL)",
    "REFUSED": "the server does not answer us (REFUSED)",
}


async def _asked(
    question: dns.message.Message, address: str, port: int, host: str, wanted: Wanted
) -> dns.message.Message:
    if wanted.over == "tcp":
        return await dns.asyncquery.tcp(question, address, wanted.timeout_s, port)
    if wanted.over == "tls":
        named = host if host != address else None
        return await dns.asyncquery.tls(question, address, wanted.timeout_s, port, server_hostname=named or address)
    answer = await _over_udp(question, address, port, wanted)
    if answer.flags & dns.flags.TC:  # RFC 7766: asked again over TCP.
        return await dns.asyncquery.tcp(question, address, wanted.timeout_s, port)
    return answer


async def _over_udp(question: dns.message.Message, address: str, port: int, wanted: Wanted) -> dns.message.Message:
    """The answer to a question over UDP; what does not belong to it is passed over. Raises OSError with what the way
    says, TimeoutError.
    """
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    with datagrams_to(End(family, address, port), wanted.dscp) as own:
        own.send(question.to_wire())
        until = asyncio.get_running_loop().time() + wanted.timeout_s
        while await readable(own, until):
            if told := refusals(own):
                raise OSError(f"refused: {told[0].words}")
            with contextlib.suppress(BlockingIOError):
                try:
                    answer = dns.message.from_wire(own.recv(_LARGEST), ignore_trailing=True)
                except (dns.exception.DNSException, ConnectionRefusedError):
                    continue
                if question.is_response(answer):
                    return answer
    raise TimeoutError
