"""What goes out masked: an analysis without names, and texts whose addresses are others."""

import ipaddress
import re
from dataclasses import replace

from yaffle.analysis import Analysis
from yaffle.capture.masking import Masker
from yaffle.exchanges.lookup import Lookup
from yaffle.exchanges.lookups import Lookups
from yaffle.inventory.expected_markings import VIDEO, VOICE
from yaffle.radio.radio import Radio
from yaffle.texts import Texts

_OCTETS = r"[0-9a-fA-F]{2}(?::[0-9a-fA-F]{2}){5}"
_HARDWARE = re.compile(_OCTETS)
# What follows in a sentence may be a colon, and an address may end in two of them.
_END = r"(?<!(?<!:):)(?!\w|:[\w:])"
_ADDRESS = re.compile(
    rf"(?<![\w.:])((?:\d{{1,3}}\.){{3}}\d{{1,3}}(?!\.?\d)|{_OCTETS}{_END}|"
    rf"[0-9a-fA-F]{{1,4}}(?::[0-9a-fA-F]{{0,4}}){{2,7}}{_END})(/\d{{1,3}})?"
)


def nameless(analysis: Analysis) -> Analysis:
    """The same without the names that captures hold or bear: of hosts, of what was looked up or asked, of networks on
    the air, of files and their points; and without the user's own.
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
        radio=_without_networks(analysis.radio),
        messages=replace(messages, label=Texts.of("" for _ in range(len(messages.label))), host={}, note={}, values={}),
    )


def _without_networks(radio: Radio) -> Radio:
    """Networks on the air by number."""
    told = [one.ssid for one in radio.access_points] + [one.ssid for one in radio.stations]
    names = (name for name in dict.fromkeys(told) if name)
    number = {"": "", **{name: f"network {k + 1}" for k, name in enumerate(names)}}
    return replace(
        radio,
        access_points=[replace(one, ssid=number[one.ssid]) for one in radio.access_points],
        stations=[replace(one, ssid=number[one.ssid]) for one in radio.stations],
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
    """Addresses, networks and hardware addresses in a text, masked."""

    def other(match: re.Match[str]) -> str:
        try:
            if match.group(2):
                network = ipaddress.ip_network(match.group(0))
                return str(
                    ipaddress.ip_network(f"{masker.text(str(network.network_address))}{match.group(2)}", strict=False)
                )
            return masker.text(match.group(0))
        except ValueError:
            return masker.hardware(match.group(0)) if _HARDWARE.fullmatch(match.group(0)) else match.group(0)

    return _ADDRESS.sub(other, page)
