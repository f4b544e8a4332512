"""What a terminal is told while something takes long: a bar; nothing where nobody sees it."""

import sys
from contextlib import nullcontext
from typing import Any


def progress_bar() -> Any:
    """A progress callback: a bar on a terminal, nothing elsewhere."""
    if not sys.stderr.isatty():
        return nullcontext(), lambda share, words: True
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    bar = Progress(
        TextColumn("{task.description}"),
        BarColumn(),
        TimeRemainingColumn(),
        console=Console(stderr=True),
        transient=True,
    )
    task = bar.add_task("starting", total=1.0)

    def step(share: float, words: str) -> bool:
        bar.update(task, completed=share, description=words)
        return True

    return bar, step
