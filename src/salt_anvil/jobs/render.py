"""Offline runs of a session: any region, the same bytes as in the whole."""

from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

import numpy as np

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.engine.cached import CachedStrip
from salt_anvil.core.engine.mixer import MixBlock, Mixer, Source
from salt_anvil.core.engine.plan import Plan, roll_blocks
from salt_anvil.core.state import State
from salt_anvil.files.write import PrintFormat, SoundWriter

Progress = Callable[[float], None]


def blocks(
    plan: Plan,
    source: Source,
    begin: int,
    end: int,
    *,
    strip: str | None = None,
    states: Callable[[int], tuple[int, dict[str, State]]] = lambda block: (0, {}),
    frozen: Mapping[str, CachedStrip] | None = None,
    tapped: bool = False,
) -> Iterator[tuple[int, int, MixBlock]]:
    """Give the blocks that cover frames [begin, end): first frame wanted, frame after, block.

    strip: all that is wanted. states: gives the last checkpoint at or before a block; block 0 is
    always one. frozen: strips that are read instead of computed. tapped: with the sound on both
    sides of every stage.
    """
    mixer = Mixer(plan, source, frozen=frozen, tapped=tapped)
    names = None if strip is None else (strip,)
    first = begin // BLOCK
    at, stored = states(max(first - roll_blocks(plan), 0))
    if at:
        mixer.locate(at, stored)
    mixer.foresee(-(-end // BLOCK))
    for k in range(at, -(-end // BLOCK)):
        block = mixer.block(names)
        if k >= first:
            low, high = max(begin - k * BLOCK, 0), min(end - k * BLOCK, BLOCK)
            yield low, high, block


def print_to_file(
    plan: Plan,
    source: Source,
    path: Path,
    format: PrintFormat,
    *,
    strip: str | None = None,
    after_fader: bool = False,
    begin: int = 0,
    end: int | None = None,
    dither: bool = True,
    states: Callable[[int], tuple[int, dict[str, State]]] = lambda block: (0, {}),
    frozen: Mapping[str, CachedStrip] | None = None,
    progress: Progress = lambda share: None,
) -> int:
    """Print the main mix, or one strip after its chain or its fader; return clipped samples.

    Frames [begin, end) of the timeline; the region equals that region of the whole print.

    Raises:
        FileError: it cannot be written; nothing is left behind.
    """
    end = plan.frames if end is None else min(end, plan.frames)
    name = strip or plan.main
    chain_only = strip is not None and not after_fader
    channels = plan.strip(name).context.channels if chain_only else 2
    frames = max(end - begin, 0)
    done = 0
    with SoundWriter(
        path, format, rate=plan.rate, channels=channels, frames=frames, dither=dither, start=begin
    ) as writer:
        rolling = blocks(plan, source, begin, end, strip=name, states=states, frozen=frozen)
        for low, high, block in rolling:
            sound: Sound = block.strips[name].out if chain_only else block.faded[name]
            writer.write(np.ascontiguousarray(sound[low:high]))
            done += high - low
            progress(done / frames)
    return writer.clipped
