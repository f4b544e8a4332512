"""The chosen sets of flows of a history over the period in focus, and whether the network is at fault."""

from dataclasses import dataclass

from yaffle.progress import Progress, step
from yaffle.session.scene import Scene
from yaffle.watching.fault import NetworkFault, Verdict, network_fault
from yaffle.watching.flow_sets import FlowSet, SetHealth, Way, fitted, health_of, kept_sets
from yaffle.watching.windows import Windows


@dataclass(frozen=True)
class HealthRow:
    """One set in one direction."""

    of: FlowSet
    way: Way
    verdict: Verdict | None

    @property
    def words(self) -> str:
        """How it is now."""
        return {True: "degraded", False: "ok", None: "unknown"}[self.way.now]


@dataclass(frozen=True)
class HealthPicture:
    """All of them, degraded ones first."""

    rows: list[HealthRow]
    fault: NetworkFault


def health_picture(scene: Scene, progress: Progress) -> HealthPicture | None:
    """None where no set is chosen. Raises HistoryError, WhereError, Cancelled."""
    history = scene.evidence.analysis.history
    sets = kept_sets(history.folder) if history is not None else []
    if history is None or not sets:
        return None
    span, windows = scene.last_ns - scene.first_ns, Windows(history)
    told: list[SetHealth] = []
    for place, one in enumerate(sets):
        step(progress, place / len(sets), f"looking at {one.name}")
        told.append(health_of(windows, fitted(one, span), scene.first_ns, scene.last_ns))
    fault = network_fault(told)
    rows = [
        HealthRow(one.of, way, fault.verdicts.get((one.of.name, way.direction))) for one in told for way in one.ways
    ]
    order = {True: 0, None: 1, False: 2}
    return HealthPicture(sorted(rows, key=lambda row: order[row.way.now]), fault)
