"""Processes that end with the one that began them."""

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
