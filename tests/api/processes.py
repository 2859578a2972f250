"""The processes below a server, and waiting for what they do."""

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from salt_anvil.speed.client import PATIENCE_S
from tests.server import Server, Tab


def children(pid: int) -> dict[str, int]:
    """Return the numbers of the processes below one, by name.

    Of two with one name the nearer: a process that begins another is two with its name until the
    other one's program is there.
    """
    found: dict[str, int] = {}
    below: dict[str, int] = {}
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                name, rest = (entry / "stat").read_text().split("(", 1)[1].rsplit(")", 1)
            except OSError:
                continue
            if int(rest.split()[1]) == pid:
                found[name] = int(entry.name)
                below |= children(int(entry.name))
    return below | found


def until(reported: Callable[[], Any], seconds: float = PATIENCE_S) -> Any:
    """Wait for a state; return what it is."""
    end = time.monotonic() + seconds
    while not (found := reported()):
        assert time.monotonic() < end
        time.sleep(0.05)
    return found


def analysed(tab: Tab, strip: str = "main") -> None:
    """Wait until a strip has been gone through; it may have been before anybody waited."""

    def whole(event: dict[str, Any]) -> bool:
        reported = event["type"] == "analysed" and event["strip"] == strip
        return reported and event["done"] == event["frames"]

    while not any(whole(event) for event in tab.events):
        tab.wait("analysed")


def finished_print(server: Server, number: int) -> dict[str, Any]:
    """Return a print of the session when it is neither waiting nor running."""

    def ended() -> dict[str, Any] | None:
        row = next(p for p in server.api("GET", f"{server.path}/prints") if p["id"] == number)
        return row if row["state"] not in ("waiting", "running") else None

    return until(ended)


def ask_print(server: Server, **wanted: object) -> dict[str, Any]:
    """Print the session; return the print when it is done or has failed."""
    return finished_print(server, server.api("POST", f"{server.path}/prints", wanted)["id"])
