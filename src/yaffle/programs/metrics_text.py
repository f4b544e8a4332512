"""Figures in the OpenMetrics text format (1.0): what was found, who waits, what is watched, who collects."""

from collections import Counter
from collections.abc import Iterable, Mapping

import numpy as np

from yaffle import __version__
from yaffle.collector.status import status_of
from yaffle.ledger import causes
from yaffle.programs.case import Case
from yaffle.programs.health_told import health_told
from yaffle.session.watching import standings
from yaffle.watching.fault import NO, UNKNOWN, YES

MEDIA = "application/openmetrics-text; version=1.0.0; charset=utf-8"
_NS = 1e9
_FAULT = {YES: 1.0, NO: 0.0, UNKNOWN: float("nan")}
_DEGRADED = {True: 1.0, False: 0.0, None: float("nan")}
Samples = Iterable[tuple[Mapping[str, str], float]]


def metrics_text(cases: Mapping[str, Case]) -> str:
    """All families, each with its samples. Raises HistoryError."""
    lines = _family("yaffle_build", "info", "", "the program", [({"version": __version__}, 1)])
    waits, exchanges, found = [], [], []
    for name, case in cases.items():
        own = case.opened.evidence.waits
        exchanges.append(({"case": name}, float(own.first_ns.size)))
        sums = own.parties.sum(axis=0) if own.first_ns.size else np.zeros(len(causes.PARTIES))
        waits += [({"case": name, "party": party}, float(sums[k]) / _NS) for k, party in enumerate(causes.PARTIES)]
        told = Counter(f.severity for f in case.opened.findings)
        found += [({"case": name, "severity": s}, float(told[s])) for s in ("critical", "major", "minor")]
    lines += _family("yaffle_exchanges", "gauge", "", "exchanges of the evidence", exchanges)
    lines += _family("yaffle_wait_seconds", "gauge", "seconds", "waiting of all exchanges by party", waits)
    lines += _family("yaffle_findings", "gauge", "", "findings by severity", found)
    return "\n".join([*lines, *_of_histories(cases), "# EOF"]) + "\n"


def _of_histories(cases: Mapping[str, Case]) -> list[str]:
    states, figures, tasks, faults, sets = [], [], [], [], []
    for name, case in cases.items():
        history = case.opened.analysis.history
        if history is None:
            continue
        for (watch, subject), (state, _since, value) in standings(history).items():
            labels = {"case": name, "watch": watch, "subject": subject}
            states.append((labels | {"state": state}, 1.0))
            if np.isfinite(value):
                figures.append((labels, float(value)))
        if (health := health_told(case)).sets:
            faults.append(({"case": name}, _FAULT[health.network_at_fault]))
            sets += [
                ({"case": name, "set": one.name, "direction": way.direction}, _DEGRADED[way.degraded_now])
                for one in health.sets
                for way in one.ways
            ]
        for task in status_of(history.folder)["tasks"]:
            labels = {"case": name, "task": str(task["task"]), "address": str(task["address"])}
            tasks.append((labels, 1.0 if task["state"] == "running" else 0.0))
    return [
        *_family("yaffle_watch_state", "gauge", "", "the state that a watched member is in", states),
        *_family("yaffle_watch_value", "gauge", "", "the watched measure, in its own unit", figures),
        *_family("yaffle_network_at_fault", "gauge", "", "1: yes, 0: no, NaN: not known", faults),
        *_family("yaffle_flow_set_degraded", "gauge", "", "1: yes, 0: no, NaN: not known", sets),
        *_family("yaffle_task_running", "gauge", "", "whether a task of the collector runs", tasks),
    ]


def _family(name: str, kind: str, unit: str, words: str, samples: Samples) -> list[str]:
    told = [f"# TYPE {name} {kind}", *([f"# UNIT {name} {unit}"] if unit else []), f"# HELP {name} {words}"]
    for labels, value in samples:
        inside = ",".join(f'{key}="{_escaped(text)}"' for key, text in labels.items())
        told.append(f"{name}{'_info' if kind == 'info' else ''}{{{inside}}} {_number(value)}")
    return told


def _number(value: float) -> str:
    return f"{value:.10g}" if value == value else "NaN"


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
