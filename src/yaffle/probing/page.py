"""A web page: how long each phase takes, from the look-up to the last byte (HTTP, RFC 9110)."""

import asyncio
import ssl
import time
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

import httpx

from yaffle.probing.connect import opened
from yaffle.probing.result import Result
from yaffle.probing.wanted import UnknownNameError, Wanted, resolved

KIND = "page"
_HEAD = {"User-Agent": "Yaffle", "Accept": "*/*", "Accept-Encoding": "identity"}
_MOST_REDIRECTS = 10
_MOST_BYTES = 64 << 20
_PARSED = 4 << 20  # characters of a page that are looked through for its elements
_BAD = 400
_PORTS = {"http": 80, "https": 443}
_CERTIFICATE_TIME = "%b %d %H:%M:%S %Y %Z"


@dataclass
class _Phases:
    """When steps of one request were, by the names that the library gives them."""

    at_ns: dict[str, int] = field(default_factory=dict)

    async def note(self, name: str, _info: Any) -> None:
        """Takes a step."""
        self.at_ns[name.partition(".")[2]] = time.monotonic_ns()

    def between(self, first: str, last: str) -> float:
        """From one step to another, ms; 0 where one of them was not."""
        if first not in self.at_ns or last not in self.at_ns:
            return 0.0
        return (self.at_ns[last] - self.at_ns[first]) / 1e6


async def page(wanted: Wanted) -> list[Result]:
    """One page, with the redirects that lead to it (phases are their sums), and its elements where that is wanted."""
    address = wanted.target if "://" in wanted.target else f"http://{wanted.target}"
    at_ns, began = time.time_ns(), time.monotonic_ns()
    sums: dict[str, float] = dict.fromkeys(("look_up_ms", "connect_ms", "encryption_ms", "first_byte_ms"), 0.0)
    more: dict[str, Any] = {"status": None, **sums, "total_ms": 0.0, "bytes": 0, "redirects": 0}
    why, url = "", None
    try:
        url = httpx.URL(address)
        for _ in range(_MOST_REDIRECTS + 1):
            asked = await _ask(url, wanted)
            for name in sums:
                more[name] += asked[name]
            more["status"], more["bytes"] = asked["status"], asked["bytes"]
            if "certificate_end_ns" in asked:
                more["certificate_end_ns"] = asked["certificate_end_ns"]
            if not asked["next"]:
                why = _judged(asked, wanted)
                if wanted.elements and not why:
                    more["elements"], why = await _elements(asked["text"], url, wanted, began)
                break
            more["redirects"] += 1
            url = url.join(asked["next"])
        else:
            why = f"redirected more than {_MOST_REDIRECTS} times"
    except UnknownNameError as error:
        why = str(error)
    except (httpx.HTTPError, httpx.InvalidURL, ssl.SSLError, ValueError) as error:
        why = await _failure(error, url, wanted)
    more["total_ms"] = (time.monotonic_ns() - began) / 1e6
    return [Result(KIND, wanted.target, at_ns, not why, why, more["total_ms"] if not why else None, more)]


async def _ask(url: httpx.URL, wanted: Wanted) -> dict[str, Any]:
    """One request."""
    if url.scheme not in _PORTS or not url.host:
        raise httpx.UnsupportedProtocol(f"{url}: a page is http:// or https://")
    asked = httpx.URL(wanted.proxy) if wanted.proxy else url  # A proxy looks the page's name up itself.
    if asked.scheme not in _PORTS or not asked.host:
        raise httpx.UnsupportedProtocol(f"{asked}: a proxy is http:// or https://")
    began = time.monotonic_ns()
    end = await resolved(asked.host, asked.port or _PORTS[asked.scheme], wanted)
    look_up_ms = (time.monotonic_ns() - began) / 1e6
    phases = _Phases()
    found: dict[str, Any] = {"look_up_ms": look_up_ms, "next": ""}
    extensions = {"trace": phases.note, "sni_hostname": url.host}
    head = {"Host": url.netloc.decode(), **_HEAD}
    async with _client(wanted) as client:
        there = url if wanted.proxy else url.copy_with(host=end.address)
        async with client.stream("GET", there, headers=head, extensions=extensions) as answer:
            if url.scheme == "https" and (certificate := _certificate(answer)):
                found["certificate_end_ns"] = certificate
            text = b""
            size = 0
            async for part in answer.aiter_raw():
                size += len(part)
                if (wanted.text or wanted.elements) and len(text) < _MOST_BYTES:
                    text += part
                if size > _MOST_BYTES:
                    break
            found |= {"status": answer.status_code, "bytes": size, "reason": answer.reason_phrase}
            if answer.is_redirect:
                found["next"] = answer.headers.get("location", "")
    found["text"] = text.decode("utf-8", "replace")
    found["connect_ms"] = phases.between("connect_tcp.started", "connect_tcp.complete")
    found["encryption_ms"] = phases.between("start_tls.started", "start_tls.complete")
    found["first_byte_ms"] = phases.between("send_request_body.complete", "receive_response_headers.complete")
    return found


async def _elements(text: str, url: httpx.URL, wanted: Wanted, began_ns: int) -> tuple[list[dict[str, Any]], str]:
    """A page's elements, and why they are not all well."""
    from yaffle.probing.page_elements import elements_of, fetched

    async with _client(wanted) as client:
        found = await fetched(await asyncio.to_thread(elements_of, text[:_PARSED], url), client, began_ns)
    bad = [one for one in found if one["why"]]
    why = f"{len(bad)} of {len(found)} elements failed: {bad[0]['url']}: {bad[0]['why']}" if bad else ""
    return found, why


def _client(wanted: Wanted) -> httpx.AsyncClient:
    return httpx.AsyncClient(
        timeout=wanted.timeout_s, trust_env=False, verify=_trust(), headers=_HEAD, proxy=wanted.proxy or None
    )


def _trust() -> ssl.SSLContext:
    """Whom to believe: SSL_CERT_FILE where that is set, else what the system has."""
    return ssl.create_default_context()


def _certificate(answer: httpx.Response) -> int | None:
    """When the certificate of a server ends, ns."""
    stream = answer.extensions.get("network_stream")
    told = stream.get_extra_info("ssl_object") if stream is not None else None
    ends = (told.getpeercert() or {}).get("notAfter") if told is not None else None
    return int(datetime.strptime(ends, _CERTIFICATE_TIME).replace(tzinfo=UTC).timestamp()) * 10**9 if ends else None


def _judged(asked: dict[str, Any], wanted: Wanted) -> str:
    """Why an answer is not what was expected; empty where it is."""
    status = asked["status"]
    if wanted.status and status != wanted.status:
        return f"status {status} {asked['reason']}, expected {wanted.status}"
    if not wanted.status and status >= _BAD:
        return f"status {status} {asked['reason']}".strip()
    if wanted.text and wanted.text not in asked["text"]:
        return f"the page does not hold {wanted.text!r}"
    return ""


async def _failure(error: Exception, url: httpx.URL | None, wanted: Wanted) -> str:
    """What went wrong, in words that help."""
    cause: BaseException | None = error
    while cause is not None and not isinstance(cause, ssl.SSLCertVerificationError):
        cause = cause.__cause__ or cause.__context__
    if isinstance(cause, ssl.SSLCertVerificationError):
        if "expired" in cause.verify_message and url is not None and (ended := await _ended(url, wanted)):
            return f"certificate ended on {ended}"
        return f"certificate not trusted: {cause.verify_message}"
    if isinstance(error, httpx.ConnectError) and url is not None and "SSL" not in str(error):
        asked = httpx.URL(wanted.proxy) if wanted.proxy else url
        own, _, why = await opened(await resolved(asked.host, asked.port or _PORTS[asked.scheme], wanted), wanted)
        if own is not None:
            own.close()
        before = "the proxy: " if wanted.proxy and why else ""
        return before + why or str(error)
    if isinstance(error, httpx.ConnectTimeout):
        return f"unanswered within {wanted.timeout_s:g} s"
    if isinstance(error, httpx.TimeoutException):
        return f"connected, but no answer within {wanted.timeout_s:g} s"
    return str(error) or type(error).__name__


async def _ended(url: httpx.URL, wanted: Wanted) -> str:
    """The day on which a certificate ended that is not believed any more."""
    from cryptography import x509

    blind = ssl.create_default_context()
    blind.check_hostname, blind.verify_mode = False, ssl.CERT_NONE
    end = await resolved(url.host, url.port or _PORTS["https"], wanted)
    try:
        _, writer = await asyncio.wait_for(
            asyncio.open_connection(end.address, end.port, ssl=blind, server_hostname=url.host), wanted.timeout_s
        )
    except (OSError, TimeoutError):
        return ""
    octets = writer.get_extra_info("ssl_object").getpeercert(binary_form=True)
    writer.close()
    return x509.load_der_x509_certificate(octets).not_valid_after_utc.strftime("%Y-%m-%d") if octets else ""
