"""What options tell of an exporter: sampling, names of interfaces and of applications."""

from yaffle.arrays import Uint8s2
from yaffle.records import elements as e
from yaffle.records.flow_table import Exporter
from yaffle.records.templates import Template, numbers

_MOST_NAMES = 1 << 16
ALL = -1  # the sampler of whoever names none


def take_option(
    template: Template, row: Uint8s2, others: dict[int, bytes], exporter: Exporter, samplers: dict[int, int]
) -> None:
    """One record of options. row: its fixed fields, uint8 (1, n); others: what is no number, by its place in the
    template.
    """
    told = {
        meaning: int(numbers(row, place)[0]) for meaning, place in template.places.items() if meaning not in e.TEXTS
    }
    texts = {
        template.fields[k].meaning: value.rstrip(b"\0").decode("utf-8", "replace")
        for k, value in others.items()
        if template.fields[k].meaning in e.TEXTS
    }
    interface = told.get(e.IN, told.get(e.OUT, -1))
    if interface >= 0 and e.INTERFACE_NAME in texts and len(exporter.interfaces) < _MOST_NAMES:
        exporter.interfaces[interface] = texts[e.INTERFACE_NAME]
    if e.APPLICATION in told and e.APPLICATION_NAME in texts and len(exporter.applications) < _MOST_NAMES:
        exporter.applications[told[e.APPLICATION]] = texts[e.APPLICATION_NAME]
    interval = told.get(e.INTERVAL, told.get(e.RANDOM_INTERVAL, 0))
    if told.get(e.TAKEN, 0) > 0 and e.SPACE in told:
        interval = (told[e.TAKEN] + told[e.SPACE]) // told[e.TAKEN]
    if told.get(e.SIZE, 0) > 0 and e.POPULATION in told:
        interval = told[e.POPULATION] // told[e.SIZE]
    if interval > 0 and len(samplers) < _MOST_NAMES:
        samplers[told.get(e.SAMPLER, told.get(e.SELECTOR, ALL))] = interval
        samplers.setdefault(ALL, interval)
