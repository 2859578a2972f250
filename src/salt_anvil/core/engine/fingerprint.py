"""What a strip's sound depends on, as one digest; equal digests mean equal sound to the bit."""

import hashlib
import json
from typing import Any

from salt_anvil.core.engine.plan import Plan, StripPlan
from salt_anvil.core.engine.strip import fader_gains


def fingerprints(plan: Plan, code: str) -> dict[str, str]:
    """Return every strip's fingerprint; code is the version of the computing code."""
    found: dict[str, str] = {}
    for item in plan.strips:
        inputs: list[Any] = [item.strip.audio]
        if item.strip.kind != "track":
            inputs = [
                [found[f], [float(g) for g in fader_gains(plan.strip(f))]] for f in item.feeds
            ]
        facts = [code, plan.rate, plan.frames, item.context.channels, _chain(item), inputs]
        text = json.dumps(facts, sort_keys=True)
        found[item.strip.id] = hashlib.sha256(text.encode()).hexdigest()[:32]
    return found


def _chain(item: StripPlan) -> list[Any]:
    tempo = item.context.bpm
    stages = [
        [s.id, s.kind, s.on, s.mix, s.params.model_dump(), s.key.model_dump()] for s in item.stages
    ]
    return [item.strip.trim_db, item.strip.invert, tempo if stages else None, stages]
