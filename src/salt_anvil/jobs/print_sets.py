"""Sets of stems that add up: which prints they are, and to what they add up, in words."""

from typing import Literal

from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import processor
from salt_anvil.core.session import Session, Stage, elements
from salt_anvil.jobs.print_worker import PrintOptions

StemSet = Literal["groups", "tracks"]
LINEAR = frozenset({"tone", "trim", "width"})
"""Kinds that do the same to a sum as to its parts, as long as nothing in them follows the level."""


def stems(session: Session, which: StemSet, like: PrintOptions) -> list[PrintOptions]:
    """Return the prints of a set, the one that they add up to last; like: format and the rest.

    Raises:
        SettingError: there is nothing to print.
    """
    main = next(s.id for s in session.strips if s.kind == "main")
    if which == "groups":
        parts = [
            like.model_copy(update={"strip": s.id, "tap": "fader", "part": s.name})
            for s in session.strips
            if s.kind != "main" and (s.output or main) == main and not s.mute
        ]
        whole = {"dry": "main", "part": "sum of the stems"}
    else:
        parts = [
            like.model_copy(update={"only": s.id, "dry": "buses", "part": s.name})
            for s in session.strips
            if s.kind == "track" and s.audio and not s.mute
        ]
        whole = {"dry": "buses", "part": "sum of the stems"}
    if not parts:
        raise SettingError("there is no strip to print as a stem")
    return [*parts, like.model_copy(update=whole)]


def words_of(session: Session, which: StemSet) -> str:
    """Return to what a set adds up, and what keeps it from adding up to the mix."""
    kinds = ("main",) if which == "groups" else ("main", "bus")
    bent = [
        f"{processor(e.kind).title} on {s.name}"
        for s in session.strips
        if s.kind in kinds
        for e in elements(s.chain)
        if isinstance(e, Stage) and e.on and e.kind not in LINEAR
    ]
    said = {
        "groups": "Every strip that goes to the main bus, after its fader, with what its buses do.",
        "tracks": "Every track, through its buses with their chains bypassed.",
    }[which]
    if not bent:
        return f"{said} They add up to the mix."
    shown = ", ".join(bent[:3]) + (f" and {len(bent) - 3} more" if len(bent) > 3 else "")
    return (
        f"{said} They add up to the mix without {shown}: what follows the level cannot be"
        " divided among stems. That sum is printed beside them."
    )
