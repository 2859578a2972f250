"""The engine's guard: ends the process when a turn never ends or memory runs away."""

import os
import threading
import time
from collections.abc import Callable

TURN_S = float(os.environ.get("SALT_ANVIL_TURN_S", "2"))
"""Processor time that one turn may take."""
FIRST_S = 10.0
"""The same while the process is young and still loads its kernels."""
YOUNG_S = 15.0
"""Processor time up to which it counts as young."""
MEMORY_MB = float(os.environ.get("SALT_ANVIL_ENGINE_MB", "1500"))
"""Memory of its own, mapped files apart, that the process may hold."""
EVERY_S = 0.25


class Watch:
    """A thread that says that the process lives, and ends it when it does not get anywhere.

    Time is the main thread's processor time: on a busy machine a turn may take long by the clock.
    """

    def __init__(self, alive: Callable[[], None], dying: Callable[[str], None]) -> None:
        self._alive, self._dying = alive, dying
        self._clock = time.pthread_getcpuclockid(threading.main_thread().ident or 0)
        self._turn = self._now()
        threading.Thread(target=self._run, name="watch", daemon=True).start()

    def turn(self) -> None:
        """Note that a turn begins."""
        self._turn = self._now()

    def _now(self) -> float:
        return time.clock_gettime(self._clock)

    def _run(self) -> None:
        while True:
            now = self._now()
            limit = TURN_S if now > YOUNG_S else max(FIRST_S, TURN_S)
            held = own_memory_mb()
            if now - self._turn > limit:
                self._end(f"one turn took over {limit:g} s")
            if held > MEMORY_MB:
                self._end(f"it held {held:.0f} MB of memory")
            try:
                self._alive()
            except OSError:
                return
            time.sleep(EVERY_S)

    def _end(self, why: str) -> None:
        threading.Timer(1.0, os._exit, (70,)).start()
        try:
            self._dying(why)
        finally:
            os._exit(70)


def own_memory_mb() -> float:
    """Return the process's resident memory without mapped files."""
    with open("/proc/self/status") as status:  # noqa: PTH123 - four times a second
        for line in status:
            if line.startswith("RssAnon"):
                return int(line.split()[1]) / 1024
    return 0.0
