"""A real scheduler, real worker processes and an object store for tests of the cluster."""

import os
import re
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

_PATIENCE_S = 150


def _started(folder: Path, name: str, *arguments: str, **environment: str) -> "subprocess.Popen[bytes]":
    with (folder / f"{name}.log").open("wb") as log:
        return subprocess.Popen(
            [sys.executable, "-m", *arguments],
            stdout=log,
            stderr=log,
            start_new_session=True,
            cwd=folder,
            env={**os.environ, **environment},
        )


def _told(log: Path, pattern: str, process: "subprocess.Popen[bytes]") -> str:
    """What a process says in its log, once it says it."""
    until = time.monotonic() + _PATIENCE_S
    while time.monotonic() < until and process.poll() is None:
        if found := re.search(pattern, log.read_text(errors="replace")):
            return found.group(1)
        time.sleep(0.05)
    raise AssertionError(f"{log.name}: {log.read_text(errors='replace')[-2000:]}")


def stop(process: "subprocess.Popen[bytes]", how: int = signal.SIGTERM) -> None:
    """Ends a process and those it began."""
    with suppress(ProcessLookupError):
        os.killpg(process.pid, how)
    process.wait(20)


class Cluster:
    """A scheduler with workers, which may come and go."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.workers = folder, []
        folder.mkdir(parents=True, exist_ok=True)
        self._scheduler = _started(
            folder, "scheduler", "distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", "0",
            "--no-dashboard", DASK_DISTRIBUTED__SCHEDULER__WORKER_TTL="20s",
        )  # fmt: skip
        self.address = _told(folder / "scheduler.log", r"Scheduler at:\s+(tcp://\S+)", self._scheduler)

    def add_worker(self, memory: str = "0", **environment: str) -> "subprocess.Popen[bytes]":
        """A worker of one thread; it is there when this returns."""
        name = f"worker-{len(self.workers)}"
        worker = _started(
            self.folder, name, "distributed.cli.dask_worker", self.address, "--nthreads", "1", "--memory-limit",
            memory, "--no-dashboard", "--local-directory", str(self.folder), "--name", name, **environment,
        )  # fmt: skip
        self.workers.append(worker)
        _told(self.folder / f"{name}.log", r"Registered to:\s+(tcp://\S+)", worker)
        return worker

    def close(self) -> None:
        """Ends all of them."""
        for process in (*self.workers, self._scheduler):
            if process.poll() is None:
                stop(process)


@contextmanager
def cluster(folder: Path, workers: int) -> Iterator[Cluster]:
    """A scheduler with so many workers while the block runs."""
    made = Cluster(folder)
    try:
        for _ in range(workers):
            made.add_worker()
        yield made
    finally:
        made.close()
