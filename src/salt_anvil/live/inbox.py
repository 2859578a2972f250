"""What tabs have asked for and was not done yet: only the newest of what replaces one another."""

from collections import OrderedDict
from typing import Any

NEWEST = {"seek", "loop", "preview", "listen", "same_loudness", "set_ahead"}
"""Commands of which an older one of the same tab is worth nothing any more."""
AT_ONCE = {"stop", "set_ahead"}
"""Commands that cost nothing, and that nobody should wait for."""
Key = tuple[Any, ...]


class Inbox:
    """Messages in the order in which they are to be done."""

    def __init__(self) -> None:
        self._waiting: OrderedDict[Key, tuple[Any, ...]] = OrderedDict()
        self._count = 0

    def __len__(self) -> int:
        return len(self._waiting)

    def put(self, message: tuple[Any, ...]) -> None:
        """Take a message; it goes behind all others, and what it makes pointless is dropped."""
        kind, *rest = message
        if kind in ("open", "close"):
            self._forget(rest[0])
        key = self._key(kind, rest)
        self._waiting.pop(key, None)
        if kind == "command" and rest[1] in AT_ONCE:
            self._waiting[key] = message
            self._waiting.move_to_end(key, last=False)
        else:
            self._waiting[key] = message

    def _key(self, kind: str, rest: list[Any]) -> Key:
        if kind == "hear":
            return "command", rest[0], "preview"
        if kind == "command" and rest[1] in NEWEST:
            return kind, rest[0], rest[1]
        if kind == "model":
            return kind, rest[1]
        self._count += 1
        return kind, self._count

    def _forget(self, tab: int) -> None:
        for key, message in list(self._waiting.items()):
            if message[0] in ("open", "command", "hear") and message[1] == tab:
                del self._waiting[key]

    def take(self) -> tuple[Any, ...]:
        """Return what is to be done next."""
        return self._waiting.popitem(last=False)[1]
