"""Offline runs of a session: any region, the same bytes as in the whole."""

import os
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.delivery.dither import SEED, Dither
from salt_anvil.core.delivery.ways import Way
from salt_anvil.core.engine.cached import CachedStrip
from salt_anvil.core.engine.mixer import MixBlock, Mixer, Source
from salt_anvil.core.engine.plan import Plan, roll_blocks
from salt_anvil.core.engine.strip import AT_ONCE
from salt_anvil.core.state import State
from salt_anvil.files.codecs import converted, encode
from salt_anvil.files.labels import Labels, tag
from salt_anvil.files.part import Part
from salt_anvil.files.write import PrintFormat, SoundWriter

Progress = Callable[[float], None]
THREADS = os.cpu_count() or 1


@dataclass(frozen=True)
class Finish:
    """What happens to a print behind the mixer, in this order: fades (in frames), another rate,
    and the one dither where bits are dropped. seed: of that dither."""

    fade_in: int = 0
    fade_out: int = 0
    rate: int | None = None
    dither: Dither = "tpdf"
    seed: int = SEED
    labels: Labels = field(default_factory=Labels)


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
    threads: int = THREADS,
) -> Iterator[tuple[int, int, MixBlock]]:
    """Give the blocks that cover frames [begin, end): first frame wanted, frame after, block.

    strip: all that is wanted. states: gives the last checkpoint at or before a block; block 0 is
    always one. frozen: strips that are read instead of computed. tapped: with the sound on both
    sides of every stage, and what the stages report. threads: how many strips are computed beside
    each other at most.
    """
    mixer = Mixer(plan, source, frozen=frozen, tapped=tapped, told=tapped)
    names = None if strip is None else (strip,)
    first = begin // BLOCK
    at, stored = states(max(first - roll_blocks(plan), 0))
    if at:
        mixer.locate(at, stored)
    last = -(-end // BLOCK)
    mixer.foresee(last)
    with ThreadPoolExecutor(threads) as pool:
        for k in range(at, last):
            if threads > 1 and (k - at) % AT_ONCE == 0:
                here, there = (min(k + turns * AT_ONCE, last) for turns in (1, 2))
                mixer.compute(here, pool, names, then=there, threads=threads)
            block = mixer.block(names)
            if k >= first:
                low, high = max(begin - k * BLOCK, 0), min(end - k * BLOCK, BLOCK)
                yield low, high, block


def print_to_file(
    plan: Plan,
    source: Source,
    path: Path,
    format: PrintFormat | Way,
    *,
    strip: str | None = None,
    after_fader: bool = False,
    begin: int = 0,
    end: int | None = None,
    finish: Finish | None = None,
    states: Callable[[int], tuple[int, dict[str, State]]] = lambda block: (0, {}),
    frozen: Mapping[str, CachedStrip] | None = None,
    progress: Progress = lambda share: None,
) -> int:
    """Print the main mix, or one strip after its chain or its fader; return clipped samples.

    Frames [begin, end) of the timeline; the region equals that region of the whole print. format:
    of the file, or a way with a coder.

    Raises:
        FileError: it cannot be written; nothing is left behind.
    """
    finish = finish or Finish()
    end = plan.frames if end is None else min(end, plan.frames)
    name = strip or plan.main
    chain_only = strip is not None and not after_fader
    channels = plan.strip(name).context.channels if chain_only else 2
    frames = max(end - begin, 0)

    def rolling() -> Iterator[Sound]:
        done = 0
        for low, high, block in blocks(
            plan, source, begin, end, strip=name, states=states, frozen=frozen
        ):
            sound: Sound = block.strips[name].out if chain_only else block.faded[name]
            yield np.ascontiguousarray(sound[low:high])
            done += high - low
            progress(done / frames)

    sound = _faded(rolling(), finish.fade_in, finish.fade_out, frames)
    if isinstance(format, Way):
        _code(sound, format, plan.rate, channels, path, finish.labels)
        return 0
    out_rate = finish.rate or plan.rate
    out_frames = round(frames * out_rate / plan.rate)
    with SoundWriter(
        path,
        format,
        rate=out_rate,
        channels=channels,
        frames=out_frames,
        dither=finish.dither,
        start=round(begin * out_rate / plan.rate),
        seed=finish.seed,
        labels=finish.labels,
    ) as writer:
        for block in converted(Way(rate=finish.rate), sound, plan.rate, channels):
            writer.write(block)
    return writer.clipped


def _code(
    sound: Iterator[Sound], way: Way, rate: int, channels: int, path: Path, labels: Labels
) -> None:
    """Write a listening copy: whole or not at all."""
    out_rate = way.rate_at(rate)
    with Part(path) as part:
        going = converted(way, sound, rate, channels)
        encode(way, going, out_rate, channels, part.path, lambda done: None)
        tag(part.path, way.codec or "", labels, out_rate)


def _faded(sound: Iterator[Sound], fade_in: int, fade_out: int, frames: int) -> Iterator[Sound]:
    """Draw a fade at each end: a quarter of a sine, whose power is a straight line's."""
    at = 0
    for block in sound:
        if at < fade_in or at + len(block) > frames - fade_out:
            where = at + np.arange(len(block)) + 0.5
            gain = np.ones(len(block))
            if fade_in:
                gain *= np.sin(np.pi / 2 * np.clip(where / fade_in, 0, 1))
            if fade_out:
                gain *= np.sin(np.pi / 2 * np.clip((frames - where) / fade_out, 0, 1))
            block = block * gain[:, None]
        at += len(block)
        yield block
