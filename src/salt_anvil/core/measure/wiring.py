"""Cautions that follow from how things are put together, without any sound."""

from salt_anvil.core.dsp import blend
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.engine.plan import StripPlan
from salt_anvil.core.measure.cautions import Caution
from salt_anvil.core.session import Branch, Element, Split, Stage, elements

WANDER_LIMIT_DB = 2.0
"""More is heard as a change of level (common practice, no source)."""


def wiring_cautions(plan: StripPlan, frames: int) -> list[Caution]:
    """Return what to watch out for in a strip's splits and joins."""
    found = []
    for element in elements(plan.strip.chain):
        if isinstance(element, Split) and element.on:
            found += _of_split(element, plan.measurement(element.id), frames)
    if plan.strip.join.law == "steady":
        measured = plan.measurement(f"bus:{plan.strip.id}")
        name = plan.strip.id
        found += _of_steady(name, "the two inputs", measured, plan.strip.join.position, frames)
    return found


def _of_split(split: Split, measured: JoinMeasurement | None, frames: int) -> list[Caution]:
    found = []
    heard = [b for b in split.branches if b.on]
    if split.by == "copies":
        plain = [b for b in heard if not _works(b) and b.gain_db > -20]
        if split.join.law == "sum" and len(plain) > 1:
            words = f"{len(plain)} untouched copies are added: the level doubles (+6.02 dB)."
            found.append(_caution(f"doubled {split.id}", words, len(plain), 1, frames))
        turned = [_turns_phase(b.chain) for b in heard]
        if any(turned) and not all(turned):
            words = (
                "One copy goes through a minimum-phase split, its sibling does not: they cancel"
                " around the corners. Use linear phase, or mix inside the split."
            )
            found.append(_caution(f"phase {split.id}", words, sum(turned), 0, frames))
    soloed = [b.name for b in split.branches if b.solo]
    if soloed:
        words = f"Solo is on in a split: only {' and '.join(soloed)} is heard."
        found.append(_caution(f"solo {split.id}", words, len(soloed), 0, frames))
    if split.join.law == "steady":
        words = " and ".join(b.name for b in split.branches)
        if measured is not None:
            measured = measured.scaled(*(to_gain(b.gain_db) for b in split.branches))
        found += _of_steady(split.id, words, measured, split.join.position, frames)
    return found


def _of_steady(
    name: str, words: str, measured: JoinMeasurement | None, position: float, frames: int
) -> list[Caution]:
    if measured is None:
        return []
    if min(measured.a, measured.b) <= 0:
        said = f"Nothing to measure for the steady join of {words}: it is linear instead."
        return [_caution(f"silent {name}", said, -70, -70, frames)]
    if blend.opposed(measured):
        said = f"{words} cancel on the way: their polarity is opposed. The level sinks in between."
        return [_caution(f"opposed {name}", said, measured.alike, 0, frames)]
    ratio = (measured.a / measured.b) ** 0.5
    if not 1 / blend.MATCH_LIMIT <= ratio <= blend.MATCH_LIMIT:
        said = f"The levels of {words} are more than 24 dB apart: the blend is not measured steady."
        return [_caution(f"match {name}", said, ratio, blend.MATCH_LIMIT, frames)]
    apart, at = blend.wander(measured, position)
    if abs(apart) > WANDER_LIMIT_DB:
        way = "louder" if apart > 0 else "quieter"
        said = (
            f"The blend of {words} is steady over the song, but for a while {abs(apart):.1f} dB"
            f" {way}, as there they {'add up' if apart > 0 else 'cancel'} more than elsewhere."
        )
        begin = min(round(at * frames / len(measured.rows[0])), frames)
        return [Caution(f"wander {name}", said, apart, WANDER_LIMIT_DB, begin, frames)]
    return []


def _caution(rule: str, words: str, value: float, limit: float, frames: int) -> Caution:
    return Caution(rule, words[:1].upper() + words[1:], float(value), float(limit), 0, frames)


def _works(branch: Branch) -> bool:
    return any(e.on for e in branch.chain)


def _turns_phase(chain: list[Element]) -> bool:
    return any(
        isinstance(e, Split) and e.on and e.by == "bands" and e.phase == "minimum"
        for e in elements(chain)
        if not isinstance(e, Stage)
    )
