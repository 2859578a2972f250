"""Processes of our own: they end with the one that began them, give way to others, keep memory."""

import ctypes
import multiprocessing
import os
import threading

KEPT = 64 << 20
"""Bytes that lie free before some go back to the system, and from which on a piece is its own."""
_TRIM_THRESHOLD, _MMAP_THRESHOLD = -1, -3


def keep_memory() -> None:
    """Let what is freed stay with this process until it is wanted again.

    By itself glibc gives back what lies free at the end, and each chunk of a file is 60 pages for
    the system to clear anew; a long run spends a sixth of its time so. Elsewhere nothing happens.
    """
    mallopt = getattr(ctypes.CDLL(None), "mallopt", None)
    if mallopt is not None:
        mallopt(_MMAP_THRESHOLD, KEPT // 2)
        mallopt(_TRIM_THRESHOLD, KEPT)


def end_with_parent() -> None:
    """Let this process end when the one that began it is gone, however it went."""
    parent = multiprocessing.parent_process()

    def watch() -> None:
        if parent is not None:
            parent.join()
            os._exit(1)

    threading.Thread(target=watch, daemon=True).start()


def give_way(steps: int) -> None:
    """Lower this process's priority by so many steps; by SALT_ANVIL_NICE at most, if it is set.

    Where all processors are taken by others, the lowest priority is next to standing still.
    """
    most = os.environ.get("SALT_ANVIL_NICE", "")
    os.nice(min(steps, int(most)) if most.isdecimal() else steps)
