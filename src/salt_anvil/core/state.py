"""State of a recursion as named arrays: cloned, stored as bytes, restored to the bit."""

import json
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


class State(dict[str, Array]):
    """Named arrays of float64 or float32; everything that a stage remembers between two blocks."""

    _parts: "dict[str, State] | None" = None
    """What `nested` has found, as long as no array is another one."""

    def __setitem__(self, name: str, array: Array) -> None:
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
        """Return a byte form: one line of JSON with names, kinds and shapes, then the numbers."""
        kinds = {name: (array.dtype.str, array.shape) for name, array in self.items()}
        head = json.dumps(kinds).encode() + b"\n"
        return head + b"".join(array.tobytes() for array in self.values())

    @classmethod
    def from_bytes(cls, data: bytes) -> "State":
        """Return the state that `to_bytes` wrote."""
        head, _, body = data.partition(b"\n")
        state, at = cls(), 0
        for name, (kind, shape) in json.loads(head).items():
            array = np.frombuffer(body, kind, int(np.prod(shape, dtype=np.int64)), at)
            state[name] = array.reshape(shape).copy()
            at += array.nbytes
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
