"""Finding the value of a control that gives what is wanted: a reduction, a loudness, a peak."""

from collections.abc import Callable
from dataclasses import asdict, dataclass
from itertools import pairwise
from typing import Any, Literal, Self

from pydantic import Field, model_validator

from salt_anvil.core.edits import Edit, SetParams, SetStage
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import processor
from salt_anvil.core.session import Id, Model, Session, Stage
from salt_anvil.core.session_index import SessionIndex

NEAR_DB = 0.05
"""What is found lies this near to what is wanted."""
FINEST = 1e-3
"""Values nearer to each other than this are one."""
MOST_RUNS = 40
PLACES = 6
"""So many parts of the range are looked at where its ends alone do not tell."""
MAKE_UPS = ("makeup_db", "output_db")
FAR_BELOW_DB = -1000.0
"""Stands for silence."""

Quantity = Literal["reduction", "loudness", "true_peak", "down"]


class Wish(Model):
    """What is wanted of a passage.

    reduction: of the stage while it reduces, in dB, at a percentile (100: the most of it).
    loudness: integrated, where the chain of the strip ends, in LUFS; true_peak: there, in dBTP.
    down: how much lower the peaks are behind the stage than in front of it, in dB; kept: both
    sides equally loud, which the stage's make-up is moved for.
    """

    what: Quantity
    wanted: float = Field(ge=-70, le=60)
    percentile: float = Field(95, ge=0, le=100)
    kept: bool = False

    @model_validator(mode="after")
    def _kept_with_peaks(self) -> Self:
        if self.kept and self.what != "down":
            raise ValueError("the loudness is kept where the peaks shall be lower")
        return self


class Aim(Model):
    """What a control of a stage shall reach over frames [begin, end). control: or "mix"."""

    stage: Id
    control: str = Field(max_length=40)
    wish: Wish
    begin: int = Field(0, ge=0, lt=1 << 40)
    end: int = Field(gt=0, lt=1 << 40)


@dataclass(frozen=True)
class Step:
    """One try. got: None where nothing can be measured."""

    value: float
    got: float | None


@dataclass(frozen=True)
class Aimed:
    """The value found and what it gives; or the nearest, and why it is not what was wanted."""

    value: float
    got: float | None
    problem: str | None
    steps: list[Step]
    makeup_db: float | None = None
    """What the make-up has to be, where the loudness is kept."""

    def plain(self) -> dict[str, Any]:
        """Return it as JSON has it."""
        return asdict(self)


def span_of(session: Session, aim: Aim) -> tuple[float, float]:
    """Return the ends of the range of an aim's control.

    Raises:
        MissingError: there is no such stage.
        SettingError: it is a split, has no such control, or nothing can be aimed with it.
    """
    _, stage = SessionIndex(session).element(aim.stage)
    moved = [(a.owner, a.control) for a in session.automation]
    moved += [(m.owner, m.control) for lever in session.levers for m in lever.moves]
    if (aim.stage, aim.control) in moved:
        raise SettingError(f"{aim.control} is moved by automation or a lever; aim cannot set it")
    if aim.control == "mix":
        return 0.0, 1.0
    if not isinstance(stage, Stage):
        raise SettingError("a split has nothing but its mix to aim with")
    item = processor(stage.kind)
    control = next((c for c in item.describe().controls if c.name == aim.control), None)
    if control is None:
        raise SettingError(f"{item.title} has no control “{aim.control}”")
    if control.low is None or control.high is None or control.change != "glide":
        raise SettingError(f"{control.label or control.name} is nothing to aim with")
    return control.low, control.high


@dataclass(frozen=True)
class MakeUp:
    """The control that gives back what a stage takes away, and where it stands."""

    control: str
    low: float
    high: float
    value: float


def make_up_of(session: Session, aim: Aim) -> MakeUp:
    """Return the make-up of an aim's stage.

    Raises:
        SettingError: it has none, something else moves it, or it is what is aimed with.
    """
    _, stage = SessionIndex(session).element(aim.stage)
    controls = processor(stage.kind).describe().controls if isinstance(stage, Stage) else []
    found = next((c for c in controls if c.name in MAKE_UPS), None)
    if found is None or found.low is None or found.high is None or not isinstance(stage, Stage):
        raise SettingError("this stage has no make-up that could keep the loudness")
    span_of(session, aim.model_copy(update={"control": found.name}))
    if aim.control == found.name:
        raise SettingError(f"{found.label} keeps the loudness; aim with another control")
    return MakeUp(found.name, found.low, found.high, float(getattr(stage.params, found.name)))


def value_of(session: Session, aim: Aim) -> float:
    """Return where the control of an aim stands."""
    _, stage = SessionIndex(session).element(aim.stage)
    if aim.control == "mix" or not isinstance(stage, Stage):
        return stage.mix
    return float(getattr(stage.params, aim.control) or 0.0)


def edit_for(aim: Aim, value: float, words: str | None = None) -> Edit:
    """Return the edit that sets the control of an aim."""
    if aim.control == "mix":
        return SetStage(stage=aim.stage, mix=value)
    return SetParams(stage=aim.stage, params={aim.control: value}, words=words)


class _Near(Exception):
    """What was tried last gives what is wanted."""


class _Nowhere(Exception):
    """No two neighbours lie on both sides of what is wanted."""


def _bracket(
    off: Callable[[float], float], span: tuple[float, float], near: float
) -> tuple[float, float]:
    """Return the neighbours nearest to `near` of which one gives less than what is wanted.

    Raises:
        _Nowhere: there are none.
    """
    low, high = span
    places = [low + (high - low) * i / PLACES for i in range(PLACES + 1)]
    found = [(a, b) for a, b in pairwise(places) if off(a) * off(b) < 0]
    if not found:
        raise _Nowhere
    return min(found, key=lambda pair: abs(sum(pair) / 2 - near))


def find(
    measure: Callable[[float], float | None],
    span: tuple[float, float],
    wanted: float,
    near: float = 0.0,
) -> Aimed:
    """Return the value of a control for which `measure` gives what is wanted.

    Both ends of the range are tried, places inside where they lie on one side of what is wanted,
    then a bracketing root search (Alefeld, Potra and Shi 1995, by scipy). measure: None where
    there is nothing to measure. near: of several values the one that lies nearest to this.
    """
    steps: dict[float, Step] = {}

    def off(value: float) -> float:
        value = round(value, 3)
        if value not in steps:
            steps[value] = Step(value, measure(value))
        got = steps[value].got
        if got is None:
            return FAR_BELOW_DB
        if abs(got - wanted) <= NEAR_DB:
            raise _Near
        return got - wanted

    from scipy.optimize import root_scalar  # takes a third of a second to import

    try:
        if off(span[0]) * off(span[1]) >= 0:
            span = _bracket(off, span, near)
        root_scalar(off, bracket=span, method="toms748", xtol=FINEST, maxiter=MOST_RUNS)
    except _Nowhere:
        pass
    except _Near:
        pass
    return _result(list(steps.values()), wanted)


def _result(steps: list[Step], wanted: float) -> Aimed:
    known = [(abs(s.got - wanted), s.got, s) for s in steps if s.got is not None]
    if not known:
        return Aimed(steps[-1].value, None, "there is nothing to be heard here", steps)
    off, _, best = min(known, key=lambda one: one[0])
    problem = None
    if off > NEAR_DB:
        low, high = min(got for _, got, _ in known), max(got for _, got, _ in known)
        if low < wanted < high:
            problem = "it jumps over what is wanted"
        else:
            problem = f"the whole range gives {_said(low)} to {_said(high)}"
    return Aimed(best.value, best.got, problem, steps)


def _said(value: float) -> str:
    return f"{round(value, 1) + 0.0:.1f}".replace("-", "−")
