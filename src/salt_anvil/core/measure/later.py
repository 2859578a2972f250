"""What a change leaves to be done further down: by the stages that hold levels behind a place."""

from collections.abc import Callable
from dataclasses import dataclass

from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.measure.reduction import ReductionFigures
from salt_anvil.core.processors import processor
from salt_anvil.core.session import Stage, Strip, elements, following

Reductions = Callable[[str, str], ReductionFigures | None]
"""Gives the reduction of a strip's stage over a passage; None where it is not known in full."""


@dataclass(frozen=True)
class Later:
    """What a compressor or limiter further down has to do over the passage.

    before: under the revision before this one; None where that is not known any more, or the same.
    """

    strip: str
    stage: str
    now: ReductionFigures
    before: ReductionFigures | None


def later(plan: Plan, strip: str, at: str, now: Reductions, before: Reductions) -> list[Later]:
    """Return what the next stage that holds a level has to do, and had to before a change.

    Where that one does not hold every peak, the next that does as well; none that is not known.
    """
    found: list[Later] = []
    for owner, stage in _holding(plan, strip, at):
        item = processor(stage.kind)
        figures = now(owner.id, stage.id)
        if figures is None or (found and item.holds != "peaks"):
            continue
        found.append(Later(owner.name, item.title, figures, before(owner.id, stage.id)))
        if item.holds == "peaks":
            break
    return found


def _holding(plan: Plan, strip: str, at: str) -> list[tuple[Strip, Stage]]:
    """Return the stages that hold levels down, on this strip and on those where it goes."""
    found: list[tuple[Strip, Stage]] = []
    here = plan.strip(strip).strip
    chain = following(here.chain, at)
    while True:
        stages = [e for e in elements(chain) if isinstance(e, Stage)]
        found += [(here, s) for s in stages if s.on and processor(s.kind).holds != "nothing"]
        if here.kind == "main":
            return found
        here = plan.strip(plan.strip(here.id).output.to).strip
        chain = here.chain
