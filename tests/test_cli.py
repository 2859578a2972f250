"""The command line in this process: answers, refusals with exit code 2, nothing left behind."""

import json
from pathlib import Path

import numpy as np
import pyloudnorm
import pytest
import soundfile
import soxr

from salt_anvil.cli import main
from salt_anvil.core.library import starting_points
from salt_anvil.core.processors import REGISTRY
from tests.conftest import noise, rounded, sine


def recipe(tmp_path: Path, **params: object) -> Path:
    path = tmp_path / "recipe.json"
    body = {"format": "salt-anvil/recipe", "version": 1, "name": "r",
            "chain": [{"kind": "compressor", "params": params}]}  # fmt: skip
    path.write_text(json.dumps(body))
    return path


def take(tmp_path: Path) -> Path:
    path = tmp_path / "take.wav"
    soundfile.write(path, noise(9600, 2), 48000, subtype="FLOAT")
    return path


def test_processors_as_table_and_json(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["processors"]) == 0
    assert "threshold_db" in capsys.readouterr().out
    assert main(["processors", "--json"]) == 0
    reported = json.loads(capsys.readouterr().out)
    assert {k["kind"] for k in reported} == set(REGISTRY)
    ratio = next(c for k in reported for c in k["controls"] if c["name"] == "ratio")
    assert (ratio["low"], ratio["high"], ratio["default"]) == (1, 100, 4)


def test_measure(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = tmp_path / "tone.wav"
    soundfile.write(path, sine(997, 4, level_db=-23 + 0), 48000, subtype="FLOAT")
    assert main(["measure", str(path), "--json"]) == 0
    reported = json.loads(capsys.readouterr().out)[0]
    assert reported["integrated_lufs"] == pytest.approx(-23, abs=0.05)
    assert reported["crest_db"] == pytest.approx(3.01, abs=0.01)
    assert main(["measure", str(path)]) == 0
    assert "tone.wav" in capsys.readouterr().out
    # What silence does not have is null, in JSON and in words.
    soundfile.write(path, np.zeros((48000, 2)), 48000)
    assert main(["measure", str(path), "--json"]) == 0
    silent = json.loads(capsys.readouterr().out)[0]
    levels = [v for name, v in silent.items() if name.endswith(("_lufs", "dbtp", "dbfs", "_db"))]
    assert all(v in (None, [None] * 4) for v in levels)
    assert len(levels) == 11
    assert main(["measure", str(path)]) == 0
    assert "–" in capsys.readouterr().out


def test_process_writes_file_and_report(tmp_path: Path) -> None:
    out, report = tmp_path / "out.flac", tmp_path / "report.json"
    arguments = ["process", str(take(tmp_path)), str(out), "--recipe", str(recipe(tmp_path))]
    assert main([*arguments, "--report", str(report)]) == 0
    assert soundfile.info(out).subtype == "PCM_24"
    assert json.loads(report.read_text())["reduction"]["s1"]["most"] > 0
    first = out.read_bytes()
    assert main(arguments) == 0
    assert out.read_bytes() == first


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"ratio": 0}, "ratio is 0; at least 1 is allowed (1 to 100)"),
        ({"thresh": 1}, "thresh: there is no such field"),
        ({"release_mode": "tempo"}, "needs a tempo: that of the session, or release_bpm"),
    ],
)
def test_a_recipe_that_cannot_be_used(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], change: dict, words: str
) -> None:
    out = tmp_path / "out.wav"
    code = main(
        ["process", str(take(tmp_path)), str(out), "--recipe", str(recipe(tmp_path, **change))]
    )
    reported = capsys.readouterr().err
    assert code == 2
    assert words in reported
    assert reported.count("\n") == 1
    assert sorted(p.name for p in tmp_path.iterdir()) == ["recipe.json", "take.wav"]


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["IN", "OUT.mp3"], "cannot be written as mp3"),
        (["IN", "nowhere/x.wav"], "there is no folder"),
        (["missing.wav", "OUT.wav"], "there is no such file"),
        (["IN", "IN"], "is the input; give the output another name"),
        (["IN", "OUT.wav", "--key", "x.wav"], "has no named inputs"),
    ],
)
def test_other_refusals(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], arguments: list[str], words: str
) -> None:
    places = {"IN": str(take(tmp_path)), "OUT.mp3": str(tmp_path / "o.mp3")}
    places |= {"OUT.wav": str(tmp_path / "o.wav"), "nowhere/x.wav": str(tmp_path / "no" / "x.wav")}
    given = [places.get(a, a) for a in arguments]
    assert main(["process", *given, "--recipe", str(recipe(tmp_path))]) == 2
    reported = capsys.readouterr().err
    assert words in reported
    assert reported.count("\n") == 1
    assert not (tmp_path / "o.wav").exists()


def test_print_of_the_command_line(
    band_data: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    common = ["print", "Band", "--data", str(band_data), "--out", str(tmp_path)]
    assert main([*common, "--tracks"]) == 0
    files = [Path(p) for p in capsys.readouterr().out.split("\n") if p]
    assert len(files) == 4
    stems = [soundfile.read(p)[0] for p in files[1:]]
    # The bus has no chain and its fader at 0: the stems add up to what enters the main bus.
    assert all(s.shape == (576_000, 2) for s in stems)
    assert main([*common, "--from", "2.5", "--to", "4", "--strip", "drum", "--over"]) == 0
    region = soundfile.read(capsys.readouterr().out.strip())[0]
    assert region.shape == (72_000,)
    pan = stems[0][120_000:192_000, 0] / np.cos(np.pi / 4)
    assert np.abs(pan - region).max() < 1e-6
    for bad, words in (
        (["print", "Nothing", "--data", str(band_data)], "there is no session Nothing"),
        (["print", "1", "--data", str(tmp_path)], "is not a data folder"),
        ([*common, "--from", "99"], "there is no sound between them"),
        ([*common, "--out", str(band_data / "salt-anvil.db")], "cannot be used"),
    ):
        assert main(bad) == 2
        assert words in capsys.readouterr().err


def written(tmp_path: Path, chain: list[dict], name: str = "chain.json", **more: object) -> Path:
    path = tmp_path / name
    body = {"format": "salt-anvil/recipe", "version": 1, "chain": chain}
    path.write_text(json.dumps(body | more))
    return path


KEYED = [{"id": "d", "kind": "compressor",
          "params": {"threshold_db": -30, "ratio": 20, "attack_ms": 0.05, "knee_db": 0},
          "key": {"source": "input:voice"}}]  # fmt: skip


@pytest.mark.parametrize("kind", sorted(REGISTRY))
def test_process_with_every_kind_and_its_starting_points(tmp_path: Path, kind: str) -> None:
    """As long as it came, in step with it, finite, and something other than silence."""
    source = take(tmp_path)
    sound, rate = soundfile.read(source)
    chains = [[{"kind": kind}]] + [
        [s.model_dump() for s in point.chain] for point in starting_points(kind)
    ]
    assert len(chains) > 1
    for chain in chains:
        out = tmp_path / "out.wav"
        path = written(tmp_path, chain, bpm=96)
        assert (
            main(["process", str(source), str(out), "--recipe", str(path), "--width", "32f"]) == 0
        )
        reported, same = soundfile.read(out)
        assert (same, reported.shape) == (rate, sound.shape)
        assert np.isfinite(reported).all()
        assert np.abs(reported).max() > 1e-4


def test_process_several_files_into_a_folder(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """Each is what it is alone; a bad one is said and stops no other."""
    sources = []
    for index, name in enumerate(("a.wav", "b.flac", "c.mp3")):
        sources.append(tmp_path / name)
        soundfile.write(sources[-1], noise(9600, 2, seed=index), 48000)
    (tmp_path / "bad.wav").write_text("no sound")
    out, alone = tmp_path / "new" / "out", tmp_path / "alone.wav"
    given = [str(p) for p in (*sources, tmp_path / "bad.wav", out)]
    options = ["--recipe", str(recipe(tmp_path)), "--report", str(tmp_path / "r.json")]
    assert main(["process", *given, *options]) == 2
    said = capsys.readouterr().err
    assert said.count("\n") == 1
    assert "bad.wav is not audio" in said
    assert sorted(p.name for p in out.iterdir()) == ["a.wav", "b.flac", "c.wav"]
    assert sorted(json.loads((tmp_path / "r.json").read_text())) == ["a.wav", "b.flac", "c.wav"]
    assert main(["process", str(sources[0]), str(alone), *options[:2]]) == 0
    assert alone.read_bytes() == (out / "a.wav").read_bytes()
    # A folder that is there takes a single file too; what would meet itself is refused.
    assert main(["process", str(sources[0]), str(out), *options[:2]]) == 0
    for arguments, words in (
        ([*given[:2], str(tmp_path)], "is the input"),
        ([given[0], str(out / "a.wav"), str(tmp_path / "x")], "written twice"),
        ([*given[:2], str(alone)], "cannot be used"),
    ):
        assert main(["process", *arguments, *options[:2]]) == 2
        assert words in capsys.readouterr().err


def test_process_with_splits_and_joins(tmp_path: Path) -> None:
    """The recipe of the design's example form: bands, a steady blend, nested stages."""
    chain = [
        {"id": "s", "kind": "split", "by": "bands", "crossovers_hz": [200, 2000],
         "branches": [{"id": "low", "name": "low", "chain": [{"kind": "compressor"}]},
                      {"name": "mid"}, {"name": "high", "gain_db": -3}], "join": {"law": "sum"}},
        {"id": "p", "kind": "split", "by": "copies",
         "branches": [{"name": "dry", "chain": []},
                      {"name": "wet", "chain": [{"kind": "compressor",
                                                 "params": {"threshold_db": -40, "ratio": 8}}]}],
         "join": {"law": "steady", "position": 0.35}},
    ]  # fmt: skip
    out, report = tmp_path / "out.wav", tmp_path / "report.json"
    arguments = ["process", str(take(tmp_path)), str(out), "--width", "32f"]
    arguments += ["--recipe", str(written(tmp_path, chain)), "--report", str(report)]
    assert main(arguments) == 0
    reported = json.loads(report.read_text())
    assert set(reported["reduction"]) == {"s.1.1", "p.2.1"}
    assert reported["joins"]["p"]["a"] > 0
    sound = soundfile.read(out)[0]
    assert sound.shape == (9600, 2)


@pytest.mark.parametrize("form", ["voice={}", "{}"])
@pytest.mark.parametrize("rate", [48000, 44100])
def test_process_with_a_key_file(tmp_path: Path, form: str, rate: int) -> None:
    """Reduction begins on the key's frame, also when the key has to be converted."""
    soundfile.write(tmp_path / "in.wav", np.full((24000, 1), 0.01), 48000, subtype="FLOAT")
    key = np.zeros((rate // 2, 1))
    key[rate // 4 + 6 :] = 0.9
    key = rounded(key, 17)
    soundfile.write(tmp_path / "key.wav", key, rate, subtype="FLOAT")
    out = tmp_path / "out.wav"
    arguments = ["process", str(tmp_path / "in.wav"), str(out), "--width", "32f"]
    arguments += ["--recipe", str(written(tmp_path, KEYED))]
    assert main([*arguments, "--key", form.format(tmp_path / "key.wav")]) == 0
    sound = soundfile.read(out)[0]
    begins = int(np.argmax(sound < 0.00999))
    # A converted edge rings for a few frames around its place.
    assert abs(begins - 12000) <= (0 if rate == 48000 else 40)


@pytest.mark.parametrize(
    ("keys", "words"),
    [
        ([], "listens to “voice”; give it with --key voice=FILE"),
        (["drum=x.wav"], "named inputs are: voice"),
        (["voice=nowhere.wav"], "there is no such file"),
        (["voice=a.wav", "voice=b.wav"], "was given before"),
    ],
)
def test_keys_that_do_not_fit_are_refused(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], keys: list[str], words: str
) -> None:
    out = tmp_path / "out.wav"
    arguments = ["process", str(take(tmp_path)), str(out)]
    arguments += ["--recipe", str(written(tmp_path, KEYED))]
    for key in keys:
        arguments += ["--key", key]
    assert main(arguments) == 2
    assert words in capsys.readouterr().err
    assert not out.exists()


def test_lab_measures_a_recipe_and_writes_csv_and_svg(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    path = recipe(tmp_path, attack_ms=20, release_ms=100, ballistics="branching", knee_db=0)
    table, picture = tmp_path / "steps.csv", tmp_path / "steps.svg"
    arguments = ["lab", str(path), "steps", "--level", "-8", "--from", "-28", "--hz", "0"]
    assert main([*arguments, "--csv", str(table), "--svg", str(picture), "--json"]) == 0
    reported = json.loads(capsys.readouterr().out)
    found = {f["label"]: f["value"] for f in reported["figures"]}
    assert found["attack to 63 %"] == pytest.approx(20, rel=0.05)
    assert found["release to 63 %"] == pytest.approx(100, rel=0.05)
    assert "attack to 63 %,20" in table.read_text()
    assert picture.read_text().startswith("<svg")
    assert main(["lab", str(path), "harmonics", "--rate", "44100"]) == 0
    assert "THD" in capsys.readouterr().out


def test_lab_rounds_as_a_print(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    noises = []
    for printed in ("float", "24-bit", "16-bit"):
        command = [
            "lab",
            str(recipe(tmp_path)),
            "harmonics",
            "--level",
            "-60",
            "--printed",
            printed,
        ]
        assert main([*command, "--json"]) == 0
        reported = json.loads(capsys.readouterr().out)
        noises += [f["value"] for f in reported["figures"] if f["label"].startswith("THD+N")]
    assert noises[0] < noises[1] - 20 < noises[2] - 40


def test_lab_sets_two_recipes_beside_each_other(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "other").mkdir()
    paths = [recipe(tmp_path, ratio=1), recipe(tmp_path / "other", ratio=1, makeup_db=3)]
    assert main(["lab", str(paths[0]), "difference", "--against", str(paths[1])]) == 0
    assert "louder by                      -3 dB" in capsys.readouterr().out


@pytest.mark.parametrize(
    ("more", "words"),
    [
        (["wobble"], "measurement"),
        (["harmonics", "--hz", "0"], "hz is 0"),
        (["harmonics", "--rate", "8000"], "rate"),
        (["harmonics", "--level", "40"], "level_db"),
        (["harmonics", "--csv", "/nowhere/x.csv"], "was not written"),
    ],
)
def test_lab_refuses_in_one_sentence(
    tmp_path: Path, more: list[str], words: str, capsys: pytest.CaptureFixture[str]
) -> None:
    assert main(["lab", str(recipe(tmp_path)), *more]) == 2
    reported = capsys.readouterr().err
    assert words in reported
    assert reported.count("\n") == 1


def test_processors_tell_the_fields_of_a_band(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["processors"]) == 0
    lines = capsys.readouterr().out.splitlines()
    at = next(i for i, line in enumerate(lines) if line.startswith("  bands "))
    assert "up to 12 of:" in lines[at]
    assert lines[at + 1].startswith("    type ")


def test_compare(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """The outputs are equally loud by another program's meter, and none peaks over -1 dBTP."""
    source = tmp_path / "hits.wav"
    hits = noise(3 * 48000, 2) * (np.arange(3 * 48000) % 12000 < 3000)[:, None]
    soundfile.write(source, hits, 48000, subtype="FLOAT")
    (tmp_path / "b").mkdir()
    (tmp_path / "out").mkdir()
    first = recipe(tmp_path, threshold_db=-20)
    second = recipe(tmp_path / "b", threshold_db=-40, ratio=8, makeup_db=20)
    both = ["--recipe", str(first), "--recipe", str(second)]
    other = tmp_path / "other.wav"
    soundfile.write(other, noise(4 * 44100, 1, seed=9) * 0.9, 44100)
    both += ["--reference", str(other)]
    assert main(["compare", str(source), *both, "--out", str(tmp_path / "out"), "--json"]) == 0
    rows = json.loads(capsys.readouterr().out)
    assert [r["slot"] for r in rows] == ["in", "A", "B", "ref 1"]
    assert len(rows[2]["words"]) == 1
    levels = []
    for row in rows:
        sound, rate = soundfile.read(row["file"])
        levels.append(pyloudnorm.Meter(rate).integrated_loudness(sound))
        peak = np.abs(soxr.resample(sound, rate, 8 * rate, quality="VHQ")).max()
        assert 20 * np.log10(peak) <= -1 + 0.05
    assert np.ptp(levels) < 0.02
    assert len(list((tmp_path / "out").iterdir())) == 4
    assert main(["compare", str(source), *both]) == 0
    assert "threshold −40 dB instead of −20 dB" in capsys.readouterr().out
    assert main(["compare", str(source), *both, "--out", str(tmp_path / "none")]) == 2
    assert "no such folder" in capsys.readouterr().err
    # A key that no recipe listens to is not passed over.
    assert main(["compare", str(source), *both, "--key", f"x={other}"]) == 2
    assert "no named inputs" in capsys.readouterr().err
    # Silence cannot be matched, and is not an error.
    soundfile.write(source, np.zeros((48000, 1)), 48000)
    assert main(["compare", str(source), *both]) == 0
    assert "–" in capsys.readouterr().out


@pytest.mark.parametrize("what", ["silence", "one frame", "not a number", "too loud"])
def test_a_report_is_strict_json(tmp_path: Path, what: str) -> None:
    """JSON knows no NaN and no Infinity (RFC 8259): what cannot be told is null."""
    sound = {
        "silence": np.zeros((9600, 2)),
        "one frame": np.full((1, 1), 0.5),
        "not a number": np.where(np.arange(9600) % 100 == 7, np.nan, 0.1)[:, None],
        "too loud": np.full((9600, 2), 1e30),
    }[what]
    soundfile.write(tmp_path / "in.wav", sound, 48000, subtype="FLOAT")
    chain = [{"id": "c", "kind": "compressor"}, {"id": "g", "kind": "gate"}, {"kind": "limiter"}]
    recipe = {"format": "salt-anvil/recipe", "version": 1, "name": "r", "chain": chain}
    (tmp_path / "r.json").write_text(json.dumps(recipe))
    report = tmp_path / "report.json"
    assert main(["process", str(tmp_path / "in.wav"), str(tmp_path / "out.wav"),
                 "--recipe", str(tmp_path / "r.json"), "--report", str(report)]) == 0  # fmt: skip

    def refuse(constant: str) -> None:
        raise AssertionError(constant)

    told = json.loads(report.read_text(), parse_constant=refuse)
    assert told["out"] is not None
