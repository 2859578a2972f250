"""The main job without a browser: one file through one recipe, in constant memory."""

import json
import os
from collections.abc import Callable
from concurrent.futures import Future, ProcessPoolExecutor, ThreadPoolExecutor, as_completed
from dataclasses import asdict
from functools import partial
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import numpy as np

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.delivery.dither import Dither
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import FileError, SaltAnvilError
from salt_anvil.core.measure.joins import measure_joins
from salt_anvil.core.measure.reduction import reduction_figures
from salt_anvil.core.measure.rows import RowMeter, figures
from salt_anvil.core.recipe import Recipe, inputs_of, read_recipe, recipe_session
from salt_anvil.core.session import Session, elements
from salt_anvil.files.places import make_folder
from salt_anvil.files.read import AudioInfo, SoundReader
from salt_anvil.files.sequence import Sequences
from salt_anvil.files.write import PrintFormat, SoundWriter, format_of
from salt_anvil.kernels.parent import keep_memory

AT_ONCE = 32
"""Blocks that are computed, then written, in one go."""


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
        for stage, reported in cells.items():
            if "reduction_db" in reported:
                self._cells.setdefault(stage, []).append(reported["reduction_db"])

    def report(self) -> dict[str, Any]:
        reported = [
            asdict(figures(np.concatenate([*rows, meter.flush()])))
            for meter, rows in zip(self._sides, self._rows, strict=True)
        ]
        stages = {
            stage: asdict(reduction_figures(np.concatenate(cells)))
            for stage, cells in self._cells.items()
        }
        return {"in": reported[0], "out": reported[1], "reduction": stages}


def key_files(recipe: Recipe, given: list[str]) -> dict[str, Path]:
    """Return the file of every named input of a recipe; given: "NAME=FILE" or "FILE".

    Raises:
        FileError: a name is missing, unknown or given twice.
    """
    wanted = inputs_of(recipe)
    if given and not wanted:
        raise FileError(f"--key {given[0]}: this recipe has no named inputs")
    found: dict[str, Path] = {}
    for text in given:
        name, equals, path = text.partition("=")
        if not equals or name not in wanted:
            if len(wanted) != 1 or (equals and not Path(text).exists()):
                known = ", ".join(wanted) or "none"
                raise FileError(f"--key {text}: the recipe's named inputs are: {known}")
            name, path = wanted[0], text
        if name in found:
            raise FileError(f"--key {text}: {name} was given before")
        found[name] = Path(path)
    for name in wanted:
        if name not in found:
            raise FileError(f"the recipe listens to “{name}”; give it with --key {name}=FILE")
    return found


def file_session(
    source: Path, recipe: Recipe, keys: dict[str, Path]
) -> tuple[dict[str, Path], Session]:
    """Return the files by the names of their audio, and the session that runs them.

    Raises:
        FileError: a file cannot be read.
    """
    paths = {"in": source} | {f"key:{name}": path for name, path in keys.items()}
    infos = {}
    for name, path in paths.items():
        with SoundReader(path) as reader:
            infos[name] = reader.info
    info = infos["in"]
    channels = {n.removeprefix("key:"): i.channels for n, i in infos.items() if n != "in"}
    mono = info.channels == 1
    return paths, recipe_session(recipe, info.rate, 1 if mono else 2, info.frames, channels)


def process_file(
    source: Path,
    target: Path,
    recipe: Recipe,
    format: PrintFormat,
    *,
    keys: dict[str, Path] | None = None,
    dither: Dither = "tpdf",
    measured: bool = True,
    progress: Callable[[float], None] = lambda share: None,
) -> dict[str, Any]:
    """Run a file through a recipe and return the report; the latency is taken out.

    keys: the files of the recipe's named inputs; another rate is converted. measured: with the
    levels of both sides and the reduction of every stage, which takes longer.

    Raises:
        FileError: a file cannot be read or written; no output is left behind.
        CoreError: the recipe cannot be run.
    """
    keep_memory()
    with SoundReader(source) as reader:
        info = reader.info
    paths, session = file_session(source, recipe, keys or {})
    blends: dict[str, JoinMeasurement] = {}
    opened: list[Sequences] = []

    def again() -> Sequences:
        opened.append(Sequences(paths, info.rate))
        return opened[-1]

    try:
        scans: dict[str, Any] = {}
        if any(e.kind == "tamer" for e in elements(recipe.chain)):
            from salt_anvil.jobs.scan import with_scans  # takes a while to import

            session, scans = with_scans(session, again())
        measure_joins(session, again, blends.get, blends.__setitem__)
        plan = make_plan(session, measured=blends.get)
        mixer = Mixer(plan, again(), tapped=measured, told=measured)
        meters = _Meters(info.rate, info.channels) if measured else None
        writer = SoundWriter(
            target,
            format,
            rate=info.rate,
            channels=info.channels,
            frames=info.frames,
            dither=dither,
        )
        return _run(mixer, info, recipe, writer, meters, progress) | {"scans": scans}
    finally:
        for item in opened:
            item.close()


def process_files(
    sources: list[Path],
    folder: Path,
    recipe: Recipe,
    *,
    keys: dict[str, Path] | None = None,
    width: str | None = None,
    dither: Dither = "tpdf",
    measured: bool = True,
    progress: Callable[[float], None] = lambda share: None,
) -> tuple[dict[str, dict[str, Any]], list[str]]:
    """Run files through a recipe into a folder, as many at once as there are cores.

    Each keeps its name, and its format where that can be written (WAV otherwise). Returns the
    reports by file name, and in words what could not be done: the other files are.

    Raises:
        FileError: the folder cannot be used, or two files would be one.
    """
    targets = {source: folder / _target_name(source, width) for source in sources}
    names = [target.name for target in targets.values()]
    for source, target in targets.items():
        if names.count(target.name) > 1:
            raise FileError(f"{target.name} would be written twice: give the files other names")
        if target.exists() and target.samefile(source):
            raise FileError(f"{target} is the input; give another folder")
    make_folder(folder)
    reports: dict[str, dict[str, Any]] = {}
    problems: list[str] = []
    run = partial(process_file, recipe=recipe, keys=keys, dither=dither, measured=measured)
    context = get_context("forkserver")
    context.set_forkserver_preload([__name__])  # imported once for all of them
    with ProcessPoolExecutor(os.cpu_count(), context) as pool:
        going = {
            pool.submit(run, source, target, format=format_of(target, width)): target
            for source, target in targets.items()
        }
        for done, future in enumerate(as_completed(going), 1):
            try:
                reports[going[future].name] = future.result()
            except SaltAnvilError as error:
                problems.append(str(error))
            progress(done / len(going))
    return reports, problems


def _target_name(source: Path, width: str | None) -> str:
    try:
        format_of(source, width)
    except FileError:
        return f"{source.stem}.wav"
    return source.name


def _run(
    mixer: Mixer,
    info: AudioInfo,
    recipe: Recipe,
    writer: SoundWriter,
    meters: _Meters | None,
    progress: Callable[[float], None],
) -> dict[str, Any]:
    """Take the file through the mixer; what is done is written while the next is computed."""
    blocks = -(-info.frames // BLOCK)
    mixer.foresee(blocks)
    with writer, ThreadPoolExecutor(1) as beside:
        pending: Future[None] | None = None
        for first in range(0, blocks, AT_ONCE):
            block = mixer.chunk("in", min(AT_ONCE, blocks - first))
            left = info.frames - first * BLOCK
            if meters is not None:
                meters.feed(block.taps["chain"][0][:left], block.out[:left], block.cells)
            if pending is not None:
                pending.result()
            pending = beside.submit(writer.write, block.out[:left])
            progress(min((first + AT_ONCE) / blocks, 1.0))
        if pending is not None:
            pending.result()
    return {
        "recipe": recipe.name, "rate": info.rate, "frames": info.frames,
        "latency": mixer.plan.strip("in").latency,
        "nonfinite_samples_replaced": mixer.runner("in").nonfinite,
        "clipped_samples": writer.clipped, **(meters.report() if meters else {}),
        "joins": {
            j.name: j.measured.figures() for j in mixer.plan.strip("in").joins if j.measured
        },
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
