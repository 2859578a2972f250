"""What a tab says over its WebSocket, and what it is told; the page's types come from here."""

import struct
from typing import Annotated, Literal

from pydantic import Field, TypeAdapter

from salt_anvil.core.edits import Edit
from salt_anvil.core.session import Id, Model

HEADER = struct.Struct("<IIdIIII")
"""epoch, how many frames before the end of what was sent of it these begin (they take the place of
what was sent), timeline frame, frames, bytes of report, rate, 0; then float32
(frames, 4): before left and right, after left and right; then the report as JSON. Several blocks
that were computed in one go are sent in one message, one behind the other."""


Frame = Annotated[int, Field(ge=0, le=1 << 40)]
"""A place in the song; the limit is over two months at 192 kHz."""


class Open(Model):
    """Work on a session."""

    type: Literal["open"] = "open"
    session: int = Field(ge=1, le=(1 << 63) - 1)


class Play(Model):
    """Play from a frame, or from where it stands."""

    type: Literal["play"] = "play"
    frame: Frame | None = None


class Stop(Model):
    """Stop."""

    type: Literal["stop"] = "stop"


class Seek(Model):
    """Go to a frame."""

    type: Literal["seek"] = "seek"
    frame: Frame


class Loop(Model):
    """Loop the frames [begin, end), or not."""

    type: Literal["loop"] = "loop"
    begin: Frame | None = None
    end: Frame | None = None


class Listen(Model):
    """Where to listen on a strip: "chain", a stage, a split or a branch; alone or in the mix.

    "key:STAGE" is what that stage listens to; it and branches are heard alone.
    """

    type: Literal["listen"] = "listen"
    strip: Id | None = None
    at: str = Field("chain", max_length=80)
    alone: bool = False


class SameLoudness(Model):
    """Gains of the strip's untreated and treated sound, when comparing inside the mix."""

    type: Literal["same_loudness"] = "same_loudness"
    before_db: float = Field(0, ge=-60, le=60)
    after_db: float = Field(0, ge=-60, le=60)


class Preview(Model):
    """A control in somebody's hand: heard at once, not stored."""

    type: Literal["preview"] = "preview"
    edits: list[Edit]


class HearRevision(Model):
    """Hear an earlier state of the session instead of what stands; None: what stands again."""

    type: Literal["hear_revision"] = "hear_revision"
    revision: int | None = Field(None, ge=1, lt=1 << 53)


class Surface(Model):
    """A fader or button of a control surface. Fader n moves lever n; button n sends it to 0 and
    back to where it was. held: the hand is still on it, so that it is heard but not stored."""

    type: Literal["surface"] = "surface"
    part: Literal["fader", "button"]
    number: int = Field(ge=1, le=8)
    value: float = Field(0, ge=0, le=1)
    held: bool = False


class Played(Model):
    """How many frames of an epoch the worklet has used up, where in the song it stands, and how
    often since the page was opened nothing was there to be played."""

    type: Literal["played"] = "played"
    epoch: int = Field(ge=0, lt=1 << 32)
    frames: Frame
    frame: Frame | None = None
    missed: int = Field(0, ge=0, lt=1 << 32)


class SetAhead(Model):
    """How far sound is computed ahead of the ear, in milliseconds; null: as is needed."""

    type: Literal["set_ahead"] = "set_ahead"
    ms: Literal[40, 80, 160, 320, 640] | None = None


Command = Annotated[
    Open
    | Play
    | Stop
    | Seek
    | Loop
    | Listen
    | SameLoudness
    | Preview
    | Played
    | Surface
    | HearRevision
    | SetAhead,
    Field(discriminator="type"),
]
COMMAND: TypeAdapter[Command] = TypeAdapter(Command)


class Transport(Model):
    """How play stands."""

    type: Literal["transport"] = "transport"
    playing: bool
    frame: int
    loop: tuple[int, int] | None
    epoch: int
    waiting: str | None = None
    """Why there is no sound yet although it plays."""


class Ahead(Model):
    """How far sound is computed ahead now; behind: everything else waits for it."""

    type: Literal["ahead"] = "ahead"
    ms: int
    chosen: int | None
    behind: bool


class Missed(Model):
    """The ear has missed blocks at a place of the song, and why."""

    type: Literal["missed"] = "missed"
    count: int
    frame: int
    words: str


class Removed(Model):
    """The session was deleted."""

    type: Literal["removed"] = "removed"
    session: int


class Changed(Model):
    """The session has another revision; fetch it."""

    type: Literal["changed"] = "changed"
    session: int
    revision: int


class Analysed(Model):
    """The background pass over a strip of a revision has come this far."""

    type: Literal["analysed"] = "analysed"
    session: int
    revision: int
    strip: str
    done: int
    frames: int


class Compared(Model):
    """Settings that are not in force were measured."""

    type: Literal["compared"] = "compared"
    session: int


class AimStep(Model):
    """An aim tried a value; or is done: the value found, or why there is none.

    got: what the value gives; None where nothing is heard.
    """

    type: Literal["aimed"] = "aimed"
    session: int
    number: int
    value: float
    got: float | None
    done: bool = False
    problem: str | None = None
    makeup_db: float | None = None


class Proving(Model):
    """A proof has come this far: its state, what it does, the share of each way under way.

    ways: how many are measured; -1: nothing yet.
    """

    type: Literal["proving"] = "proving"
    session: int
    number: int
    state: str
    words: str
    shares: dict[str, float]
    ways: int


class Printed(Model):
    """A print has come this far."""

    type: Literal["printed"] = "printed"
    session: int
    print: int
    state: str
    progress: float


class BroughtIn(Model):
    """A file being brought in has come this far."""

    type: Literal["brought_in"] = "brought_in"
    session: int
    name: str
    progress: float


class LeverMoved(Model):
    """A lever is in somebody's hand elsewhere and stands here."""

    type: Literal["lever_moved"] = "lever_moved"
    lever: str
    value: float


class Refused(Model):
    """Something cannot be done; one sentence."""

    type: Literal["refused"] = "refused"
    text: str


Event = (
    Transport
    | Ahead
    | Missed
    | Removed
    | Changed
    | Analysed
    | Compared
    | AimStep
    | Proving
    | Printed
    | BroughtIn
    | LeverMoved
    | Refused
)


class StageMeter(Model):
    """A stage on the watched strip, per 64-frame cell, the louder channel.

    boost: dB that were added. phase: what a gate is doing, 0 closed, 1 closing, 2 holding, 3
    opening, 4 open; opened: how often it began to open, or how many hits set something off.
    touched: share of the samples that a clipper cut, 0 to 1; overshoot: dB over its ceiling.
    attack, sustain: how far a moment is the one or the other, 0 to 1. moves: dB by which each band
    of tone has moved, at most.
    """

    reduction: list[float]
    boost: list[float]
    touched: list[float]
    overshoot: list[float]
    attack: list[float]
    sustain: list[float]
    moves: list[float]
    level: list[float]
    phase: list[int]
    opened: int


class BlockReport(Model):
    """What happened during one block; travels behind the sound of the same frames.

    frame: where the block's cells begin. before, after: least and greatest value per 64-frame
    cell at the watched place; body: level (RMS) of a cell behind it; taken: what it takes away in
    dB (see core.measure.reduction). strips: peak after the fader, left and right, and the most
    that one stage of the strip reduces in dB. momentary: LUFS of the main output over the last
    400 ms; true_peak: dBTP since play began. spectrum: before and after the watched place, dB per
    twelfth of an octave (see core.measure.spectrum), every few blocks; sides: the same of half
    the difference. correlation: of left and right behind the watched place, -1 to 1.
    """

    frame: int
    before: list[tuple[float, float]]
    after: list[tuple[float, float]]
    body: list[float]
    taken: list[float]
    strips: dict[str, tuple[float, float, float]]
    stages: dict[str, StageMeter]
    removed_gain: float
    spectrum: tuple[list[float], list[float]] | None
    sides: tuple[list[float], list[float]] | None
    correlation: float
    momentary: float
    true_peak: float
