"""Decoded sound as a file that a browser plays by itself, and what it measures."""

from pathlib import Path

import numpy as np

from salt_anvil.core.measure.rows import Figures, RowMeter, figures
from salt_anvil.files.media import MediaFolder
from salt_anvil.files.places import make_folder
from salt_anvil.files.write import SoundWriter

PIECE = 65_536


def playable(media: MediaFolder, name: str, folder: Path) -> tuple[Path, Figures]:
    """Write a medium as a float WAV into a folder, unless it is there; return it and its figures.

    Raises:
        FileError: it cannot be read or written.
    """
    about = media.media(name)
    read = media.source()
    make_folder(folder)
    path = folder / f"{name}.wav"
    meter = RowMeter(about.rate, about.channels)
    rows = []
    with SoundWriter(
        path, "wav-32f", rate=about.rate, channels=about.channels, frames=about.frames
    ) as writer:
        for at in range(0, about.frames, PIECE):
            sound = read(name, at, min(PIECE, about.frames - at))
            rows.append(meter.feed(sound))
            writer.write(np.asarray(sound))
    return path, figures(np.concatenate([*rows, meter.flush()]))
