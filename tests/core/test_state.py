"""State: what is nested is looked for once, and never out of date."""

import numpy as np

from salt_anvil.core.state import State


def _state() -> State:
    return State({"key_line": np.zeros(3), "key_tops": np.ones(2), "past": np.zeros(4)})


def test_nested_arrays_are_those_of_the_whole() -> None:
    state = _state()
    part = state.nested("key_")
    assert set(part) == {"line", "tops"}
    assert part["line"] is state["key_line"]
    assert state.nested("key_") is part


def test_a_replaced_array_is_found() -> None:
    state = _state()
    state.nested("key_")
    state["key_line"] = np.full(3, 7.0)
    assert (state.nested("key_")["line"] == 7).all()
    state.update(key_tops=np.full(2, 8.0))
    assert (state.nested("key_")["tops"] == 8).all()
    state.nest("key_", State(line=np.full(3, 9.0)))
    assert (state.nested("key_")["line"] == 9).all()


def test_a_copy_and_what_was_stored_share_nothing() -> None:
    state = _state()
    kept = state.nested("key_")
    for other in (state.clone(), State.from_bytes(state.to_bytes())):
        part = other.nested("key_")
        part["line"][:] = 5.0
        assert (kept["line"] == 0).all()
        assert (other["key_line"] == 5).all()
