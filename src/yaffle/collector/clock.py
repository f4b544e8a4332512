"""By what clock tasks work: the machine's, or one that is played."""

import asyncio
import time


class Clock:
    """The machine's."""

    def now_ns(self) -> int:
        """Since 1970."""
        return time.time_ns()

    async def pause(self, seconds: float) -> None:
        """Waits between two steps of a task."""
        await asyncio.sleep(seconds)
