"""One tab as the server knows it."""

import asyncio
from dataclasses import dataclass, field
from typing import Any

QUEUE_LIMIT = 300
"""Messages that may wait for a tab; one that takes none is closed."""


@dataclass
class Tab:
    """One WebSocket: what waits to be sent, the session it works on, the strip it looks at.

    The rest is what a new engine has to know to go on where the old one was: how play stands,
    the place that was heard last, and what was asked for and still holds.
    """

    number: int
    queue: "asyncio.Queue[bytes | str | None]" = field(
        default_factory=lambda: asyncio.Queue(QUEUE_LIMIT)
    )
    session: int | None = None
    strip: str | None = None
    playing: bool = False
    loop: tuple[int, int] | None = None
    frame: int = 0
    epoch: int = 0
    lasting: dict[str, str] = field(default_factory=dict)
    hearing: tuple[Any, ...] | None = None
    """What the engine was told so that something else than what stands is heard, as long as it is:
    an earlier revision, a recipe that is tried, a control in a hand."""
    refused_at: float = 0.0

    def note(self, event: dict[str, Any]) -> None:
        """Take what the engine says of how play stands."""
        if event["type"] == "transport":
            self.playing, self.loop = event["playing"], event["loop"]
            self.epoch = max(self.epoch, event["epoch"])
            self.frame = event["frame"]
