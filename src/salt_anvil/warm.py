"""Compiles every kernel for the argument types that the engine uses, so that play never does."""

from collections.abc import Callable

import numpy as np

from salt_anvil import _kernel_cache
from salt_anvil.core.dsp.gate import rounded
from salt_anvil.core.dsp.stereo import from_mid_side, to_mid_side
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.errors import CoreError
from salt_anvil.core.measure.rows import RowMeter
from salt_anvil.core.processors import REGISTRY, Context, Params, Processor
from salt_anvil.core.processors.base import Control
from salt_anvil.core.session import Key, Stage


def _every_way(item: Processor[Params]) -> list[Params]:
    """Return settings that differ from the defaults in one control: what is off is on in one."""
    found = []
    for control in item.describe().controls:
        values: list[object] = list(control.choices)
        if control.type == "switch":
            values = [not control.default]
        elif control.type == "bands":
            values = [[{"type": t, "gain_db": 6} for t in _types(control)]]
        elif control.type == "number":
            values = [control.high]
        for value in values:
            try:
                params = item.Params(**{control.name: value})
                item.controls(params, Context(48000, 2, 96))
            except CoreError:
                continue
            found.append(params)
    return found


def _types(control: Control) -> list[str]:
    return next(f.choices for f in control.fields if f.name == "type")[: control.most]


def compile_kernels(progress: Callable[[float], None] = lambda share: None) -> None:
    """Run every processor and meter once over a short sound."""
    sound = np.random.default_rng(0).standard_normal((4096, 2))
    kinds = list(REGISTRY.values())
    progress(0.0)
    for index, item in enumerate(kinds):
        stage = Stage(id="x", kind=item.kind, params=item.Params(), key=Key(low_hz=60))
        unit = Unit(stage, Context(48000, 2, 96, observe=True))
        unit.process(sound, 0)
        for params in _every_way(item):
            context = Context(48000, 2, 96)
            Unit(Stage(id="x", kind=item.kind, params=params), context).process(sound[:256], 0)
        progress((index + 1) / (len(kinds) + 1))
    rounded(from_mid_side(to_mid_side(sound)))
    RowMeter(48000, 2).feed(np.repeat(sound, 2, axis=0))
    progress(1.0)


def compile_and_note(progress: Callable[[float], None]) -> None:
    """Compile every kernel into the cache, and note that they are there."""
    compile_kernels(progress)
    _kernel_cache.note_compiled()
