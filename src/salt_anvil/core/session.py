"""The model of a session: what is stored, edited, planned and printed.

Everything is immutable; an edit returns a new session (see `edits`).
"""

from collections.abc import Mapping
from functools import cache
from itertools import pairwise
from typing import Annotated, Any, Literal, Self, TypeVar

from pydantic import (
    AliasChoices,
    BaseModel,
    ConfigDict,
    Discriminator,
    Field,
    SerializeAsAny,
    Tag,
    TypeAdapter,
    ValidationError,
    model_validator,
)

from salt_anvil.core.errors import MissingError, SettingError
from salt_anvil.core.processors import REGISTRY, Params, processor
from salt_anvil.core.processors.base import Control, control_of, number

Id = Annotated[str, Field(min_length=1, max_length=64, pattern=r"^[A-Za-z0-9_.-]+$")]
Name = Annotated[str, Field(min_length=1, max_length=80, pattern=r"^[^\x00-\x1f\x7f]+$")]
SOURCE = r"^(own|(input|strip|branch|stage):[^\x00-\x1f\x7f]+)$"
Audio = Annotated[str, Field(max_length=200, pattern=r"^[^\x00-\x1f\x7f]+$")]
"""The id of a decoded file, or of a recipe's named input."""
Slot = Literal["A", "B", "C", "D"]
M = TypeVar("M", bound=BaseModel)
SAMPLE_RATES = (44100, 192000)
QUARTERS = (0, 0.25, 0.5, 0.75, 1)


class Model(BaseModel):
    """Base: immutable, unknown fields refused, no infinities."""

    model_config = ConfigDict(
        extra="forbid", frozen=True, allow_inf_nan=False, validate_default=True
    )


def _mix() -> Any:
    """Declare a share of the processed sound."""
    return number(
        1.0,
        0,
        1,
        label="Mix",
        unit="",
        step=0.01,
        marks=QUARTERS,
        doc="Share of the processed sound; the rest is the dry sound, in step and in phase with"
        " it.",
    )


class Key(Model):
    """What a stage listens to, and through which filter."""

    source: str = Field("own", max_length=160, pattern=SOURCE)
    tap: Literal["in", "out"] = "out"
    low_hz: float | None = Field(None, ge=10, le=20000)
    high_hz: float | None = Field(None, ge=10, le=20000)

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.low_hz is not None and self.high_hz is not None and self.low_hz >= self.high_hz:
            raise ValueError(f"key: low_hz {self.low_hz:g} must be below high_hz {self.high_hz:g}")
        return self


class Stage(Model):
    """A processor on a chain with its settings."""

    id: Id
    kind: str
    on: bool = True
    mix: float = _mix()
    params: SerializeAsAny[Params]
    key: Key = Key()
    silenced_cautions: list[str] = Field(
        [], validation_alias=AliasChoices("silenced_cautions", "meant")
    )
    """Cautions that the user has silenced for this stage."""

    @model_validator(mode="before")
    @classmethod
    def _typed(cls, data: Any) -> Any:
        """Validate the parameters by the processor's own model."""
        if not isinstance(data, dict) or data.get("kind") == "split":
            return data
        kind = data.get("kind")
        if not isinstance(kind, str):
            raise ValueError("a stage needs a kind")
        try:
            model = processor(kind).Params
        except SettingError as error:
            raise ValueError(str(error)) from None
        # Where settings were kept before (see Session).
        kept = {k: v for k, v in data.items() if k not in ("slot", "slots")}
        return {**kept, "params": _params(model, data.get("params") or {})}


class Join(Model):
    """How branches become one signal again."""

    law: Literal["sum", "linear", "equal-power", "steady"] = "sum"
    position: float = number(
        0.5,
        0,
        1,
        label="Join position",
        unit="",
        step=0.01,
        marks=QUARTERS,
        doc="From the first branch alone (0) to the second alone (100 %).",
    )


class Branch(Model):
    """One way through a split."""

    id: Id
    name: Name
    on: bool = True
    solo: bool = False
    gain_db: float = number(
        0,
        -60,
        24,
        label="Branch gain",
        unit="dB",
        scale="db",
        marks=(-60, -24, -12, 0, 12, 24),
        doc="Level of the branch before the join.",
    )
    chain: list["Element"] = []


LOW_HZ, HIGH_HZ = 20.0, 20000.0
"""Of a crossover."""


class Split(Model):
    """A stage that divides the signal into branches and joins them again."""

    id: Id
    kind: Literal["split"] = "split"
    on: bool = True
    mix: float = _mix()
    by: Literal["copies", "bands", "mid-side", "left-right"]
    crossovers_hz: list[Annotated[float, Field(ge=LOW_HZ, le=HIGH_HZ)]] = []
    slope: Literal[24, 48] = 24
    phase: Literal["minimum", "linear"] = "minimum"
    branches: list[Branch] = Field(min_length=2, max_length=8)
    join: Join = Join()

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        count = len(self.branches)
        corners = self.crossovers_hz
        if self.by == "bands" and (count > 5 or len(corners) != count - 1):
            raise ValueError(
                f"split {self.id}: {count} bands with {len(corners)} crossovers; 2 to 5 bands"
                " need one crossover fewer than bands"
            )
        if self.by != "bands" and corners:
            raise ValueError(f"split {self.id}: crossovers_hz belongs to a split by bands")
        if any(low >= high for low, high in pairwise(corners)):
            raise ValueError(f"split {self.id}: crossovers_hz {corners} must increase")
        if self.by in ("mid-side", "left-right") and count != 2:
            raise ValueError(f"split {self.id}: by {self.by} has 2 branches, not {count}")
        if self.join.law != "sum" and count != 2:
            raise ValueError(f"split {self.id}: the join {self.join.law} takes 2 branches")
        if self.join.law == "steady" and self.by in ("mid-side", "left-right"):
            raise ValueError(f"split {self.id}: a steady join needs branches that are added")
        return self


def _which(data: Any) -> str:
    kind = data.get("kind") if isinstance(data, dict) else data.kind
    return "split" if kind == "split" else "stage"


Element = Annotated[
    Annotated[Split, Tag("split")] | Annotated[Stage, Tag("stage")], Discriminator(_which)
]
Branch.model_rebuild()
Split.model_rebuild()


class Send(Model):
    """A copy of a strip's sound to a bus; before the fader it still follows pan and mute."""

    to: Id
    gain_db: float = number(
        0,
        -60,
        12,
        label="Send",
        unit="dB",
        scale="db",
        marks=(-60, -40, -20, 0, 12),
        doc="Level of the copy.",
    )
    pre_fader: bool = False
    on: bool = True


class StripLevels(Model):
    """What a strip does to its level and place beside its chain."""

    trim_db: float = number(
        0,
        -60,
        24,
        label="Trim",
        unit="dB",
        scale="db",
        marks=(-60, -24, -12, 0, 12, 24),
        doc="Level of the strip before its chain.",
    )
    invert: bool = False
    fader_db: float = number(
        0,
        -90,
        12,
        label="Fader",
        unit="dB",
        scale="db",
        marks=(-90, -60, -40, -20, 0, 12),
        doc="Level of the strip behind its chain.",
    )
    pan: float = number(
        0,
        -1,
        1,
        label="Pan",
        unit="",
        step=0.01,
        marks=(-1, -0.5, 0, 0.5, 1),
        doc="Place between left (-1) and right (1); a balance where the strip is stereo.",
    )


class Strip(StripLevels):
    """A track, a bus or the main bus."""

    id: Id
    name: Name
    kind: Literal["track", "bus", "main"]
    audio: Audio | None = None
    mark: str | None = Field(None, pattern=r"^[A-Z]$")
    """A letter of the user's, to tell strips that belong together."""
    channels: Literal[1, 2] = 2
    frames: int = Field(0, ge=0)
    chain: list[Element] = []
    mute: bool = False
    solo: bool = False
    output: Id | None = None
    sends: list[Send] = []
    join: Join = Join()
    """How a bus with exactly two inputs puts them together."""


class Section(Model):
    """A named part of the song, up to its end, or to the next one if it has none."""

    name: Name
    start_s: float = Field(ge=0)
    end_s: float | None = Field(None, gt=0)


class Point(Model):
    """A break point of an automation; shape is that of the segment after it."""

    at_s: float = Field(ge=0)
    value: float
    shape: Literal["straight", "curved", "stepped"] = "straight"


class Automation(Model):
    """One control over time: strip, stage, split, branch or lever, then the control's name."""

    owner: Id
    control: Name
    points: list[Point] = Field(min_length=1, max_length=20000)

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        times = [p.at_s for p in self.points]
        if any(a > b for a, b in pairwise(times)):
            raise ValueError(f"automation of {self.owner} {self.control}: points must follow")
        return self


class Move(Model):
    """What a lever does to one control."""

    owner: Id
    control: Name
    low: float
    high: float
    curve: float = Field(0, ge=-1, le=1)


class Lever(Model):
    """One control that moves several."""

    id: Id
    name: Name
    value: float = number(
        0,
        0,
        1,
        label="Lever",
        unit="",
        step=0.01,
        marks=QUARTERS,
        doc="Moves several controls, each over a range of its own.",
    )
    moves: list[Move] = []


class Extent(Model):
    """What settings A to D are of.

    An element (owner: a stage or split), a stretch of a chain (owner: strip or branch; the
    elements that stay on both sides of it, None at the chain's ends), a whole chain, or a strip
    with its levels and sends.
    """

    kind: Literal["element", "stretch", "chain", "strip"]
    owner: Id
    after: Id | None = None
    before: Id | None = None


class LeverMove(Model):
    """What one lever does to something that may not be there at the moment."""

    lever: Id
    move: Move


class Setting(Model):
    """What stood in an extent, with what moved it. strip: where the extent is a whole strip."""

    chain: list[Element] = []
    strip: Strip | None = None
    automation: list[Automation] = []
    moves: list[LeverMove] = []


class Settings(Model):
    """Up to four settings of one extent. The chosen one is what the session plays; the others
    are held."""

    extent: Extent
    chosen: Slot = "A"
    held: dict[Slot, Setting] = {}
    names: dict[Slot, Name] = {}

    @property
    def letters(self) -> list[Slot]:
        """The letters that have a setting, in order."""
        return sorted({self.chosen, *self.held})


Heard = Literal["A", "B", "C", "D", "in"]


class Trial(Model):
    """A blind test that was made. match: X against two; pick: which one is best, each round.

    right: answers that were right, or how often the best one was picked. chance: how likely that
    is by guessing. at: when, in seconds since 1970.
    """

    extent: Extent
    kind: Literal["match", "pick"]
    choices: list[Heard] = Field(min_length=2, max_length=5)
    rounds: int = Field(ge=1)
    right: int = Field(ge=0)
    best: Heard | None = None
    early: bool = False
    chance: float = Field(1.0, ge=0, le=1)
    at: float = Field(0, ge=0)


class Reference(Model):
    """A recording that is only compared with; it is in nobody's mix."""

    id: Id
    name: Name
    audio: Audio
    channels: Literal[1, 2] = 2
    frames: int = Field(gt=0)


class Session(Model):
    """One song."""

    name: Name
    rate: int = Field(48000, ge=SAMPLE_RATES[0], le=SAMPLE_RATES[1])
    bpm: float | None = Field(None, ge=20, le=300)
    sections: list[Section] = []
    strips: list[Strip] = []
    levers: list[Lever] = []
    automation: list[Automation] = []
    settings: list[Settings] = []
    trials: list[Trial] = []
    references: list[Reference] = Field(default=[], max_length=24)

    @model_validator(mode="before")
    @classmethod
    def _from_slots(cls, data: Any) -> Any:
        """Take the settings out of a stage's slots, where sessions kept them before."""
        if not isinstance(data, dict) or "settings" in data:
            return data
        found: list[Any] = []
        for strip in data.get("strips") or []:
            if isinstance(strip, dict):
                found += _slots_of(strip.get("chain") or [])
        return {**data, "settings": found} if found else data

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        _unique([s.id for s in self.strips], "strip")
        stages = [e for s in self.strips for e in elements(s.chain)]
        _unique([e.id for e in stages], "stage")
        parts = [b.id for e in stages if isinstance(e, Split) for b in e.branches]
        _unique([*(e.id for e in stages), *parts], "stages or branche")
        _unique([lever.id for lever in self.levers], "lever")
        _unique([r.id for r in self.references], "reference")
        extents = [s.extent for s in self.settings]
        if any(extent in extents[:i] for i, extent in enumerate(extents)):
            raise ValueError("two lots of settings are of the same extent")
        if self.strips and sum(s.kind == "main" for s in self.strips) != 1:
            raise ValueError("a session with strips has exactly one main bus")
        starts = [s.start_s for s in self.sections]
        if starts != sorted(set(starts)):
            raise ValueError("sections must start one after another")
        stops = [starts[i] if s.end_s is None else s.end_s for i, s in enumerate(self.sections)]
        if any(stop < start for start, stop in zip(starts, stops, strict=True)) or any(
            stop > after + 1e-9 for stop, after in zip(stops, starts[1:], strict=False)
        ):
            raise ValueError("a section must end behind its start, and before the next one begins")
        return self

    def section_spans(self) -> list[tuple[str, float, float]]:
        """Return every section's name, and where it begins and ends in seconds."""
        song = self.frames() / self.rate
        found = []
        for index, section in enumerate(self.sections):
            later = self.sections[index + 1 :]
            end = section.end_s
            if end is None:
                end = later[0].start_s if later else song
            found.append((section.name, section.start_s, max(end, section.start_s)))
        return found

    def strip(self, strip_id: str) -> Strip:
        """Return a strip by its id.

        Raises:
            SettingError: there is none.
        """
        for strip in self.strips:
            if strip.id == strip_id:
                return strip
        raise MissingError(f"there is no strip “{strip_id}” in “{self.name}”")

    def main(self) -> Strip:
        """Return the main bus."""
        return next(s for s in self.strips if s.kind == "main")

    def frames(self) -> int:
        """Return the length of the longest track."""
        return max((s.frames for s in self.strips), default=0)


def _slots_of(chain: Any) -> list[Any]:
    """Return the settings in a raw chain's slots."""
    found: list[Any] = []
    for stage in chain if isinstance(chain, list) else []:
        if not isinstance(stage, dict):
            continue
        for branch in stage.get("branches") or []:
            if isinstance(branch, dict):
                found += _slots_of(branch.get("chain"))
        slots, chosen = stage.get("slots"), stage.get("slot", "A")
        if not isinstance(slots, dict) or not slots:
            continue
        bare = {k: v for k, v in stage.items() if k not in ("slot", "slots")}
        held = {s: {"chain": [{**bare, "params": p}]} for s, p in slots.items() if s != chosen}
        extent = {"kind": "element", "owner": stage.get("id")}
        found.append({"extent": extent, "chosen": chosen, "held": held})
    return found


@cache
def owners_controls() -> dict[str, dict[str, Control]]:
    """Return the controls that are not a processor's: kind of their owner, name, declaration."""

    def of(*models: type[Model]) -> dict[str, Control]:
        fields = [(n, f) for m in models for n, f in m.model_fields.items()]
        return {n: control_of(n, f) for n, f in fields if f.json_schema_extra}

    corner = number(
        1000, LOW_HZ, HIGH_HZ, label="Crossover", unit="Hz", scale="log", step=1, change="switch",
        doc="Where two bands meet.",
    )  # fmt: skip
    corner.annotation = float
    return {
        "strip": of(Strip, Join), "send": of(Send), "branch": of(Branch), "stage": of(Stage),
        "split": of(Split, Join) | {"crossovers_hz": control_of("crossovers_hz", corner)},
        "lever": of(Lever),
    }  # fmt: skip


def elements(chain: list[Element]) -> list[Element]:
    """Return every stage and split of a chain, nested ones too, in order."""
    found: list[Element] = []
    for element in chain:
        found.append(element)
        if isinstance(element, Split):
            for branch in element.branches:
                found += elements(branch.chain)
    return found


def branches(chain: list[Element]) -> list[Branch]:
    """Return every branch of every split of a chain, nested ones too."""
    return [b for e in elements(chain) if isinstance(e, Split) for b in e.branches]


def following(chain: list[Element], place: str) -> list[Element]:
    """Return the elements of a chain that hear what a stage, split or branch of it lets out."""
    for index, element in enumerate(chain):
        rest = chain[index + 1 :]
        if element.id == place:
            return rest
        if isinstance(element, Split):
            for branch in element.branches:
                if branch.id == place:
                    return rest
                if any(e.id == place for e in elements(branch.chain)) or any(
                    b.id == place for b in branches(branch.chain)
                ):
                    return following(branch.chain, place) + rest
    return []


def _unique(ids: list[str], what: str) -> None:
    seen: set[str] = set()
    for item in ids:
        if item in seen:
            raise ValueError(f"two {what}s have the id “{item}”")
        seen.add(item)


def checked(model: type[M], data: Any) -> M:
    """Return data as a model.

    Raises:
        SettingError: in one sentence, where and what is wrong, with the value and the range.
    """
    try:
        return TypeAdapter(model).validate_python(data)
    except ValidationError as error:
        raise SettingError(plain_words(error)) from None


def plain_words(error: ValidationError, model: type[Params] | None = None) -> str:
    """Return the first fault of a validation as one sentence; model gives the ranges."""
    return fault_in_words(error.errors()[0], model)


def fault_in_words(fault: Mapping[str, Any], model: type[Params] | None = None) -> str:
    """Return a fault as pydantic tells it as one sentence; model gives the ranges."""
    places = fault["loc"]
    # That it is the first edit, and of which type, tells nothing to a hand that made one.
    places = places[3:] if places[:2] == ("edits", 0) and len(places) > 3 else places
    where = ".".join(str(p) for p in places if p not in ("stage", "split"))
    kind, context = fault["type"], fault.get("ctx", {})
    if kind == "extra_forbidden":
        return f"{where}: there is no such field"
    if kind in ("greater_than_equal", "less_than_equal"):
        limit = context.get("ge", context.get("le"))
        side = "least" if kind == "greater_than_equal" else "most"
        span = _range_of(str(fault["loc"][-1]), model)
        return f"{where} is {fault['input']}; at {side} {limit:g} is allowed{span}"
    if kind == "literal_error":
        return f"{where} is {fault['input']!r}; allowed: {context['expected']}"
    if kind == "missing":
        return f"{where} is missing"
    if kind in ("string_too_short", "too_short") and not fault["input"]:
        return f"{where} is empty"
    if kind == "string_too_long":
        return f"{where} is too long; at most {context['max_length']} characters are allowed"
    if kind == "too_long":
        return f"{where}: at most {context['max_length']} are allowed"
    if kind == "string_pattern_mismatch":
        return f"{where} is {_short(fault['input'])}; it has characters that are not allowed"
    if kind in ("float_type", "float_parsing", "int_type", "int_parsing", "finite_number"):
        return f"{where} is {_short(fault['input'])}; a number is wanted"
    text = fault["msg"].removeprefix("Value error, ")
    return f"{where}: {text}" if where else text


def _short(value: object) -> str:
    text = repr(value)
    return text if len(text) <= 40 else f"{text[:37]}..."


def _params(model: type[Params], data: Any) -> Params:
    try:
        return model.model_validate(data)
    except ValidationError as error:
        raise ValueError(plain_words(error, model)) from None


def _range_of(name: str, model: type[Params] | None) -> str:
    for item in REGISTRY.values():
        if item.Params is model:
            for control in item.describe().controls:
                if control.name == name and control.low is not None and control.high is not None:
                    return f" ({control.low:g} to {control.high:g})"
    return ""


__all__ = [
    "Automation", "Branch", "Element", "Extent", "Join", "Key", "Lever", "LeverMove", "Move",
    "Point", "Section", "Send", "Session", "Setting", "Settings", "Split",
    "Stage", "Strip", "Trial", "branches", "checked", "elements", "fault_in_words",
    "plain_words",
]  # fmt: skip
