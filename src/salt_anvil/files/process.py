"""The main job without a browser: one file through one recipe, in constant memory."""

import json
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from salt_anvil.core.dsp.gate import BLOCK, Sound
from salt_anvil.core.engine.strip import StripRunner
from salt_anvil.core.measure.reduction import reduction_figures
from salt_anvil.core.measure.rows import RowMeter, figures
from salt_anvil.core.recipe import Recipe, plan_recipe, read_recipe
from salt_anvil.files.errors import FileError
from salt_anvil.files.read import SoundReader
from salt_anvil.files.write import PrintFormat, SoundWriter


def load_recipe(path: Path) -> Recipe:
    """Return the recipe in a file.

    Raises:
        FileError: there is no such file, or it is not JSON.
        SettingError: it is not a recipe.
    """
    try:
        data = json.loads(path.read_text())
    except FileNotFoundError:
        raise FileError(f"{path}: there is no such recipe") from None
    except (json.JSONDecodeError, UnicodeDecodeError) as error:
        where = f" (line {error.lineno})" if isinstance(error, json.JSONDecodeError) else ""
        raise FileError(f"{path} is not JSON{where}") from None
    return read_recipe(data)


class _Meters:
    """Levels of both sides and the reduction of every stage, for the report."""

    def __init__(self, rate: int, channels: int) -> None:
        self._sides = [RowMeter(rate, channels), RowMeter(rate, channels)]
        self._rows: list[list[Sound]] = [[], []]
        self._cells: dict[str, list[Sound]] = {}

    def feed(self, before: Sound, after: Sound, cells: dict[str, dict[str, Sound]]) -> None:
        for meter, rows, sound in zip(self._sides, self._rows, (before, after), strict=True):
            rows.append(meter.feed(sound))
        for stage, told in cells.items():
            if "reduction_db" in told:
                self._cells.setdefault(stage, []).append(told["reduction_db"])

    def report(self) -> dict[str, Any]:
        told = [
            asdict(figures(np.concatenate([*rows, meter.flush()])))
            for meter, rows in zip(self._sides, self._rows, strict=True)
        ]
        stages = {
            stage: asdict(reduction_figures(np.concatenate(cells)))
            for stage, cells in self._cells.items()
        }
        return {"in": told[0], "out": told[1], "reduction": stages}


def process_file(
    source: Path,
    target: Path,
    recipe: Recipe,
    format: PrintFormat,
    *,
    dither: bool = True,
    progress: Callable[[float], None] = lambda share: None,
) -> dict[str, Any]:
    """Run a file through a recipe and return the report; the latency is taken out.

    Raises:
        FileError: a file cannot be read or written; no output is left behind.
        CoreError: the recipe cannot be run.
    """
    with SoundReader(source) as reader:
        info = reader.info
        plan = plan_recipe(recipe, info.rate, 1 if info.channels == 1 else 2, info.frames)
        meters = _Meters(info.rate, info.channels)
        waiting: list[Sound] = []

        def read(block: int) -> Sound:
            sound = reader.read(BLOCK)
            waiting.append(sound)
            return np.concatenate([sound, np.zeros((BLOCK - len(sound), info.channels))])

        runner = StripRunner(plan, read)
        with SoundWriter(
            target, format, rate=info.rate, channels=info.channels, frames=info.frames,
            dither=dither,
        ) as writer:  # fmt: skip
            for at in range(0, info.frames, BLOCK):
                block = runner.block()
                out = block.out[: info.frames - at]
                writer.write(out)
                meters.feed(waiting.pop(0), out, block.cells)
                progress(min((at + BLOCK) / info.frames, 1.0))
    nonfinite = sum(unit.nonfinite for unit in runner.units)
    return {
        "recipe": recipe.name, "rate": info.rate, "frames": info.frames,
        "latency": plan.latency, "nonfinite_samples_replaced": nonfinite,
        "clipped_samples": writer.clipped, **meters.report(),
    }  # fmt: skip


def measure_file(path: Path) -> dict[str, Any]:
    """Return a file's figures.

    Raises:
        FileError: it cannot be read.
    """
    with SoundReader(path) as reader:
        info = reader.info
        meter = RowMeter(info.rate, info.channels)
        rows = []
        while len(block := reader.read(65536)):
            rows.append(meter.feed(block))
        rows.append(meter.flush())
    return {**asdict(info), **asdict(figures(np.concatenate(rows))), "nonfinite": meter.bad}
