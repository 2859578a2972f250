"""Files read once from the front: any piece lengths, other rates, silence behind the end."""

from pathlib import Path

import numpy as np
import pytest
import soundfile
import soxr

from salt_anvil.core.errors import FileError
from salt_anvil.files.sequence import Sequence, Sequences
from tests.conftest import noise, sine


def written(path: Path, sound: np.ndarray, rate: int = 48000) -> Path:
    soundfile.write(path, sound, rate, subtype="FLOAT")
    return path


@pytest.mark.parametrize("pieces", [[1024] * 60, [1, 7, 40_000, 3, 20_000]])
def test_pieces_add_up_to_the_file(tmp_path: Path, pieces: list[int]) -> None:
    sound = noise(50_000).astype(np.float32)
    reader = Sequence(written(tmp_path / "a.wav", sound), 48000)
    found = np.concatenate([reader.read(n) for n in pieces])
    reader.close()
    assert (found[:50_000] == sound).all()
    assert (found[50_000:] == 0).all()
    assert len(found) == sum(pieces)


def test_another_rate_is_converted_as_a_whole_would_be(tmp_path: Path) -> None:
    sound = sine(1000, 2.0, 44100, channels=1) * 0.5
    reader = Sequence(written(tmp_path / "a.wav", sound, 44100), 48000)
    found = np.concatenate([reader.read(1024) for _ in range(90)])
    reader.close()
    whole = soxr.resample(sound.astype(np.float32).astype(np.float64), 44100, 48000, "VHQ")
    assert np.abs(found[: len(whole)] - whole[: len(found)]).max() < 1e-6


def test_one_bad_file_leaves_none_open(tmp_path: Path) -> None:
    good = written(tmp_path / "good.wav", noise(100))
    with pytest.raises(FileError, match="there is no such file"):
        Sequences({"in": good, "key:x": tmp_path / "nowhere.wav"}, 48000)
    held = [
        link
        for fd in Path("/proc/self/fd").iterdir()
        if fd.exists()
        for link in [str(fd.resolve())]
        if link == str(good.resolve())
    ]
    assert held == []


def test_several_files_go_on_by_themselves(tmp_path: Path) -> None:
    sounds = {n: noise(5000, 1, seed=i).astype(np.float32) for i, n in enumerate("ab")}
    paths = {n: written(tmp_path / f"{n}.wav", s) for n, s in sounds.items()}
    files = Sequences(paths, 48000)
    first = [files("a", 0, 1000), files("b", 0, 3000), files("a", 1000, 4000)]
    files.close()
    assert (np.concatenate([first[0], first[2]]) == sounds["a"]).all()
    assert (first[1] == sounds["b"][:3000]).all()
