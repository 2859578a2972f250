"""State of a recursion as named arrays: cloned, stored as bytes, restored to the bit."""

import json
from typing import Any

import numpy as np
from numpy.typing import NDArray


class State(dict[str, NDArray[np.float64]]):
    """Named float64 arrays; everything that a stage remembers between two blocks."""

    _parts: "dict[str, State] | None" = None
    """What `nested` has found, as long as no array is another one."""

    def __setitem__(self, name: str, array: NDArray[np.float64]) -> None:
        super().__setitem__(name, array)
        self._parts = None

    def update(self, *others: Any, **arrays: Any) -> None:
        """Take other arrays in, as a dict does."""
        super().update(*others, **arrays)
        self._parts = None

    def clone(self) -> "State":
        """Return an independent copy."""
        return State({name: array.copy() for name, array in self.items()})

    def to_bytes(self) -> bytes:
        """Return a byte form: one line of JSON with names and shapes, then the numbers."""
        head = json.dumps({name: array.shape for name, array in self.items()}).encode() + b"\n"
        return head + b"".join(array.tobytes() for array in self.values())

    @classmethod
    def from_bytes(cls, data: bytes) -> "State":
        """Return the state that `to_bytes` wrote."""
        head, _, body = data.partition(b"\n")
        state, at = cls(), 0
        for name, shape in json.loads(head).items():
            count = int(np.prod(shape, dtype=np.int64))
            array = np.frombuffer(body, np.float64, count, at)
            state[name] = array.reshape(shape).copy()
            at += count * 8
        return state

    def nested(self, prefix: str) -> "State":
        """Return the arrays whose name starts with the prefix, without it, not copied."""
        if self._parts is None:
            self._parts = {}
        if prefix not in self._parts:
            self._parts[prefix] = State(
                {name[len(prefix) :]: a for name, a in self.items() if name.startswith(prefix)}
            )
        return self._parts[prefix]

    def nest(self, prefix: str, inner: "State") -> None:
        """Store another state's arrays under a prefix, not copied."""
        for name, array in inner.items():
            self[prefix + name] = array
