"""Requests and answers of the API; the page's types come from here."""

from typing import TYPE_CHECKING, Annotated, Any, Literal, Self, Union

from pydantic import BaseModel, Field, model_validator

from salt_anvil.core.delivery.proof import Proof
from salt_anvil.core.delivery.targets import Target
from salt_anvil.core.delivery.ways import Codec, Way
from salt_anvil.core.edits import ApplyRecipe, Edit
from salt_anvil.core.lab import LabOptions
from salt_anvil.core.measure.later import Later
from salt_anvil.core.measure.ledger import Ledger
from salt_anvil.core.processors import REGISTRY
from salt_anvil.core.processors.base import Control, Kind
from salt_anvil.core.processors.drawing import Drawing
from salt_anvil.core.recipe import Tag
from salt_anvil.core.session import Extent, Model, Name, Session, Slot
from salt_anvil.jobs.print_sets import StemSet
from salt_anvil.jobs.print_worker import PrintOptions
from salt_anvil.jobs.proof import ProofRequest
from salt_anvil.live.messages import BlockReport, Command, Event, Frame

if TYPE_CHECKING:
    AnyDrawing = Drawing
else:
    AnyDrawing = Union[tuple(dict.fromkeys(item.drawn_as for item in REGISTRY.values()))]  # noqa: UP007


class Problem(BaseModel):
    """Why something was refused, in one sentence."""

    error: str


class Making(BaseModel):
    """Something that a first start makes. share: 0 to 1; problem: why it could not be made."""

    name: str
    share: float
    problem: str | None


class Readiness(BaseModel):
    """Whether the server answers everything, and what it is still making."""

    ready: bool
    parts: list[Making]


class StartingPoint(BaseModel):
    """A recipe for one stage."""

    name: str
    note: str
    params: dict[str, Any]


class Catalogue(BaseModel):
    """Every processor with its starting points, and the controls of all else that has some: by its
    kind and their name."""

    kinds: list[Kind]
    controls: dict[str, dict[str, Control]]
    starting_points: dict[str, list[StartingPoint]]


class SessionItem(BaseModel):
    """A session in the list."""

    id: int
    name: str
    touched_at: float
    seconds: float
    strips: int


class SessionState(BaseModel):
    """A session as it stands."""

    id: int
    revision: int
    words: str
    undo: str | None
    redo: str | None
    frames: int
    latency: int
    model: Session
    titles: dict[str, str]


class NewSession(Model):
    """Make a session."""

    name: str = Field("New session", min_length=1, max_length=80)
    bpm: float | None = Field(None, ge=20, le=300)


class Edits(Model):
    """A finished gesture on top of a revision."""

    base: int = Field(ge=1, le=(1 << 63) - 1)
    edits: list[Edit] = Field(min_length=1)


class RevisionItem(BaseModel):
    """A revision in the list."""

    id: int
    words: str
    name: str | None
    created_at: float
    current: bool


class RevisionName(Model):
    """A name for a revision, or none."""

    name: str | None = Field(None, max_length=80)


class Marker(BaseModel):
    """A cue point of a file."""

    name: str
    at_s: float


class BundleAnswer(BaseModel):
    """A session that was put together as one file."""

    bytes: int


class BroughtInAnswer(BaseModel):
    """A file that is now a track. said: what was done to it, if anything; markers: its own."""

    state: SessionState
    said: str | None
    markers: list[Marker]


class CompareRequest(Model):
    """What to set side by side: the settings of an extent over a passage of frames.

    against: the setting that the others are compared with in words. at: the place listened to;
    in_mix: what comes out of the strip is heard in the mix, not that place alone. tried: instead of
    the settings, a recipe put down as this says, heard where the chain ends. revision: instead of
    them, an earlier state of the whole session, heard there.
    """

    extent: Extent
    against: Slot = "A"
    at: str = Field("chain", max_length=80)
    in_mix: bool = True
    begin: Frame = 0
    end: Frame
    tried: ApplyRecipe | None = None
    revision: Annotated[int, Field(ge=1, lt=1 << 53)] | None = None

    @model_validator(mode="after")
    def _one(self) -> Self:
        if self.tried is not None and self.revision is not None:
            raise ValueError("compare with what is tried, or with a revision: one of them")
        return self


class AimStarted(BaseModel):
    """The number of an aim that has begun."""

    number: int


class GateMarks(BaseModel):
    """A gate, and the frames of hits that it is to keep and to refuse."""

    stage: str = Field(max_length=80)
    keep: list[Annotated[int, Field(ge=0, lt=1 << 40)]] = Field(min_length=1, max_length=64)
    refuse: list[Annotated[int, Field(ge=0, lt=1 << 40)]] = Field([], max_length=64)


class ScanRequest(BaseModel):
    """What comes into a stage is scanned over frames [begin, end)."""

    stage: str = Field(max_length=80)
    begin: int = Field(0, ge=0, lt=1 << 40)
    end: int = Field(gt=0, lt=1 << 40)


class Hit(BaseModel):
    """One hit: its first frame, and the reduction in dB per 64 frames from there."""

    frame: int
    reduction: list[float]


class LedgerAnswer(BaseModel):
    """The ledger, None before anything is analysed, and the share that is.

    later: what the next compressor and the next limiter have to do, where that is analysed.
    """

    ledger: Ledger | None
    later: list[Later]
    done: float


class Openings(BaseModel):
    """Frames at which a gate opened."""

    frames: list[Frame] = Field(max_length=100_000)


class ThresholdAnswer(BaseModel):
    """The threshold that keeps some openings, None where there are none, and the share analysed."""

    threshold_db: float | None
    done: float


class DrawingAnswer(BaseModel):
    """What to draw for a stage's settings, in the form that its kind has."""

    drawing: AnyDrawing


class DrawingRequest(Model):
    """Settings to draw."""

    kind: str
    params: dict[str, Any]
    bpm: float | None = None
    rate: int = Field(48000, ge=8000, le=384000)


class LabRequest(Model):
    """What to measure: the id of a strip, branch, split or stage; against: another setting.

    against: one of its settings (A to D), "off" for the place switched off, or nothing.
    """

    place: str
    options: LabOptions
    against: Literal["A", "B", "C", "D", "off"] | None = None


class LabFigure(Model):
    """One number; None where there is none to be found."""

    label: str
    value: float | None
    unit: str


class LabAnswer(Model):
    """What was found; plots: each an SVG of its own; csv and svg: all of it as a file."""

    words: str
    rate: int
    figures: list[LabFigure]
    plots: list[str]
    csv: str
    svg: str


class RecipeWords(Model):
    """What a recipe is called, when and why it is used, and its tags."""

    name: Name
    note: str = Field("", max_length=400)
    tags: list[Tag] = Field(default=[], max_length=12)


class KeepRecipeRequest(RecipeWords):
    """What to keep as a recipe: what stands in an extent."""

    extent: Extent


class LibraryItem(BaseModel):
    """A recipe of the library. ours: it ships with the program. words: its chain.

    inputs: the keys from outside that it asks for. problem: why it cannot be used.
    """

    id: str
    ours: bool
    name: str
    note: str
    tags: list[str]
    what: Literal["stage", "split", "chain", "strip"]
    words: str
    inputs: list[str]
    recipe: dict[str, Any]
    problem: str | None = None


class PrintItem(BaseModel):
    """A print."""

    id: int
    options: dict[str, Any]
    state: str
    progress: float
    file: str | None
    message: str | None
    created_at: float
    place: int | None = None
    """How many are before it, while it waits."""
    left_s: float | None = None
    report: dict[str, Any] | None = None
    """What the finished file measures: its loudness, true peak, overs, SHA-256."""


class StemsRequest(Model):
    """A set of stems that add up; options: format and the rest, of each."""

    set: StemSet
    options: PrintOptions


class StemsWords(BaseModel):
    """To what each set adds up, and what keeps it from adding up to the mix."""

    groups: str
    tracks: str


class CoderItem(BaseModel):
    """A coder, the kbit/s that it is made with, and the rates that it takes."""

    codec: Codec
    title: str
    kbps: list[int]
    rates: list[int]


class Delivery(BaseModel):
    """Ways out and targets. usual: the ways that are gone where nothing else is asked for."""

    coders: list[CoderItem]
    rates: list[int]
    usual: list[Way]
    ours: list[Target]
    own: list[Target]


class VerdictItem(BaseModel):
    """What a proof comes to."""

    ready: bool
    title: str
    text: str


class ProofState(BaseModel):
    """The newest proof of a session. state: none, waiting, running, done, failed or stopped.

    words: what it does, or why it failed. current: of the session as it stands now.
    """

    state: str
    number: int = 0
    words: str = ""
    shares: dict[str, float] = {}
    current: bool = True
    request: ProofRequest | None = None
    proof: Proof | None = None
    verdict: VerdictItem | None = None


class PlayedAnswer(BaseModel):
    """What a service does: its gain, what its limiter takes at most, the true peak then."""

    gain_db: float
    limited_db: float
    true_peak_dbtp: float | None


class BroughtToProve(BaseModel):
    """A file that is only to be proved, by the name that `ProofRequest.file` wants."""

    file: str


class Live(BaseModel):
    """Not sent: brings the WebSocket's messages into the schema."""

    command: Command
    event: Event
    report: BlockReport
