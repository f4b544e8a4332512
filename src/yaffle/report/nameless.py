"""What goes out masked: an analysis without names, and texts whose addresses are others."""

import ipaddress
import re
from dataclasses import replace

from yaffle.analysis import Analysis
from yaffle.capture.masking import Masker
from yaffle.exchanges.lookup import Lookup
from yaffle.exchanges.lookups import Lookups
from yaffle.inventory.expected_markings import VIDEO, VOICE
from yaffle.texts import Texts

_ADDRESS = re.compile(
    r"(?<![\w.:])((?:\d{1,3}\.){3}\d{1,3}(?!\.?\d)|[0-9a-fA-F]{1,4}(?::[0-9a-fA-F]{0,4}){2,7}(?![\w:]))(/\d{1,3})?"
)


def nameless(analysis: Analysis) -> Analysis:
    """The same without the names that captures hold or bear: of hosts, of what was looked up or asked, of files and
    their points; and without the user's own.
    """
    capture, messages, flows = analysis.capture, analysis.messages, analysis.flows
    sources = [replace(source, name=f"capture {k + 1}", names={}) for k, source in enumerate(capture.sources)]
    points = [f"point {k + 1}" for k in range(len(capture.points))]
    expected = tuple(rule for rule in analysis.expected if rule.application in (VOICE, VIDEO))
    analysis = replace(analysis, rules=(), sites=(), expected=expected, renamed=())
    return replace(
        analysis,
        capture=replace(capture, names={}, sources=sources, points=points),
        flows=replace(
            flows,
            exporters=[replace(one, interfaces={}, applications={}, notes=[]) for one in flows.exporters],
            counters=replace(flows.counters, names={}),
        ),
        lookups=Lookups(_unnamed(analysis.lookups.rows)),
        messages=replace(messages, label=Texts.of("" for _ in range(len(messages.label))), host={}, note={}, values={}),
    )


def _unnamed(rows: list[Lookup]) -> list[Lookup]:
    """Look-ups of names, each name another one. What else was asked may hold names anywhere: it is left out."""
    numbers: dict[str, int] = {}
    return [
        replace(one, name=f"name {numbers.setdefault(one.name, len(numbers) + 1)}", addresses=())
        for one in rows
        if one.protocol == "dns"
    ]


def masked(page: str, masker: Masker) -> str:
    """Addresses and networks in a text, masked."""

    def other(match: re.Match[str]) -> str:
        try:
            if match.group(2):
                network = ipaddress.ip_network(match.group(0))
                return str(
                    ipaddress.ip_network(f"{masker.text(str(network.network_address))}{match.group(2)}", strict=False)
                )
            return masker.text(match.group(0))
        except ValueError:
            return match.group(0)

    return _ADDRESS.sub(other, page)
