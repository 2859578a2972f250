"""The sound at any place of a strip, sample by sample: computed from the checkpoint before it."""

import numpy as np

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.cached_strips import CachedStrips
from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.engine.fingerprint import fingerprint_of
from salt_anvil.core.engine.mixer import Mixer, Source
from salt_anvil.core.engine.plan import Plan, roll_blocks
from salt_anvil.core.engine.strip import CHECKPOINT

MOST = 3 * CHECKPOINT
"""Blocks that are computed for a picture, at most."""


def sounds_at(
    plan: Plan,
    code: str,
    cache: StripCache,
    source: Source,
    place: tuple[str, str],
    begin: int,
    end: int,
) -> tuple[Sound, Sound] | None:
    """Return frames [begin, end) before and after a place: a strip, and a tap of its chain.

    None where the cache does not hold all that the strip hears, or no checkpoint is near.
    """
    strip, at = place
    item = plan.strip(strip)
    cached = CachedStrips(cache, code)
    frozen = cached(plan)
    heard = {r.strip for r in item.feeds} | {o.strip for o in item.graph.outside}
    first, last = begin // BLOCK, -(-end // BLOCK)
    fingerprints = {strip: fingerprint_of(item.content_digest, code)}
    start, states = cache.states_before(fingerprints, max(first - roll_blocks(plan), 0))
    if not heard <= frozen.keys() or last - start > MOST:
        return None
    frozen.pop(strip, None)
    mixer = Mixer(plan, source, frozen=frozen, groups=cached.group, told=False)
    mixer.watch(strip, at)
    mixer.locate(start, states)
    mixer.foresee(last)
    blocks = [mixer.block((strip,)).strips[strip].taps[at] for _ in range(start, last)]
    kept = slice(begin - first * BLOCK, end - first * BLOCK)
    before, after = zip(*blocks[first - start :], strict=True)
    return np.concatenate(before)[kept], np.concatenate(after)[kept]
