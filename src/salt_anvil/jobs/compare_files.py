"""A file through several recipes, side by side: figures, words, outputs at the same loudness."""

import string
import tempfile
from collections.abc import Callable
from dataclasses import asdict, dataclass
from functools import partial
from pathlib import Path

from salt_anvil.core.differences import chain_differences
from salt_anvil.core.errors import FileError
from salt_anvil.core.measure.matching import equal_loudness
from salt_anvil.core.measure.rows import Figures
from salt_anvil.core.recipe import Recipe, inputs_of
from salt_anvil.files.read import SoundReader
from salt_anvil.files.write import SoundWriter
from salt_anvil.jobs.process_file import key_files, measure_file, process_file

PIECE = 65_536
MOST_RECIPES = 25


@dataclass(frozen=True)
class ComparedFile:
    """What can be heard, as it is named: "in", a letter, or "ref 1".

    words: in what it differs from A. plays_db: its gain at the same loudness (None: silent). file:
    where it was written so.
    """

    slot: str
    name: str
    words: list[str]
    figures: Figures
    plays_db: float | None
    file: str | None = None

    def plain(self) -> dict[str, object]:
        """Return it as JSON has it."""
        return asdict(self)


def compare_files(
    source: Path,
    recipes: list[Recipe],
    keys: list[str],
    references: list[Path],
    out: Path | None = None,
    progress: Callable[[float], None] = lambda share: None,
) -> list[ComparedFile]:
    """Run a file through each recipe and return the input, the outputs and references, measured.

    keys: as for `key_files`. out: the folder for 32-bit float files at the same loudness; what is
    silent is not written.

    Raises:
        FileError: a file cannot be read or written, or there are too many recipes.
        CoreError: a recipe cannot be run.
    """
    if len(recipes) > MOST_RECIPES:
        raise FileError(f"{len(recipes)} recipes: {MOST_RECIPES} at most can be compared")
    if out is not None and not out.is_dir():
        raise FileError(f"{out}: there is no such folder")
    with tempfile.TemporaryDirectory(dir=out) as folder:
        paths, measured = [source], list[Figures]()
        for index, recipe in enumerate(recipes):
            paths.append(Path(folder) / f"{index}.wav")
            report = process_file(
                source,
                paths[-1],
                recipe,
                "wav-32f",
                keys=_keys_of(recipe, recipes, keys),
                progress=partial(_part_done, progress, index, len(recipes)),
            )
            if not measured:
                measured.append(Figures(**report["in"]))
            measured.append(Figures(**report["out"]))
        for path in references:
            paths.append(path)
            measured.append(_measured(path))
        gains, _ = equal_loudness(measured)
        found = []
        for index, (path, figures, gain) in enumerate(zip(paths, measured, gains, strict=True)):
            slot, name, words = "in", path.name, list[str]()
            if index > len(recipes):
                slot = f"ref {index - len(recipes)}"
            elif index:
                recipe = recipes[index - 1]
                slot, name = string.ascii_uppercase[index - 1], recipe.name
                words = chain_differences(recipe.chain, recipes[0].chain) if index > 1 else []
            target = None
            if out is not None and gain is not None:
                target = out / f"{source.stem} {slot}.wav"
                _levelled(path, target, gain)
            found.append(
                ComparedFile(slot, name, words, figures, gain, str(target) if target else None)
            )
    return found


def _keys_of(recipe: Recipe, recipes: list[Recipe], keys: list[str]) -> dict[str, Path]:
    """Return a recipe's key files; what is named for another one is not meant for it."""
    own = inputs_of(recipe)
    others = {name for r in recipes for name in inputs_of(r)} - set(own)
    if not own and others:
        return {}
    return key_files(recipe, [k for k in keys if k.partition("=")[0] not in others])


def _measured(path: Path) -> Figures:
    found = measure_file(path)
    return Figures(**{name: found[name] for name in Figures.__dataclass_fields__})


def _part_done(progress: Callable[[float], None], done: int, of: int, share: float) -> None:
    progress((done + share) / of)


def _levelled(path: Path, target: Path, gain_db: float) -> None:
    with SoundReader(path) as reader:
        info = reader.info
        with SoundWriter(
            target, "wav-32f", rate=info.rate, channels=info.channels, frames=info.frames
        ) as writer:
            while len(block := reader.read(PIECE)):
                writer.write(block * 10 ** (gain_db / 20))
