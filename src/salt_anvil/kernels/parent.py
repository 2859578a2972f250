"""Processes of our own: they end with the one that began them, and give way to others."""

import multiprocessing
import os
import threading


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
