"""What a web page is made of besides its text: pictures, style sheets, scripts; fetched as a browser does, six at once
from each server over connections that stay open (RFC 9112, section 9.4), and when each came.
"""

import asyncio
import time
from html.parser import HTMLParser
from typing import Any

import httpx

_MOST, _EACH_SERVER = 100, 6
_MOST_BYTES, _LONGEST_S = 64 << 20, 60.0  # of one element
_OF = {"img": "src", "script": "src", "source": "src", "iframe": "src", "embed": "src", "input": "src"}
_LINKED = ("stylesheet", "icon", "preload", "modulepreload")


class _Elements(HTMLParser):
    """Addresses of a page's elements, each once, in order."""

    def __init__(self) -> None:
        super().__init__()
        self.found: dict[str, None] = {}
        self.base = ""

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        own = {name: value or "" for name, value in attrs}
        if tag == "base":
            self.base = self.base or own.get("href", "")
        elif tag == "link" and set(own.get("rel", "").lower().split()) & set(_LINKED):
            self.found.setdefault(own.get("href", ""))
        elif tag in _OF:
            self.found.setdefault(own.get(_OF[tag], ""))


def elements_of(text: str, page: httpx.URL) -> list[httpx.URL]:
    """The addresses of a page's elements, the first of very many; what is no address is left out."""
    parser = _Elements()
    parser.feed(text)
    found: dict[httpx.URL, None] = {}
    for address in parser.found:
        try:
            own = page.join(parser.base).join(address) if address else None
        except httpx.InvalidURL:
            continue
        if own is not None and own.scheme in ("http", "https") and own.host:
            found.setdefault(own.copy_with(fragment=None))
    return list(found)[:_MOST]


async def fetched(urls: list[httpx.URL], client: httpx.AsyncClient, began_ns: int) -> list[dict[str, Any]]:
    """What became of each: status, bytes, when it was asked for and when it was there, ms since the page was begun."""
    rooms: dict[str, asyncio.Semaphore] = {}

    async def one(url: httpx.URL) -> dict[str, Any]:
        told: dict[str, Any] = {"url": str(url), "status": None, "bytes": 0, "why": ""}
        async with rooms.setdefault(url.netloc.decode(), asyncio.Semaphore(_EACH_SERVER)):
            told["begin_ms"] = (time.monotonic_ns() - began_ns) / 1e6
            try:
                async with asyncio.timeout(_LONGEST_S), client.stream("GET", url, follow_redirects=True) as answer:
                    told["status"] = answer.status_code
                    async for part in answer.aiter_raw():
                        told["bytes"] += len(part)
                        if told["bytes"] > _MOST_BYTES:
                            break
                if answer.status_code >= httpx.codes.BAD_REQUEST:
                    told["why"] = f"status {answer.status_code} {answer.reason_phrase}".strip()
            except (httpx.TimeoutException, TimeoutError):
                told["why"] = "unanswered"
            except (httpx.HTTPError, OSError) as error:
                told["why"] = str(error) or type(error).__name__
            told["end_ms"] = (time.monotonic_ns() - began_ns) / 1e6
        return told

    return list(await asyncio.gather(*(one(url) for url in urls)))
