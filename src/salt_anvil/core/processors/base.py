"""What a processor is: one file, declared parameters, a step that runs its kernels."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any, ClassVar, Generic, Literal, NamedTuple, TypeVar, get_args, get_origin

import numpy as np
from annotated_types import Ge, Le
from pydantic import BaseModel, ConfigDict, Field
from pydantic.fields import FieldInfo

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.dsp.control_ramp import Ramp, Vector
from salt_anvil.core.processors.drawing import Drawing
from salt_anvil.core.state import State

Scale = Literal["linear", "log", "db", "note"]
Change = Literal["glide", "switch", "structural"]
Marked = Literal["reduction", "stretches", "peaks"]
Glyph = Literal["reduction", "response", "shaper", "harmonics", "sides", "decay", "steps"]
PanelPicture = Literal[
    "bend",
    "ceiling",
    "correlation",
    "curve",
    "cut",
    "decay",
    "envelope",
    "gate",
    "harmonics",
    "hit-shape",
    "hits",
    "places",
    "points",
    "range",
    "shaper",
    "shares",
    "sides",
    "source",
    "tone",
    "wave",
]


class Params(BaseModel):
    """Base of every processor's parameters; unknown names are refused."""

    model_config = ConfigDict(
        extra="forbid",
        frozen=True,
        allow_inf_nan=False,
        validate_default=True,
        defer_build=True,
    )


def number(
    default: float | None,
    low: float,
    high: float,
    *,
    label: str,
    unit: str,
    doc: str,
    scale: Scale = "linear",
    step: float = 0.1,
    change: Change = "glide",
    marks: Sequence[float] = (),
    when: dict[str, list[str]] | None = None,
) -> Any:
    """Declare a number with its range, unit, scale, step and way of changing.

    marks: values named on the control's scale. when: other parameters' values for which this
    one has an effect. A default of None means that the value may be left open.
    """
    extra: dict[str, Any] = {
        "label": label, "unit": unit, "scale": scale, "step": step, "change": change,
        "marks": list(marks), "when": when or {},
    }  # fmt: skip
    return Field(default, ge=low, le=high, description=doc, json_schema_extra=extra)


def points(
    default: tuple[tuple[float, float], ...],
    low: float,
    high: float,
    fewest: int,
    most: int,
    *,
    label: str,
    doc: str,
) -> Any:
    """Declare a list of `fewest` to `most` pairs, both numbers of each between low and high."""
    extra: dict[str, Any] = {
        "label": label, "unit": "", "scale": "linear", "step": 0.1, "change": "glide",
        "marks": [], "when": {}, "control": "points", "low": low, "high": high,
        "fewest": fewest, "most": most,
    }  # fmt: skip
    return Field(default, description=doc, json_schema_extra=extra)


def bands(
    default: tuple[Any, ...],
    record: type[Params],
    most: int,
    *,
    label: str,
    doc: str,
) -> Any:
    """Declare a list of up to `most` records, whose own parameters are declared in `record`."""
    extra: dict[str, Any] = {
        "label": label, "unit": "", "scale": "linear", "step": 0.1, "change": "glide",
        "marks": [], "when": {}, "control": "bands", "fewest": 0, "most": most,
        "fields": [control_of(n, f) for n, f in record.model_fields.items()],
    }  # fmt: skip
    return Field(default, max_length=most, description=doc, json_schema_extra=extra)


def choice(
    default: str | bool,
    *,
    label: str,
    doc: str,
    change: Change = "switch",
    when: dict[str, list[str]] | None = None,
) -> Any:
    """Declare a choice between words, or a yes and no."""
    extra: dict[str, Any] = {
        "label": label, "unit": "", "scale": "linear", "step": 1, "change": change, "marks": [],
        "when": when or {},
    }  # fmt: skip
    return Field(default, description=doc, json_schema_extra=extra)


class Control(BaseModel):
    """One parameter as the catalogue tells it to panels, recipes and documentation."""

    name: str
    label: str
    type: Literal["number", "choice", "switch", "points", "bands"]
    default: float | str | bool | list[tuple[float, float]] | list[dict[str, Any]] | None
    low: float | None
    high: float | None
    unit: str
    scale: Scale
    step: float
    change: Change
    marks: list[float]
    choices: list[str]
    optional: bool
    when: dict[str, list[str]]
    fewest: int | None = None
    most: int | None = None
    fields: list["Control"] = []
    doc: str


class Kind(BaseModel):
    """One processor as the catalogue tells it."""

    kind: str
    title: str
    doc: str
    has_sidechain: bool
    level_line: str | None
    level_behind: str | None
    marked: Marked
    glyph: Glyph
    pictures: list[PanelPicture]
    controls: list[Control]


@dataclass(frozen=True)
class Context:
    """What a stage is run in: rate in Hz, channels (1 or 2), tempo in beats a minute or None.

    observe: also report what only pictures need.
    """

    rate: int
    channels: int
    bpm: float | None = None
    observe: bool = False


class Report(NamedTuple):
    """What a stage did, per 64-frame cell of the timeline, in the input's time.

    cells: name to (cells, channels); the first of them is cell `first`.
    """

    first: int
    cells: dict[str, Sound]


NOTHING = Report(0, {})
P = TypeVar("P", bound=Params)


Step = Callable[[Sound, Sound, int], tuple[Sound, Report]]
"""Processes a block: what is processed and what is listened to, (frames, channels), finite, and the
timeline frame of the first; returns a new array, and the report."""


class Setup(NamedTuple, Generic[P]):
    """What a processor works with, until any of it is another.

    ramp: the controls; where they stand, of as many blocks as they do. state: what is remembered,
    changed. told: whether anybody looks at the report; if not, it may be NOTHING.
    """

    params: P
    context: Context
    ramp: Ramp
    state: State
    told: bool = True


class Processor(Generic[P]):
    """Base of the processors. One instance a kind, without state of its own."""

    kind: ClassVar[str]
    title: ClassVar[str]
    doc: ClassVar[str]
    Params: ClassVar[type[Params]]
    drawn_as: ClassVar[type[Drawing]] = Drawing
    """What `drawing` returns."""
    has_sidechain: ClassVar[bool] = False
    level_line: ClassVar[str | None] = None
    """The parameter that is a level on the waveform, dragged there."""
    releases_between_hits: ClassVar[bool] = False
    """Whether its reduction is expected to be gone between hits."""
    holds: ClassVar[Literal["nothing", "level", "peaks"]] = "nothing"
    """Whether it brings loud places, or every peak, down: what is left to it is told."""
    bends: ClassVar[bool] = False
    """Whether it bends the waveform: too much distortion is told, unless it is there for that."""
    marked: ClassVar[Marked] = "reduction"
    """How what it does is marked on the waveform: as reduction, as stretches, as cut peaks."""
    measured_of_the_sound: ClassVar[tuple[str, ...]] = ()
    """Parameters that belong to the sound, and stay when all others are set anew."""
    glyph: ClassVar[Glyph] = "reduction"
    """What its block on the chain shows: what it takes away, or a shape."""
    pictures: ClassVar[tuple[PanelPicture, ...]] = ()
    """What explains it on its panel, and where it is set by hand."""
    level_behind: ClassVar[str | None] = None
    """A gain in dB that comes before this level, so that the line stands lower on the waveform."""

    def latency(self, params: P, rate: int) -> int:
        """Return the frames by which the output is late."""
        return 0

    def controls(self, params: P, context: Context) -> Vector:
        """Return what glides, in the domain of the kernel.

        Raises:
            SettingError: the values do not go together in this context.
        """
        return np.zeros(0)

    def prepare(self, params: P, context: Context) -> State:
        """Return a cold state."""
        return State()

    def step(self, setup: Setup[P]) -> Step:
        """Return what processes blocks one after another; the state moves on.

        What depends on the setup alone is found here, once for all blocks.
        """
        raise NotImplementedError

    def switches(self, before: P, after: P) -> bool:
        """Say whether the change is heard as a cross-fade and not as a glide."""
        names = changes(type(after), "switch")
        return any(getattr(before, n) != getattr(after, n) for n in names)

    def carry(self, before: P, after: P, state: State) -> bool:
        """Rearrange the state for settings that are switched to; say if the controls are too.

        Controls that mean something else than before do not glide from their old values.
        """
        return False

    def hears_waveform(self, params: P) -> bool:
        """Say whether the detector follows the very waveform that comes in, unfiltered."""
        return True

    def stands(self, params: P, name: str) -> str | None:
        """Say why a control cannot move by itself with these settings; None: it can."""
        return None

    def check_outside_key(self, params: P) -> None:
        """Raise SettingError where these settings cannot listen to another signal."""

    def makeup_db(self, params: P, context: Context) -> float:
        """Return the steady gain that is not reduction; listening to what is removed undoes it."""
        return 0.0

    def measures_loudness(self, params: P) -> bool:
        """Say whether its loudness before and after has to be measured over the song first."""
        return False

    def settled(self, params: P, measured: JoinMeasurement | None, mix: float) -> P:
        """Return the settings with what was measured; None: as they are for measuring.

        mix: share of the processed sound.
        """
        return params

    def drawing(self, params: P, context: Context) -> Drawing:
        """Return what to draw for these settings."""
        return self.drawn_as()

    @cache  # noqa: B019 - one instance a kind
    def describe(self) -> Kind:
        """Return the catalogue entry."""
        return Kind(
            kind=self.kind,
            title=self.title,
            doc=self.doc,
            has_sidechain=self.has_sidechain,
            level_line=self.level_line,
            level_behind=self.level_behind,
            marked=self.marked,
            glyph=self.glyph,
            pictures=list(self.pictures),
            controls=[control_of(n, f) for n, f in self.Params.model_fields.items()],
        )


def changes(kind: type[Params], how: Change) -> list[str]:
    """Return the names of the parameters that change in the given way."""
    return [n for n, f in kind.model_fields.items() if _extra(f)["change"] == how]


def _extra(info: FieldInfo) -> dict[str, Any]:
    if not isinstance(info.json_schema_extra, dict):
        raise TypeError(f"a parameter is declared without number() or choice(): {info}")
    return dict(info.json_schema_extra)


def control_of(name: str, info: FieldInfo) -> Control:
    """Return the catalogue entry of one declared parameter."""
    annotation = info.annotation
    optional = type(None) in get_args(annotation)
    is_choice = get_origin(annotation) is Literal
    low = next((m.ge for m in info.metadata if isinstance(m, Ge)), None)
    high = next((m.le for m in info.metadata if isinstance(m, Le)), None)
    type_ = "number"
    if is_choice:
        type_ = "choice"
    elif annotation is bool:
        type_ = "switch"
    extra = _extra(info)
    # Not called "type" there: that word is the JSON schema's own.
    type_ = extra.pop("control", type_)
    return Control.model_validate(
        {
            "name": name,
            "type": type_,
            "default": _plain(info.default),
            "low": low,
            "high": high,
            "choices": list(get_args(annotation)) if is_choice else [],
            "optional": optional,
            "doc": info.description,
            **extra,
        }
    )


def _plain(default: Any) -> Any:
    """Return a default as it is written in JSON."""
    if isinstance(default, tuple) and default and isinstance(default[0], Params):
        return [record.model_dump(mode="json") for record in default]
    return default
