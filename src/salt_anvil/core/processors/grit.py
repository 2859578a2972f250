"""grit: fewer bits, fewer samples; the deliberately ugly one, for a blend."""

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import bitcrush as c
from salt_anvil.core.dsp.control_ramp import ControlRamp, Vector
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.processors.base import Context, Params, Processor, Report, Setup, Step, number
from salt_anvil.core.processors.drawing import Shaper
from salt_anvil.core.processors.fields import share
from salt_anvil.core.state import State


class GritParams(Params):
    """Parameters of grit."""

    bits: float = number(
        8,
        1,
        24,
        label="Bits",
        unit="bits",
        marks=(1, 4, 8, 12, 16, 24),
        doc="Steps of 2 to the power of this, from full scale down to full scale up.",
    )
    rate_hz: float | None = number(
        None,
        200,
        48000,
        label="Rate",
        unit="Hz",
        scale="log",
        step=10,
        marks=(200, 1000, 4000, 16000, 48000),
        doc="Only so many samples a second are kept; open: all of them.",
    )
    smooth: float = share(
        0, label="Smooth", doc="0 holds every kept sample, 1 draws lines between them."
    )


class GritDrawing(Shaper):
    """In against out of a slow rise at the full rate, and a wave before and after."""

    waves: tuple[list[float], list[float]]


class Grit(Processor[GritParams]):
    """Bits and samples taken away, with all that folds."""

    kind = "grit"
    title = "Grit"
    doc = "Fewer bits and fewer samples: ugly on purpose, for the wet side of a blend."
    Params = GritParams
    drawn_as = GritDrawing
    pictures = ("shaper", "wave")
    glyph = "steps"

    def controls(self, params: GritParams, context: Context) -> Vector:
        share = 1.0 if params.rate_hz is None else min(params.rate_hz / context.rate, 1.0)
        return np.array([params.bits, share, params.smooth])

    def prepare(self, params: GritParams, context: Context) -> State:
        return State(held=np.zeros((2, context.channels)), phase=np.zeros(1))

    def step(self, setup: Setup[GritParams]) -> Step:
        ramp, state = setup.ramp, setup.state

        def run(block: Sound, _: Sound, start: int) -> tuple[Sound, Report]:
            out = np.empty_like(block)
            c.crush_into(out, block, start, ramp.value, ramp.step, state["held"], state["phase"])
            return out, Report(start // GRID, {})

        return run

    def drawing(self, params: GritParams, context: Context) -> GritDrawing:
        rise = np.linspace(-1.2, 1.2, 481)[:, None]
        whole = self._shown(rise, params.model_copy(update={"rate_hz": None}), context)
        at = np.arange(round(0.01 * context.rate)) / context.rate
        wave = to_gain(-3) * np.sin(2 * np.pi * 300 * at)[:, None]
        out = self._shown(wave, params, context)
        return GritDrawing(
            shaper=np.concatenate([rise, whole], axis=1).tolist(),
            waves=(wave[:, 0].tolist(), out[:, 0].tolist()),
        )

    def _shown(self, sound: Sound, params: GritParams, context: Context) -> Sound:
        """Return a short mono sound through it."""
        one = Context(context.rate, 1, context.bpm)
        ramp = ControlRamp(self.controls(params, one)).over(0, len(sound))
        return self.step(Setup(params, one, ramp, self.prepare(params, one)))(sound, sound, 0)[0]
