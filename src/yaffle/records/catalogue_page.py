"""The catalogue of measures as a page of the documentation: python -m yaffle.records.catalogue_page"""

from yaffle.records.catalogue import CATALOGUE, COUNTERS, CYCLIC, HOPS, PROBES, RADIO, READINGS, RECORDS, WAITS

_HEAD = (
    "# Measures of a history\n\nEvery measure that is worked out from the tables of a history: unit, meaning, groups."
    " Survey's measures over time\nand Compare offer them where the history holds them; utilization stands there by"
    " direction. Made by\n`python -m yaffle.records.catalogue_page`.\n"
)
_TABLES = {
    WAITS: "Waits (`waits`, `waits_1h`, `waits_1day`)",
    PROBES: "Tests on purpose (`probes`)",
    HOPS: "What nodes told of packets (`hops`)",
    RADIO: "What radios heard (`radio`)",
    CYCLIC: "Cyclic streams (`cyclic`)",
    RECORDS: "Flow records (`records`)",
    COUNTERS: "Interface counters (`counters`)",
    READINGS: "Hosts and devices (`readings`)",
}


def page() -> str:
    """The page as Markdown."""
    parts = [_HEAD]
    for table, title in _TABLES.items():
        own = [entry for entry in CATALOGUE.values() if entry.table == table]
        parts += [f"## {title}", f"Groups: {', '.join(own[0].groups)}.", ""]
        parts += ["| measure | unit | |", "|---|---|---|"]
        parts += [f"| `{entry.name}` | {entry.unit} | {entry.words} |" for entry in own]
        parts.append("")
    return "\n".join(parts)


if __name__ == "__main__":
    print(page(), end="")
