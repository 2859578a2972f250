"""What is measured: a recipe in the engine, at any rate."""

from typing import Literal

import numpy as np

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.edits.settings import with_setting
from salt_anvil.core.engine.plan import StripPlan
from salt_anvil.core.engine.strip import StripRunner
from salt_anvil.core.errors import SettingError
from salt_anvil.core.recipe import Recipe, bound, inputs_of, plan_recipe, recipe_of
from salt_anvil.core.session import Session

Channel = Literal["both", "left", "sides"]
_INTO = {"both": (1.0, 1.0), "left": (1.0, 0.0), "sides": (1.0, -1.0)}
_OUT = {"both": (0.5, 0.5), "left": (1.0, 0.0), "sides": (0.5, -0.5)}


class Device:
    """A chain between a generator and an analyser; what listens elsewhere hears its own input.

    channel: what the signal is put on and read from: both sides alike, the left one, or both
    with opposite signs.
    """

    def __init__(self, recipe: Recipe, rate: int, channel: Channel = "both") -> None:
        own = dict.fromkeys(inputs_of(recipe), "own")
        self.recipe = recipe.model_copy(update={"chain": bound(recipe.chain, own)})
        self.rate, self.channel = rate, channel
        self.latency = self._plan(BLOCK).graph.late

    def _plan(self, frames: int) -> StripPlan:
        return plan_recipe(self.recipe, self.rate, 2, frames)

    def run(self, signal: Vector) -> Vector:
        """Return what comes out, in step with the signal, (frames,) like it.

        Raises:
            CoreError: the chain cannot be run at this rate.
        """
        out = self.run_both(signal[:, None] * np.array(_INTO[self.channel]))
        return np.asarray(out @ np.array(_OUT[self.channel]), np.float64)

    def run_both(self, signals: Sound) -> Sound:
        """Return what comes out on both sides of two signals, (frames, 2), in step with them.

        Raises:
            CoreError: the chain cannot be run at this rate.
        """
        blocks = -(-len(signals) // BLOCK)
        sound = np.zeros((blocks * BLOCK, 2))
        sound[: len(signals)] = signals

        def read(block: int, count: int) -> Sound:
            found = sound[block * BLOCK : (block + count) * BLOCK]
            silence = np.zeros((count * BLOCK - len(found), 2))
            return np.concatenate([found, silence]) if len(silence) else found

        runner = StripRunner(self._plan(len(sound)), read)
        runner.until = blocks
        out = np.concatenate([runner.block().out for _ in range(blocks)])
        return np.asarray(out[: len(signals)], np.float64)


def other_setting(session: Session, place: str, against: str) -> tuple[str, Recipe]:
    """Return the name of the setting in force, and the place with another one.

    against: one of the place's settings, A to D, or "off": without what stands there.

    Raises:
        SettingError: there is nothing like that to set beside it.
    """
    recipe = recipe_of(session, place)
    if against == "off":
        return "on", recipe.model_copy(update={"chain": []})
    settings = next((s for s in session.settings if s.extent.owner == place), None)
    if against == (settings.chosen if settings else "A"):
        raise SettingError(f"{place} is at {against} already; choose another setting to compare")
    if settings is None or against not in settings.held:
        raise SettingError(f"{place} has no setting {against} yet")
    other = with_setting(session, settings.extent, settings.held[against])
    return settings.chosen, recipe_of(other, place)
