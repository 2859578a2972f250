"""A whole session as one open file: a zip of plain JSON, FLAC and WAV, with checksums.

The file is described in docs/bundle.md.
"""

import hashlib
import json
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Sequence
from pathlib import Path, PurePosixPath
from typing import IO, Any, Literal

import numpy as np
from pydantic import Field

from salt_anvil import __version__
from salt_anvil.core.engine_version import ENGINE
from salt_anvil.core.errors import FileError, SettingError
from salt_anvil.core.processors import REGISTRY
from salt_anvil.core.recipe import Recipe, recipe_of
from salt_anvil.core.session import Model, Session, checked
from salt_anvil.files.media import CHUNK, Media, MediaFolder
from salt_anvil.files.part import Part
from salt_anvil.files.places import file_stem
from salt_anvil.files.write import PrintFormat, SoundWriter

SESSION = "session.json"
SUMS = "checksums.sha256"
LARGEST_TEXT = 64 << 20
"""Bytes of JSON or of checksums that are read."""
LONGEST_NAME = 80
"""Bytes of a name in the zip file."""
_NEVER = (1980, 1, 1, 0, 0, 0)  # the same session gives the same bytes, whenever
_COPY = 1 << 20

Progress = Callable[[float], None]


class BundledMedia(Model):
    """A recording of a bundle: what the session calls it, where it lies, what it holds."""

    audio: str
    file: str
    frames: int = Field(ge=0)
    channels: Literal[1, 2]


class BundledSession(Model):
    """Version 1 of the file session.json in a bundle."""

    format: Literal["salt-anvil/session"] = "salt-anvil/session"
    version: Literal[1] = 1
    program: str = Field("", max_length=80)
    session: Session
    media: tuple[BundledMedia, ...] = ()


def write_bundle(
    path: Path,
    session: Session,
    media: MediaFolder,
    prints: Sequence[Path] = (),
    progress: Progress = lambda share: None,
) -> None:
    """Write a session with its recordings, and files that were printed from it; whole or not.

    Raises:
        FileError: a recording is missing or damaged, or the file cannot be written.
    """
    try:
        with Part(path) as part, zipfile.ZipFile(part.path, "w", zipfile.ZIP_DEFLATED) as archive:
            _fill(archive, part.path, session, media, prints, progress)
    except OSError as error:
        reason = (error.strerror or "error").lower()
        raise FileError(f"{path.name} was not written: {reason}") from None


def _fill(
    archive: zipfile.ZipFile,
    part: Path,
    session: Session,
    media: MediaFolder,
    prints: Sequence[Path],
    progress: Progress,
) -> None:
    sums: list[str] = []

    def text(name: str, words: str) -> None:
        archive.writestr(zipfile.ZipInfo(name, _NEVER), words, zipfile.ZIP_DEFLATED)
        sums.append(f"{hashlib.sha256(words.encode()).hexdigest()}  {name}\n")

    def file(name: str, source: Path) -> None:
        with source.open("rb") as opened:
            digest = hashlib.file_digest(opened, "sha256").hexdigest()
            opened.seek(0)
            info = zipfile.ZipInfo(name, _NEVER)
            info.file_size = source.stat().st_size  # beyond 4 GiB it has to be known before
            with archive.open(info, "w") as member:
                while piece := opened.read(_COPY):
                    member.write(piece)
        sums.append(f"{digest}  {name}\n")

    recordings = _recordings(session)
    bundled: list[BundledMedia] = []
    for number, (audio, words) in enumerate(recordings.items(), 1):
        about = media.media(audio)
        form = _form(media, about)
        ending = form.split("-")[0]
        name = f"media/{number:02} {_plain(words)}.{ending}"
        kept = part.with_name(f"{part.name}.{ending}")
        try:
            _write_sound(kept, form, media, about)
            file(name, kept)
        finally:
            kept.unlink(missing_ok=True)
        bundled.append(
            BundledMedia(audio=audio, file=name, frames=about.frames, channels=_channels(about))
        )
        progress(number / (len(recordings) + len(prints) + 1))
    whole = BundledSession(
        program=f"Salt Anvil {__version__}, engine {ENGINE}", session=session, media=tuple(bundled)
    )
    text(SESSION, whole.model_dump_json(indent=1) + "\n")
    text("session.schema.json", _schema(BundledSession))
    for number, strip in enumerate((s for s in session.strips if s.chain), 1):
        recipe = recipe_of(session, strip.id).model_dump_json(indent=1)
        text(f"recipes/{number:02} {_plain(strip.name)}.json", recipe + "\n")
    text("recipe.schema.json", _schema(Recipe))
    for number, printed in enumerate(prints, 1):
        file(f"prints/{printed.name}", printed)
        progress((len(recordings) + number) / (len(recordings) + len(prints) + 1))
    archive.writestr(zipfile.ZipInfo(SUMS, _NEVER), "".join(sums), zipfile.ZIP_DEFLATED)
    progress(1.0)


def _recordings(session: Session) -> dict[str, str]:
    """Return what a session plays and compares with: audio to the name of the first such."""
    named = [(s.audio, s.name) for s in session.strips if s.audio is not None]
    found: dict[str, str] = {}
    for audio, words in [*named, *((r.audio, r.name) for r in session.references)]:
        found.setdefault(audio, words)
    return found


def _form(media: MediaFolder, about: Media) -> PrintFormat:
    """Return the smallest form that holds every sample as it is."""
    read = media.source()
    form: PrintFormat = "flac-16"
    if about.frames == 0:
        return "wav-32f"
    for at in range(0, about.frames, CHUNK):
        sound = read(about.id, at, min(CHUNK, about.frames - at))
        if sound.min() < -1.0 or sound.max() >= 1.0:
            return "wav-32f"
        steps = sound * 2.0**15
        if form == "flac-16" and not np.array_equal(steps, np.rint(steps)):
            form = "flac-24"
        if form == "flac-24" and not np.array_equal(steps * 256, np.rint(steps * 256)):
            return "wav-32f"
    return form


def _write_sound(path: Path, form: PrintFormat, media: MediaFolder, about: Media) -> None:
    read = media.source()
    with SoundWriter(
        path,
        form,
        rate=about.rate,
        channels=about.channels,
        frames=about.frames,
        dither="none",
    ) as writer:
        for at in range(0, about.frames, CHUNK):
            writer.write(read(about.id, at, min(CHUNK, about.frames - at)))


def _channels(about: Media) -> Literal[1, 2]:
    return 1 if about.channels == 1 else 2


def _plain(words: str) -> str:
    """Return a name that every file system takes."""
    return file_stem(words, LONGEST_NAME) or "recording"


def schema_of(model: type[Model]) -> dict[str, Any]:
    """Return the JSON schema of a file that holds stages: each kind with its own parameters."""
    schema = model.model_json_schema()
    shared = schema["$defs"]
    plain = shared.pop("Stage")
    kinds = []
    for kind, found in sorted(REGISTRY.items()):
        params = found.Params.model_json_schema(ref_template=f"#/$defs/{kind}.{{model}}")
        inner = params.pop("$defs", {})
        shared |= {f"{kind}.{name}": fields for name, fields in inner.items()}
        shared[f"{kind}.params"] = params
        own = {"kind": {"const": kind}, "params": {"$ref": f"#/$defs/{kind}.params"}}
        kinds.append({**plain, "title": kind, "properties": {**plain["properties"], **own}})
    shared["Stage"] = {"oneOf": kinds}
    del shared["Params"]
    return schema


def _schema(model: type[Model]) -> str:
    return json.dumps(schema_of(model), indent=1) + "\n"


def read_bundle(
    path: Path, name: str, media: MediaFolder, progress: Progress = lambda share: None
) -> Session:
    """Take the recordings of a bundle in and return its session, which plays them.

    name: what the user calls the file. What was checked against its sum is taken in, nothing else.

    Raises:
        FileError: it is no bundle, is damaged, or holds what cannot be used; nothing refers to
            what was taken in before.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            return _Reader(archive, name, media).session(progress)
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError):
        raise FileError(f"{name} is no bundle that can be read: the zip file is damaged") from None
    except OSError as error:
        raise FileError(f"{name} was not kept: {(error.strerror or 'error').lower()}") from None


class _Reader:
    """Reads one bundle."""

    def __init__(self, archive: zipfile.ZipFile, name: str, media: MediaFolder) -> None:
        self._archive, self._name, self._media = archive, name, media
        self._sums = self._read_sums()

    def session(self, progress: Progress) -> Session:
        whole = self._described()
        names: dict[str, str] = {}
        for number, item in enumerate(whole.media, 1):
            names[item.audio] = self._take_in(item, whole.session.rate)
            progress(number / len(whole.media))
        missing = [words for a, words in _recordings(whole.session).items() if a not in names]
        if missing:
            raise FileError(f"{self._name} has no recording for “{missing[0]}”")
        return checked(Session, _renamed(whole.session.model_dump(), names))

    def _described(self) -> BundledSession:
        data = self._text(SESSION)
        if hashlib.sha256(data).hexdigest() != self._sums.get(SESSION):
            raise FileError(f"{self._name} is damaged: {SESSION} is not what was saved")
        try:
            return checked(BundledSession, json.loads(data))
        except (json.JSONDecodeError, UnicodeDecodeError, RecursionError):
            raise FileError(f"{self._name}: {SESSION} is not JSON") from None
        except SettingError as error:
            raise FileError(f"{self._name}: {SESSION}: {error}") from None

    def _read_sums(self) -> dict[str, str]:
        try:
            lines = self._text(SUMS).decode().splitlines()
        except UnicodeDecodeError:
            raise FileError(f"{self._name} is damaged: {SUMS} is not text") from None
        pairs = [line.split(maxsplit=1) for line in lines if line.strip()]
        return {pair[1].lstrip("*"): pair[0].lower() for pair in pairs if len(pair) == 2}

    def _text(self, member: str) -> bytes:
        with self._opened(member) as file:
            data = file.read(LARGEST_TEXT + 1)
        if len(data) > LARGEST_TEXT:
            raise FileError(f"{self._name}: {member} is too large")
        return data

    def _opened(self, member: str) -> IO[bytes]:
        try:
            return self._archive.open(member)
        except KeyError:
            raise FileError(f"{self._name} is no bundle of a session: no {member} in it") from None

    def _take_in(self, item: BundledMedia, rate: int) -> str:
        """Return what the media folder calls a recording."""
        wanted = self._sums.get(item.file)
        plain = PurePosixPath(item.file).name
        with tempfile.NamedTemporaryFile(dir=self._media.folder, suffix=".upload") as kept:
            digest = hashlib.sha256()
            with self._opened(item.file) as file:
                while piece := file.read(_COPY):
                    digest.update(piece)
                    kept.write(piece)
            kept.flush()
            if digest.hexdigest() != wanted:
                raise FileError(f"{self._name} is damaged: {item.file} is not what was saved")
            about = self._media.bring_in(Path(kept.name), plain, rate)
        if (about.frames, about.channels) != (item.frames, item.channels):
            raise FileError(f"{self._name}: {item.file} is not as long or as wide as it says")
        return about.id


def _renamed(data: Any, names: dict[str, str]) -> Any:
    """Return the fields of a session with other names of its recordings."""
    if isinstance(data, dict):
        return {
            key: names.get(value, value)
            if key == "audio" and isinstance(value, str)
            else _renamed(value, names)
            for key, value in data.items()
        }
    return [_renamed(v, names) for v in data] if isinstance(data, list) else data
