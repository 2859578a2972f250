"""Compiles every kernel for the argument types that the engine uses, so that play never does."""

import gc
import multiprocessing
from collections.abc import Callable, Iterator
from functools import partial

import numpy as np

from salt_anvil.core.audio import GRID, Sound, rounded
from salt_anvil.core.delivery.dither import Dither, Quantiser
from salt_anvil.core.dsp.control_ramp import Ramp
from salt_anvil.core.dsp.stereo import from_mid_side, placed, placed_along, to_mid_side
from salt_anvil.core.dsp.summing import tree_sum
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.errors import CoreError
from salt_anvil.core.measure.overview import extremes, mean_squares, raise_to_most
from salt_anvil.core.measure.rows import RowMeter
from salt_anvil.core.measure.spectrum import Spectrum
from salt_anvil.core.processors import REGISTRY, Context, Params, Processor
from salt_anvil.core.processors.base import Control
from salt_anvil.core.session import Key, Stage
from salt_anvil.kernels import cache as kernel_cache
from salt_anvil.kernels.parent import end_with_parent

BETWEEN = 0.3719
"""Of a range, where nothing is round."""
FROM_BEHIND = {"limiter", "tone", "tamer", "clipper", "room"}
"""Half of the work, which shares little with the other half."""


def _every_route(item: Processor[Params]) -> list[Params]:
    """Return settings that differ from the defaults in one control: what is off is on in one."""
    found = []
    for control in item.describe().controls:
        values: list[object] = list(control.choices)
        if control.type == "switch":
            values = [not control.default]
        elif control.type == "bands":
            values = [_records(control)]
        elif control.type == "number":
            assert control.low is not None
            assert control.high is not None
            # Between, a delay is no whole number of frames.
            between = control.low + BETWEEN * (control.high - control.low)
            values = [control.high, between]
        for value in values:
            try:
                params = item.Params(**{control.name: value})
                item.controls(params, Context(48000, 2, 96))
            except CoreError:
                continue
            found.append(params)
    return found


def _records(control: Control) -> list[dict[str, object]]:
    """Return one record of each type, or one where there are no types."""
    types = next((f.choices for f in control.fields if f.name == "type"), [])
    if not types:
        return [{}]
    return [{"type": t, "gain_db": 6} for t in types[: control.most]]


def _ignore(share: float) -> None:
    pass


def compile_kernels(
    progress: Callable[[float], None] = _ignore, *, backwards: bool = False
) -> None:
    """Run every processor and meter once over a short sound; backwards: the last one first."""
    sound = np.random.default_rng(0).standard_normal((4096, 2))
    # Stable: but for these, as in the catalogue.
    kinds = sorted(REGISTRY.values(), key=lambda item: item.kind in FROM_BEHIND)
    runs = [*(partial(_run, item, sound) for item in kinds), partial(_measure, sound)]
    for done, run in enumerate(reversed(runs) if backwards else runs):
        for share in run():
            progress((done + share) / len(runs))
    progress(1.0)


def _run(item: Processor[Params], sound: Sound) -> Iterator[float]:
    """Process a sound with every route in turn; gives how much of it is done."""
    stage = Stage(id="x", kind=item.kind, params=item.Params(), key=Key(low_hz=60))
    unit = Unit(stage, Context(48000, 2, 96, observe=True))
    unit.process(sound, 0)
    routes = _every_route(item)
    for done, params in enumerate(routes):
        yield (done + 1) / (len(routes) + 1)
        context = Context(48000, 2, 96)
        Unit(Stage(id="x", kind=item.kind, params=params), context).process(sound[:256], 0)
    yield 1.0


def _measure(sound: Sound) -> Iterator[float]:
    """Place, measure and dither a sound; gives how much of it is done."""
    points = np.ones((len(sound) // GRID, 1))
    gain = Ramp(points, points, bends=np.array([points, points])).frames(0, 0, len(sound))
    stereo = placed_along(rounded(from_mid_side(to_mid_side(sound))), gain, gain)
    tree_sum([placed(stereo, *np.ones(2))] * 4)
    RowMeter(48000, 2).feed(np.repeat(sound, 2, axis=0))
    spectrum = Spectrum(48000)
    spectrum.feed(sound)
    spectrum.levels()
    extremes(sound, GRID)
    for cells in (sound, sound[:, 1:]):  # what stands alone, and beside others
        raise_to_most(np.zeros(1), cells, GRID)
    mean_squares(sound, GRID)
    dithers: tuple[Dither, ...] = ("tpdf", "shaped")
    for dither in dithers:
        Quantiser(16, 2, dither=dither).levels(sound)
    yield 1.0


def _seldom_collect() -> None:
    """Look for garbage in circles less often: a compiler's trees are large, and few are circles.

    A tenth of the processor time, for 80 MB.
    """
    gc.set_threshold(20_000, 50, 1000)


def _compile_others() -> None:
    end_with_parent()
    _seldom_collect()
    compile_kernels(backwards=True)


def compile_and_note(progress: Callable[[float], None]) -> None:
    """Compile every kernel into the cache, and note that they are there.

    Two processes begin at both ends: what one has compiled, the other reads.
    """
    other = multiprocessing.get_context("spawn").Process(target=_compile_others)
    other.start()
    _seldom_collect()
    compile_kernels(lambda share: progress(0.95 * share))
    other.join()
    # Two processes may have written one list of a kernel's forms: what was lost is made again.
    compile_kernels()
    progress(1.0)
    kernel_cache.note_compiled()
