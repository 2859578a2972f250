"""Controls within a list: `bands.0.hz` is the frequency of the first band, `points.1.out` the level
that the second point leads to."""

from collections.abc import Mapping, Sequence
from typing import Any, TypeVar

from salt_anvil.core.processors.base import Control, Params

SIDES = ("in", "out")
"""Of a point: the level in, the level out."""
APART = 0.1
"""What a point's level in keeps at least from its neighbours', in dB."""
P = TypeVar("P", bound=Params)


def control_within(controls: Sequence[Control], params: Params, name: str) -> Control | None:
    """Return the declaration of a control of these params, also of one within a list."""
    first, *rest = name.split(".")
    found = next((c for c in controls if c.name == first), None)
    if found is None or not rest:
        return found
    if len(rest) != 2 or not rest[0].isdigit() or int(rest[0]) >= len(getattr(params, first)):
        return None
    number, field = int(rest[0]) + 1, rest[1]
    if found.type == "bands":
        inner = next((c for c in found.fields if c.name == field), None)
        label = f"{found.label.removesuffix('s')} {number}"
    elif found.type == "points" and field in SIDES:
        inner, label = _side(found), f"Point {number}"
    else:
        return None
    if inner is None:
        return None
    said = f"{label} {field if found.type == 'points' else inner.label.lower()}"
    return inner.model_copy(update={"name": name, "label": said})


def _side(points: Control) -> Control:
    return points.model_copy(
        update={"type": "number", "unit": "dB", "scale": "db", "default": 0.0, "fewest": None,
                "most": None}
    )  # fmt: skip


def value_within(params: Params, name: str) -> Any:
    """Return what a control of these params is set to, also of one within a list."""
    first, *rest = name.split(".")
    value = getattr(params, first)
    if not rest:
        return value
    item = value[int(rest[0])]
    return item[SIDES.index(rest[1])] if isinstance(item, tuple) else getattr(item, rest[1])


def with_values(params: P, values: Mapping[str, Any]) -> P:
    """Return the params with some controls set, also such within a list; points stay in order."""
    update: dict[str, Any] = {}
    for name, value in values.items():
        first, *rest = name.split(".")
        if not rest:
            update[first] = value
            continue
        items = list(update.get(first, getattr(params, first)))
        index = int(rest[0])
        if index >= len(items):
            continue
        if isinstance(items[index], tuple):
            items[index] = _point(items, index, rest[1], value)
        else:
            items[index] = items[index].model_copy(update={rest[1]: value})
        update[first] = tuple(items)
    return params.model_copy(update=update)


def _point(points: list[Any], index: int, side: str, value: float) -> tuple[float, float]:
    level, out = points[index]
    if side == "out":
        return level, value
    low = points[index - 1][0] + APART if index else value
    high = points[index + 1][0] - APART if index + 1 < len(points) else value
    return min(max(value, low), max(high, low)), out
