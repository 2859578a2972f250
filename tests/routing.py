"""Sessions with splits, joins, keys, sends, automation and levers, for the tests."""

from typing import Any

import numpy as np

from salt_anvil.core.audio import BLOCK
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.measure.joins import measure_joins
from salt_anvil.core.recipe import read_recipe, recipe_session
from salt_anvil.core.session import Session, checked

RATE = 48000


def stage(kind: str = "compressor", **params: Any) -> dict[str, Any]:
    return {"kind": kind, "params": params}


def split(by: str, *chains: list[dict[str, Any]], **more: Any) -> dict[str, Any]:
    """A split with one branch a chain; ids are given by place."""
    parts = [{"name": f"b{i}", "chain": chain} for i, chain in enumerate(chains)]
    return {"kind": "split", "by": by, "branches": parts, **more}


def bands(*chains: list[dict[str, Any]], **more: Any) -> dict[str, Any]:
    corners = {2: [200], 3: [200, 2000], 4: [80, 500, 5000], 5: [77, 200, 2000, 8000]}
    return split("bands", *chains, crossovers_hz=corners[len(chains)], **more)


def through(
    chain: list[dict[str, Any]],
    sound: np.ndarray,
    keys: dict[str, np.ndarray] | None = None,
    rate: int = RATE,
    **more: Any,
) -> np.ndarray:
    """Run a sound through a recipe's chain; latency is taken out."""
    keys = keys or {}
    recipe = read_recipe({"chain": chain, "bpm": 96})
    counts = {name: key.shape[1] for name, key in keys.items()}
    session = recipe_session(recipe, rate, sound.shape[1], len(sound), counts)
    session = checked(Session, session.model_dump() | more)
    return run_strip(session, "in", {"in": sound} | {f"key:{n}": k for n, k in keys.items()})


def reader(sounds: dict[str, np.ndarray]) -> Any:
    """Return a source of float32 sounds, zeros outside them, as the media folder gives it."""
    kept = {name: sound.astype(np.float32) for name, sound in sounds.items()}

    def source(audio: str, start: int, frames: int) -> np.ndarray:
        sound = kept[audio]
        out = np.zeros((frames, sound.shape[1]))
        low, high = max(start, 0), min(start + frames, len(sound))
        if high > low:
            out[low - start : high - start] = sound[low:high]
        return out

    return source


def held_plan(session: Session, sounds: dict[str, np.ndarray]) -> Plan:
    """Return the plan with every steady join measured."""
    blends: dict[str, Any] = {}
    measure_joins(session, lambda: reader(sounds), blends.get, blends.__setitem__)
    return make_plan(session, measured=blends.get)


def run_strip(
    session: Session, strip: str, sounds: dict[str, np.ndarray], *, faded: bool = False
) -> np.ndarray:
    plan = held_plan(session, sounds)
    mixer = Mixer(plan, reader(sounds))
    blocks = -(-plan.frames // BLOCK)
    mixer.foresee(blocks)  # the same to the bit, as tests/jobs/test_reuse.py holds
    parts = []
    for _ in range(blocks):
        block = mixer.block((strip,))
        parts.append(block.faded[strip] if faded else block.strips[strip].out)
    return np.concatenate(parts)[: plan.frames]
