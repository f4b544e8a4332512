"""Real applications in tiers with what really happened, and how near the engine comes to it."""

import gzip
import json
from collections import Counter, defaultdict
from dataclasses import dataclass, field
from pathlib import Path

from yaffle.report.document import document

DATA = Path(__file__).parent.parent / "data" / "tiers"
_SAME_CALL_NS = 4_000_000  # between a call in the truth and its exchange
_SAME_FRONT_NS = 30_000_000


@dataclass
class Score:
    """Counts of one capture."""

    named: int = 0
    right: int = 0
    true: int = 0
    sure: int = 0
    sure_right: int = 0
    split_errors: list[float] = field(default_factory=list)
    most_right: list[bool] = field(default_factory=list)
    spent: Counter = field(default_factory=Counter)  # ms by place, as found
    spent_truly: Counter = field(default_factory=Counter)

    @property
    def worst_share(self):
        """By how much the share of one place in all servers' time is off at most."""
        found, truly = sum(self.spent.values()), sum(self.spent_truly.values())
        places = set(self.spent) | set(self.spent_truly)
        return max(abs(self.spent[at] / found - self.spent_truly[at] / truly) for at in places)


def truth_of(name):
    """What really happened."""
    return json.loads(gzip.decompress((DATA / f"{name}.json.gz").read_bytes()))


def score(analysis, truth):
    """Compares the analysis document with the truth."""
    told = document(analysis)
    ends = [(c["client"], c["server"]) for c in told["connections"]]
    by_ends = defaultdict(list)
    for number, x in enumerate(told["exchanges"]):
        by_ends[ends[x["connection"]]].append((x["first_ns"], number))

    def nearest(call, moment, most):
        found = min(by_ends[call["client"], call["server"]], key=lambda one: abs(one[0] - moment), default=(0, -1))
        return found[1] if abs(found[0] - moment) < most else -1

    links, result = {}, Score()

    def follow(front, calls):
        for call in calls:
            number = nearest(call, call["sent_ns"], _SAME_CALL_NS)
            if number >= 0:
                links[number] = front
                follow(number, call["calls"])

    for front in truth["fronts"]:
        number = nearest(front, front["received_ns"], _SAME_FRONT_NS)
        follow(number, front["calls"])
        x = told["exchanges"][number]
        parts = x.get("server_split", [{"at": front["server"], "ms": x["server_ms"]}])
        _compare(
            result, Counter({p["at"]: p["ms"] for p in parts}), Counter({p["at"]: p["ms"] for p in front["split"]})
        )
    result.true = len(links)
    for number, x in enumerate(told["exchanges"]):
        for one in x.get("behind", ()):
            right = links.get(one["exchange"]) == number
            result.named, result.right = result.named + 1, result.right + right
            if one["certainty"] > 0.9:
                result.sure, result.sure_right = result.sure + 1, result.sure_right + right
    return result


def _compare(result, found, truly):
    all_found, all_truly = sum(found.values()), sum(truly.values())
    result.split_errors.append(
        sum(abs(found[at] / all_found - truly[at] / all_truly) for at in set(found) | set(truly)) / 2
    )
    result.most_right.append(found.most_common(1)[0][0] == truly.most_common(1)[0][0])
    for spent, split in ((result.spent, found), (result.spent_truly, truly)):
        for at, ms in split.items():
            spent["network" if at.startswith("network") else at] += ms
