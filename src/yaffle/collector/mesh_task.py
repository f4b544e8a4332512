"""Tests between all of several responders, or between one and all others: a task of the configuration a pair."""

import itertools
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated

from pydantic import Field, model_validator

from yaffle.collector.configuration_parts import Every
from yaffle.collector.probe_task import Probe, probe_job
from yaffle.collector.supervisor import Job
from yaffle.history.keeper import Keeper
from yaffle.probing.for_others import KINDS

HERE = "here"  # the collector's own host, among those that are tested
_LEAST, _MOST = 2, 200


class Mesh(Probe):
    """One test between every pair of responders, or between the hub and each of the others."""

    target: str = ""
    between: Annotated[tuple[str, ...], Field(min_length=_LEAST, max_length=_MOST)]
    hub: str = ""
    every: Every = 300 * 10**9

    @model_validator(mode="after")
    def _can_be(self) -> "Mesh":
        if self.kind not in KINDS:
            raise ValueError(f"kind: between others one of {', '.join(KINDS)} (not {self.kind})")
        if not self.name:
            raise ValueError("name: one by which its results are known")
        if self.target:
            raise ValueError("target: none; a mesh tests those that stand in between")
        if self.hub and self.hub not in self.between:
            raise ValueError(f"hub: one of those in between (not {self.hub})")
        if len(set(self.between)) < len(self.between):
            raise ValueError("between: each once")
        if not self.key_file and set(self.pairs()) - {(HERE, one) for one in self.between}:
            raise ValueError("key_file: responders test for others only with a key")
        return self

    def pairs(self) -> list[tuple[str, str]]:
        """Who tests whom: each pair once, since each kind tells of both ways."""
        if self.hub:
            return [(self.hub, one) for one in self.between if one != self.hub]
        ordered = sorted(self.between, key=lambda one: one != HERE)
        return list(itertools.combinations(ordered, 2))

    def within(self, folder: Path) -> "Mesh":
        """The same, with its file named from a folder on."""
        return self.model_copy(update={"key_file": str(folder / self.key_file)}) if self.key_file else self


def mesh_jobs(told: Sequence[Mesh], keeper: Keeper | None) -> list[Job]:
    """What is to be done."""
    found = []
    for mesh in told:
        pairs = mesh.pairs()
        for source, target in pairs:
            one = mesh.model_copy(update={"target": target, "name": f"{mesh.name}: {source} to {target}"})
            found.append(probe_job(one, len(pairs), keeper, "" if source == HERE else source))
    return found
