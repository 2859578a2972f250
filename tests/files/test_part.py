"""A file is written by one run at a time, whole or not at all."""

import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile

from salt_anvil.core.errors import FileError
from salt_anvil.files.part import Part, part_of
from salt_anvil.files.write import SoundWriter
from tests.conftest import noise

KILLED = """
import sys, time
from pathlib import Path
from salt_anvil.files.part import Part
part = Part(Path(sys.argv[1]))
part.path.write_bytes(b"half of a file")
print("held", flush=True)
time.sleep(600)
"""


def writer(path: Path) -> SoundWriter:
    return SoundWriter(path, "wav-24", rate=48000, channels=1, frames=4800)


def test_two_runs_do_not_write_into_one_file(tmp_path: Path) -> None:
    target = tmp_path / "out.wav"
    sound = noise(4800, 1) * 0.1
    with writer(target) as first:
        first.write(sound[:2400])
        with pytest.raises(FileError, match="being written by another run"):
            writer(target)
        first.write(sound[2400:])
    assert np.abs(soundfile.read(target)[0] - sound[:, 0]).max() < 2**-22
    # The one that was refused has taken nothing away, and the next may write.
    with writer(target) as second:
        second.write(sound * 0.5)
    assert np.abs(soundfile.read(target)[0] - 0.5 * sound[:, 0]).max() < 2**-22
    assert [p.name for p in tmp_path.iterdir()] == ["out.wav"]


def test_what_a_killed_run_has_left_is_written_over(tmp_path: Path) -> None:
    target = tmp_path / "out.wav"
    words = [sys.executable, "-c", KILLED, str(target)]
    run = subprocess.Popen(words, stdout=subprocess.PIPE)
    assert run.stdout is not None
    assert run.stdout.readline() == b"held\n"
    with pytest.raises(FileError, match="being written by another run"):
        writer(target)
    run.kill()
    run.wait()
    run.stdout.close()
    assert part_of(target).read_bytes() == b"half of a file"
    with writer(target) as after:
        after.write(noise(4800, 1) * 0.1)
    assert soundfile.info(target).frames == 4800
    assert not part_of(target).exists()


def test_what_goes_wrong_leaves_nothing_and_the_old_file(tmp_path: Path) -> None:
    target = tmp_path / "out.txt"
    target.write_text("old")
    with pytest.raises(ValueError, match="wrong"), Part(target) as part:
        part.path.write_text("new")
        raise ValueError("wrong")
    assert target.read_text() == "old"
    assert [p.name for p in tmp_path.iterdir()] == ["out.txt"]
    with Part(target) as part:
        part.path.write_text("new")
    assert target.read_text() == "new"
