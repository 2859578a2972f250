"""What is measured: a recipe in the engine, at any rate."""

from collections.abc import Mapping
from typing import Literal

import numpy as np

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.delivery.dither import Dither, Quantiser
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.edits.settings import with_setting
from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.strip import StripRunner
from salt_anvil.core.errors import SettingError
from salt_anvil.core.measure.joins import measure_joins
from salt_anvil.core.recipe import Recipe, bound, inputs_of, recipe_session
from salt_anvil.core.session import Automation, Element, Session

Channel = Literal["both", "left", "sides"]
Printed = Literal["float", "24 bit", "16 bit", "16 bit shaped"]
_INTO = {"both": (1.0, 1.0), "left": (1.0, 0.0), "sides": (1.0, -1.0)}
_OUT = {"both": (0.5, 0.5), "left": (1.0, 0.0), "sides": (0.5, -0.5)}
_BITS: dict[Printed, tuple[int, Dither]] = {
    "24 bit": (24, "tpdf"), "16 bit": (16, "tpdf"), "16 bit shaped": (16, "shaped")
}  # fmt: skip
STRIP = "in"
"""Where a recipe's session has its chain."""
Measured = Mapping[str, JoinMeasurement]
"""What is measured first, by the name of the split or the stage that keeps its loudness."""


class Device:
    """A chain between a generator and an analyser; what listens elsewhere hears its own input.

    channel: what the signal is put on and read from: both sides alike, the left one, or both
    with opposite signs. printed: what it is rounded to at its end, as a print is. measured:
    loudness known from a song; `listen` finds what is missing. automation: of the chain's controls.
    """

    def __init__(
        self,
        recipe: Recipe,
        rate: int,
        channel: Channel = "both",
        *,
        printed: Printed = "float",
        measured: Measured | None = None,
        automation: list[Automation] | None = None,
    ) -> None:
        own = dict.fromkeys(inputs_of(recipe), "own")
        self.recipe = recipe.model_copy(update={"chain": bound(recipe.chain, own)})
        self.rate, self.channel, self.printed = rate, channel, printed
        self.measured = dict(measured or {})
        self._automation = automation or []
        self.latency = self._plan(BLOCK).strip(STRIP).graph.late

    def _session(self, frames: int) -> Session:
        session = recipe_session(self.recipe, self.rate, 2, frames, {})
        return session.model_copy(update={"automation": self._automation})

    def _known(self, session: Session) -> dict[str, JoinMeasurement]:
        """Return what is measured by the digests that this session asks for."""
        known: dict[str, JoinMeasurement] = {}
        while True:  # What one gives decides what a later one is asked for.
            fresh = {
                join.digest: self.measured[join.name]
                for join in make_plan(session, measured=known.get).strip(STRIP).joins
                if join.measured is None and join.ready and join.name in self.measured
            }
            if not fresh:
                return known
            known |= fresh

    def _plan(self, frames: int) -> Plan:
        session = self._session(frames)
        return make_plan(session, measured=self._known(session).get)

    def listen(self, signal: Vector) -> set[str]:
        """Measure on a signal what has to be measured first and is not; return what that was."""
        sound = signal[:, None] * np.array(_INTO[self.channel])

        def source(_name: str, start: int, count: int) -> Sound:
            return _stretch(sound, start, count)

        session = self._session(len(sound))
        known = self._known(session)
        measure_joins(session, lambda: source, known.get, known.__setitem__)
        joins = make_plan(session, measured=known.get).strip(STRIP).joins
        fresh = {join.name for join in joins} - self.measured.keys()
        self.measured = {join.name: known[join.digest] for join in joins}
        return fresh

    def changed(
        self, chain: list[Element] | None = None, automation: list[Automation] | None = None
    ) -> "Device":
        """Return the device with another chain or with controls that move, measured alike."""
        recipe = self.recipe
        if chain is not None:
            recipe = recipe.model_copy(update={"chain": chain})
        return Device(
            recipe, self.rate, self.channel, printed=self.printed, measured=self.measured,
            automation=automation,
        )  # fmt: skip

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

        def read(block: int, count: int) -> Sound:
            return _stretch(signals, block * BLOCK, count * BLOCK)

        runner = StripRunner(self._plan(blocks * BLOCK).strip(STRIP), read, told=False)
        runner.until = blocks
        out = runner.take(blocks).out
        if self.printed != "float":
            bits, dither = _BITS[self.printed]
            out = Quantiser(bits, 2, dither=dither).levels(out) / float(1 << (bits - 1))
        return np.asarray(out[: len(signals)], np.float64)


def _stretch(sound: Sound, start: int, count: int) -> Sound:
    """Return some frames of a sound, silence behind its end."""
    found = sound[start : start + count]
    return np.concatenate([found, np.zeros((count - len(found), sound.shape[1]))])


def other_setting(session: Session, place: str, against: str) -> tuple[str, Session]:
    """Return the name of the setting in force, and the session with another one in its place.

    against: one of the place's settings, A to D.

    Raises:
        SettingError: there is nothing like that to set beside it.
    """
    settings = next((s for s in session.settings if s.extent.owner == place), None)
    if against == (settings.chosen if settings else "A"):
        raise SettingError(f"{place} is at {against} already; choose another setting to compare")
    if settings is None or against not in settings.held:
        raise SettingError(f"{place} has no setting {against} yet")
    return settings.chosen, with_setting(session, settings.extent, settings.held[against])
