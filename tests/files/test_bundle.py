"""A session out as one open file, and in again elsewhere: the same sound, the same print."""

import hashlib
import json
import subprocess
import zipfile
from pathlib import Path

import jsonschema
import numpy as np
import pytest
import soundfile

from salt_anvil.core.errors import FileError
from salt_anvil.core.library import our_recipes
from salt_anvil.core.processors import REGISTRY
from salt_anvil.core.recipe import Recipe, read_recipe
from salt_anvil.core.session import Session, checked, elements
from salt_anvil.files.bundle import (
    SUMS,
    BundledSession,
    read_bundle,
    schema_of,
    write_bundle,
)
from salt_anvil.files.media import MediaFolder
from tests.conftest import noise

RATE = 44_100


def recordings(frames: int) -> dict[str, np.ndarray]:
    """Sound whose samples are those of 16 bits, of 24, of neither; and one over full scale."""
    sixteen = np.rint(noise(frames, 1, seed=1) * 2.0**15) / 2.0**15
    return {
        "sixteen": np.clip(sixteen, -1, 1 - 2.0**-15),
        "twenty-four": np.clip(np.rint(noise(frames, 2) * 2.0**23) / 2.0**23, -1, 1 - 2.0**-23),
        "float": noise(frames, 1, seed=3) * 0.1,
        "over": 1.5 * np.ones((frames, 1)),
    }


def brought_in(folder: Path, frames: int) -> tuple[MediaFolder, Session]:
    media = MediaFolder(folder / "media")
    strips = []
    for name, sound in recordings(frames).items():
        path = folder / f"{name}.wav"
        soundfile.write(path, sound, RATE, "FLOAT")
        found = media.bring_in(path, path.name, RATE)
        strips.append(
            {"id": name, "name": f"The {name}: a/b", "kind": "track", "audio": found.id,
             "channels": found.channels, "frames": found.frames,
             "chain": [{"id": f"{name}-c", "kind": "compressor"}]}
        )  # fmt: skip
    reference = {"id": "ref", "name": "Other", "audio": strips[0]["audio"], "channels": 1}
    main = {"id": "main", "name": "Main bus", "kind": "main"}
    return media, checked(
        Session,
        {"name": "Two / three", "rate": RATE, "strips": [*strips, main],
         "references": [{**reference, "frames": frames}]},
    )  # fmt: skip


@pytest.mark.parametrize("frames", [1, 17, 70_000])
def test_every_sample_comes_back(tmp_path: Path, frames: int) -> None:
    """Each in the smallest form that holds it; read by libsndfile and taken in elsewhere."""
    media, session = brought_in(tmp_path, frames)
    path = tmp_path / "b.zip"
    write_bundle(path, session, media)
    other = MediaFolder(tmp_path / "elsewhere")
    opened = read_bundle(path, "b.zip", other)
    assert [s.name for s in opened.strips] == [s.name for s in session.strips]
    before, after = media.source(), other.source()
    for old, new in zip(session.strips[:-1], opened.strips, strict=False):
        assert old.audio
        assert new.audio
        one, two = before(old.audio, -5, frames + 10), after(new.audio, -5, frames + 10)
        assert np.array_equal(one, two)
    assert opened.references[0].audio == opened.strips[0].audio
    with zipfile.ZipFile(path) as archive:
        kept = {n.split()[2]: n for n in archive.namelist() if n.startswith("media/")}
        endings = {words: name.rpartition(".")[2] for words, name in kept.items()}
        assert endings == {
            "sixteen_": "flac", "twenty-four_": "flac", "float_": "wav", "over_": "wav",
        }  # fmt: skip
        archive.extractall(tmp_path / "out")
    info = soundfile.info(tmp_path / "out" / kept["sixteen_"])
    assert (info.subtype, info.frames, info.samplerate) == ("PCM_16", frames, RATE)


def test_the_bundle_is_open(tmp_path: Path) -> None:
    """Its sums are those of sha256sum, its JSON follows the schemas that lie in it."""
    media, session = brought_in(tmp_path, 4000)
    path = tmp_path / "b.zip"
    printed = tmp_path / "mix.wav"
    soundfile.write(printed, noise(4000, 1), RATE)
    write_bundle(path, session, media, [printed])
    out = tmp_path / "out"
    with zipfile.ZipFile(path) as archive:
        assert archive.testzip() is None
        archive.extractall(out)
    done = subprocess.run(
        ["sha256sum", "--check", "--strict", "--quiet", SUMS], cwd=out, check=False
    )
    assert done.returncode == 0
    listed = {line.split(maxsplit=1)[1] for line in (out / SUMS).read_text().splitlines()}
    there = {str(p.relative_to(out)) for p in out.rglob("*") if p.is_file()}
    assert listed | {SUMS} == there
    assert (out / "prints" / "mix.wav").read_bytes() == printed.read_bytes()
    described = json.loads((out / "session.json").read_text())
    jsonschema.validate(described, json.loads((out / "session.schema.json").read_text()))
    recipes = sorted((out / "recipes").iterdir())
    assert len(recipes) == 4
    for recipe in recipes:
        data = json.loads(recipe.read_text())
        jsonschema.validate(data, json.loads((out / "recipe.schema.json").read_text()))
        assert read_recipe(data).chain[0].kind == "compressor"


def test_the_schema_knows_every_kind_and_its_ranges() -> None:
    """All recipes that ship follow it; a value out of range, or of another kind, does not."""
    validator = jsonschema.Draft202012Validator(schema_of(Recipe))
    validator.check_schema(validator.schema)
    kinds = set()
    for recipe in our_recipes():
        data = recipe.model_dump(mode="json")
        validator.validate(data)
        kinds |= {e.kind for e in elements(recipe.chain)}
    assert kinds >= set(REGISTRY) - {"room", "width"}
    for kind in REGISTRY:
        stage = {"id": "a", "kind": kind, "on": True, "mix": 1.0}
        recipe = read_recipe({"format": "salt-anvil/recipe", "chain": [stage]})
        data = recipe.model_dump(mode="json")
        validator.validate(data)
        for wrong in ({"kind": "none"}, {"params": {"no_such": 1}}, {"mix": 2}):
            other = {**data, "chain": [data["chain"][0] | wrong]}
            assert not validator.is_valid(other), (kind, wrong)


def test_the_same_session_gives_the_same_bytes(tmp_path: Path) -> None:
    """So that a copy can be told from a change; and once more from where it was opened."""
    media, session = brought_in(tmp_path, 3000)
    digests = []
    for name in ("a.zip", "b.zip"):
        write_bundle(tmp_path / name, session, media)
        digests.append(hashlib.sha256((tmp_path / name).read_bytes()).hexdigest())
    assert digests[0] == digests[1]
    other = MediaFolder(tmp_path / "elsewhere")
    opened = read_bundle(tmp_path / "a.zip", "a.zip", other)
    write_bundle(tmp_path / "c.zip", opened, other)
    third = MediaFolder(tmp_path / "third")
    assert read_bundle(tmp_path / "c.zip", "c.zip", third) == opened


def rewritten(path: Path, change: dict[str, bytes | None]) -> Path:
    """A copy of a zip file with some members other, or gone."""
    target = path.with_name("changed.zip")
    with zipfile.ZipFile(path) as old, zipfile.ZipFile(target, "w") as new:
        for name in old.namelist():
            data = change.get(name, old.read(name))
            if data is not None:
                new.writestr(name, data)
    return target


def with_sums(path: Path, name: str, data: bytes) -> Path:
    """A copy with one member other, and its sum right."""
    with zipfile.ZipFile(path) as archive:
        lines = archive.read(SUMS).decode().splitlines()
    lines = [line for line in lines if not line.endswith(f"  {name}")]
    lines.append(f"{hashlib.sha256(data).hexdigest()}  {name}")
    return rewritten(path, {SUMS: "\n".join(lines).encode(), name: data})


def test_what_is_damaged_is_refused_in_words(tmp_path: Path) -> None:
    media, session = brought_in(tmp_path, 3000)
    whole = tmp_path / "b.zip"
    write_bundle(whole, session, media)
    with zipfile.ZipFile(whole) as archive:
        names = archive.namelist()
        text = archive.read("session.json")
    sound = next(n for n in names if n.startswith("media/"))
    data = json.loads(text)
    escaping = json.loads(text)
    escaping["media"][0]["file"] = "../../etc/passwd"
    longer = json.loads(text)
    longer["media"][0]["frames"] += 1
    fewer = json.loads(text) | {"media": []}
    newer = json.loads(text) | {"version": 2}
    data["session"]["strips"][0]["chain"][0]["params"] = {"ratio": -3}
    cut = tmp_path / "cut.zip"
    cut.write_bytes(whole.read_bytes()[: whole.stat().st_size // 2])
    turned = bytearray(whole.read_bytes())
    turned[200] ^= 0xFF
    (tmp_path / "turned.zip").write_bytes(turned)
    other = tmp_path / "other.zip"
    with zipfile.ZipFile(other, "w") as archive:
        archive.writestr("a.txt", "a")

    def session_of(fields: object) -> Path:
        return with_sums(whole, "session.json", json.dumps(fields).encode())

    cases = [
        (lambda: cut, "damaged"),
        (lambda: tmp_path / "turned.zip", "damaged"),
        (lambda: other, "no checksums.sha256 in it"),
        (lambda: rewritten(whole, {"session.json": text + b" "}), "not what was saved"),
        (lambda: rewritten(whole, {"session.json": None}), "no session.json in it"),
        (lambda: rewritten(whole, {sound: b"no sound"}), "not what was saved"),
        (lambda: rewritten(whole, {sound: None}), "in it"),
        (lambda: with_sums(whole, sound, b"no sound"), "not audio"),
        (lambda: with_sums(whole, "session.json", b"{"), "not JSON"),
        (lambda: session_of(data), "ratio is -3"),
        (lambda: session_of(escaping), "no ../../etc/passwd in it"),
        (lambda: session_of(longer), "not as long"),
        (lambda: session_of(fewer), "no recording for"),
        (lambda: session_of(newer), "version"),
    ]
    folder = tmp_path / "elsewhere"
    for make, words in cases:
        with pytest.raises(FileError, match=words):
            read_bundle(make(), "b.zip", MediaFolder(folder))
        assert not list(folder.glob("*.upload"))
    assert checked(BundledSession, json.loads(text)).session.name == "Two / three"


def test_a_recording_that_is_gone_is_said(tmp_path: Path) -> None:
    _, session = brought_in(tmp_path, 3000)
    for path in (tmp_path / "media").glob("*"):
        path.unlink()
    with pytest.raises(FileError, match=r"missing|damaged"):
        write_bundle(tmp_path / "b.zip", session, MediaFolder(tmp_path / "media"))
    assert not list(tmp_path.glob("b.zip*"))
    assert not list(tmp_path.glob("*.upload*"))
