"""A print in a worker process: a whole session model in, one finished file out."""

import hashlib
import json
import re
from collections.abc import Callable
from pathlib import Path
from string import Formatter
from typing import Any, Literal

import xxhash
from pydantic import Field, field_validator

from salt_anvil import __version__
from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.cached_strips import CachedStrips
from salt_anvil.analysis.strip_pass import Notify, join_measurements, measure_missing_joins, mended
from salt_anvil.core.delivery.dither import Dither, seed_of
from salt_anvil.core.delivery.overs import DeliveryMeter
from salt_anvil.core.delivery.ways import CODERS, Way, way_of
from salt_anvil.core.engine.fingerprint import fingerprints_of
from salt_anvil.core.engine.mixer import Source
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine_version import ENGINE
from salt_anvil.core.errors import SettingError
from salt_anvil.core.measure.spans import section_spans
from salt_anvil.core.session import Id, Model, Session, checked
from salt_anvil.core.session_index import SessionIndex
from salt_anvil.files import codecs
from salt_anvil.files.labels import Labels
from salt_anvil.files.media import MediaFolder
from salt_anvil.files.places import file_stem
from salt_anvil.files.read import SoundReader
from salt_anvil.files.write import ENDINGS, FORMATS, PrintFormat
from salt_anvil.jobs.render import Finish, print_to_file
from salt_anvil.kernels.cache import sources_digest

PATTERN = "{session} - {part}"
LONGEST_NAME = 120
"""Characters of a file's name without its ending."""


class PrintOptions(Model):
    """What to print, and what as.

    strip: None for the main mix; tap: where the strip is taken. dry: what is bypassed for it,
    main: the main bus's chain, buses: those of all buses too; only: the one track that is heard.
    format: of the file ("wav-24"), or a coder's name and kbit/s ("mp3-128"). rate: in Hz, None as
    the session. fades in s, drawn before the dither. cues: sections as markers. name: a pattern
    for the file's name, of {session}, {part}, {rate}, {format}.
    """

    strip: Id | None = None
    tap: Literal["chain", "fader"] = "chain"
    dry: Literal["none", "main", "buses"] = "none"
    only: Id | None = None
    format: str = "wav-24"
    rate: Literal[44100, 48000, 88200, 96000, 176400, 192000] | None = None
    dither: Dither = "tpdf"
    begin: int = Field(0, ge=0, lt=1 << 40)
    end: int | None = Field(None, ge=0, lt=1 << 40)
    fade_in_s: float = Field(0, ge=0, le=60)
    fade_out_s: float = Field(0, ge=0, le=60)
    title: str = Field("", max_length=200)
    artist: str = Field("", max_length=200)
    isrc: str = ""
    comment: str = Field("", max_length=200)
    cues: bool = True
    part: str = Field("", max_length=80)
    name: str = Field(PATTERN, max_length=200)

    @field_validator("isrc")
    @classmethod
    def _as_registered(cls, value: str) -> str:
        """ISO 3901: two letters, three letters or digits, the year, five digits."""
        if value and not re.fullmatch(r"[A-Z]{2}-?[A-Z0-9]{3}-?\d{2}-?\d{5}", value):
            raise ValueError("it is written like ZZ-AB1-26-00001")
        return value

    @field_validator("dither", mode="before")
    @classmethod
    def _of_before(cls, value: object) -> object:
        """Prints that were asked for before there was a choice."""
        return {True: "tpdf", False: "none"}.get(value, value) if isinstance(value, bool) else value

    @field_validator("format")
    @classmethod
    def _known(cls, value: str) -> str:
        if value not in FORMATS:
            try:
                way = way_of(value.replace("-", ":"))
            except SettingError:
                way = Way()
            if way.codec is None or way.rate or way.bits:
                coders = ", ".join(f"{c}-KBPS" for c in CODERS)
                known = f"{', '.join(FORMATS)}, {coders}"
                raise ValueError(f"{value} is no format of a print: {known}")
        return value

    @field_validator("name")
    @classmethod
    def _pattern(cls, value: str) -> str:
        try:
            fields = {field for _, field, _, _ in Formatter().parse(value) if field is not None}
        except ValueError:
            fields = {value}
        if fields - {"session", "part", "rate", "format"}:
            raise ValueError("a name is made of words and {session}, {part}, {rate}, {format}")
        return value

    @property
    def coder(self) -> Way | None:
        """The coder of a listening copy."""
        if self.format in FORMATS:
            return None
        way = way_of(self.format.replace("-", ":"))
        takes = way.codec is not None and self.rate in CODERS[way.codec].rates
        return way.model_copy(update={"rate": self.rate if takes else None})


class Cancelled(Exception):
    """The print was cancelled."""


def run_print(
    data: Path,
    model: Any,
    options: PrintOptions,
    target: Path,
    flag: Path | None = None,
    progress: Callable[[float], None] = lambda share: None,
    made_at: float = 0.0,
) -> int:
    """Print, leave a report beside the file, and return the number of clipped samples.

    flag: a file that holds the progress for whoever asks; when it is gone, the print stops.
    made_at: when it was asked for, for formats that tell.

    Raises:
        CoreError, FileError: it cannot be done. Cancelled: the flag went away.
    """
    session, code = checked(Session, model), sources_digest()
    cache = StripCache(data / "cache")
    source = MediaFolder(data / "media").source()
    last = -1.0

    def show(share: float) -> None:
        nonlocal last
        progress(share)
        if flag is None or share - last < 0.01:
            return
        last = share
        if not flag.exists():
            raise Cancelled
        flag.write_text(f"{share:.4f}")

    def patient(strip: str, done: int, frames: int) -> bool:
        if flag is not None and not flag.exists():
            raise Cancelled
        return True

    varied = variant(session, options)

    def attempt() -> int:
        return _print(varied, options, target, code, source, cache, patient, show, made_at)

    clipped = mended(cache, attempt)
    report = told(target, session, options) | {"clipped_samples": clipped}
    report_of(target).write_text(json.dumps(report, indent=2) + "\n")
    return clipped


def variant(session: Session, options: PrintOptions) -> Session:
    """Return the session with what a print leaves out bypassed or muted.

    Raises:
        SettingError: a part is wanted that the session does not have.
    """
    if options.dry == "none" and options.only is None:
        return session
    dry = {"none": (), "main": ("main",), "buses": ("main", "bus")}[options.dry]
    if options.only is not None and options.only not in {s.id for s in session.strips}:
        raise SettingError(f"there is no strip {options.only}")
    strips = []
    for strip in session.strips:
        change: dict[str, Any] = {}
        if strip.kind in dry:
            change["chain"] = []
        if options.only is not None and strip.kind == "track":
            change |= {"mute": strip.mute or strip.id != options.only, "solo": False}
        elif options.only is not None:
            change["solo"] = False
        strips.append(strip.model_copy(update=change))
    left = session.model_copy(update={"strips": strips, "automation": [], "levers": []})
    ids = SessionIndex(left).ids
    kept = [a for a in session.automation if a.owner in ids]
    levers = [
        lever.model_copy(update={"moves": [m for m in lever.moves if m.owner in ids]})
        for lever in session.levers
    ]
    return session.model_copy(update={"strips": strips, "automation": kept, "levers": levers})


def _print(
    session: Session,
    options: PrintOptions,
    target: Path,
    code: str,
    source: Source,
    cache: StripCache,
    patient: Notify,
    show: Callable[[float], None],
    made_at: float,
) -> int:
    measure_missing_joins(session, code, source, cache, patient)
    plan = make_plan(session, measured=join_measurements(cache, code))
    frozen = CachedStrips(cache, code)(plan)
    fingerprints = {n: m for n, m in fingerprints_of(plan, code).items() if n not in frozen}
    return print_to_file(
        plan,
        source,
        target,
        options.coder or _file_format(options.format),
        frozen=frozen,
        strip=options.strip,
        after_fader=options.tap == "fader",
        begin=options.begin,
        end=options.end,
        finish=_finish(session, options, plan.frames, made_at),
        progress=show,
        states=lambda block: cache.states_before(fingerprints, block),
    )


def _file_format(name: str) -> PrintFormat:
    return name  # type: ignore[return-value]


def _finish(session: Session, options: PrintOptions, frames: int, made_at: float) -> Finish:
    end = frames if options.end is None else min(options.end, frames)
    rate = options.rate or session.rate
    cues = []
    for span in section_spans(session) if options.cues else []:
        if options.begin <= span.begin < end:
            at = round((span.begin - options.begin) * rate / session.rate)
            cues.append((at, span.name))
    labels = Labels(
        options.title, options.artist, options.isrc, options.comment, tuple(cues), made_at
    )
    what = "/".join(filter(None, [options.strip, options.only]))
    return Finish(
        fade_in=round(options.fade_in_s * session.rate),
        fade_out=round(options.fade_out_s * session.rate),
        rate=options.rate,
        dither=options.dither,
        seed=seed_of(what),
        labels=labels,
    )


def report_of(target: Path) -> Path:
    """Return where the report of a print lies: beside it."""
    return target.with_name(f"{target.name}.json")


def told(target: Path, session: Session, options: PrintOptions) -> dict[str, Any]:
    """Return what a finished file measures, read back from itself, and how it was made.

    Raises:
        FileError: it cannot be read back.
    """
    found = measured_back(target, options.coder)
    digest = xxhash.xxh128(session.model_dump_json().encode()).hexdigest()
    return {
        "format": "salt-anvil/print", "version": 1, "file": target.name,
        "sha256": sha256_of(target), "program": f"Salt Anvil {__version__}", "engine": ENGINE,
        "session": session.name, "session_digest": digest, **found,
        "options": options.model_dump(mode="json"),
    }  # fmt: skip


def sha256_of(path: Path) -> str:
    """Return the SHA-256 of a file, in hex."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def measured_back(path: Path, coder: Way | None) -> dict[str, Any]:
    """Return loudness, peaks and overs of a file, decoded again."""
    if coder is not None and coder.codec == "aac":  # libsndfile does not read it
        rate, channels = codecs.about(path)
        sound = codecs.decode("aac", path, channels)
    else:
        with SoundReader(path) as reader:
            rate, channels = reader.info.rate, reader.info.channels
        sound = codecs.pieces(path)
    meter = DeliveryMeter(rate, channels)
    for block in sound:
        meter.feed(block)
    found = meter.result()
    return {
        "rate": rate, "channels": channels, "frames": found.frames,
        "integrated_lufs": found.figures.integrated_lufs,
        "true_peak_dbtp": found.figures.true_peak_dbtp,
        "loudness_range_lu": found.figures.loudness_range_lu, "overs": len(found.overs(0.0)),
    }  # fmt: skip


def part_name(session: Session, options: PrintOptions) -> str:
    """Return what of the session a print holds, in words."""
    if options.part:
        return options.part
    part = session.strip(options.strip).name if options.strip else "Main mix"
    if options.only:
        part = session.strip(options.only).name
    if options.dry != "none" and options.only is None:
        part += ", dry" if options.dry == "main" else ", all buses dry"
    return part


def print_name(session: Session, options: PrintOptions, number: int | None = None) -> str:
    """Return the file name of a print: any name can be written, none is too long."""
    rate = f"{(options.rate or session.rate) / 1000:g}k"
    stem = options.name.format(
        session=session.name, part=part_name(session, options), rate=rate, format=options.format
    )
    stem = (file_stem(stem, LONGEST_NAME) or "print") + (f" {number}" if number else "")
    container = options.format.split("-")[0]
    return f"{stem}.{ENDINGS.get(container) or codecs.ENDINGS[container]}"
