"""Our commands beside compiled C: FFmpeg's command line, where it is installed, in the same run."""

import json
import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

RATE, LONG_S, SHORT_S, ROUNDS = 48000, 61, 1, 5
FOUR_BELLS = [{"hz": hz, "gain_db": 3.0, "q": 1.0} for hz in (100, 500, 2000, 8000)]
CASES: dict[str, tuple[list[dict[str, Any]] | None, str]] = {
    "compressor": (
        [{"kind": "compressor", "params": {"threshold_db": -20, "ratio": 4}}],
        "acompressor=threshold=0.1:ratio=4:attack=10:release=120",
    ),
    "tone, 4 bells": (
        [{"kind": "tone", "params": {"bands": FOUR_BELLS}}],
        ",".join(f"equalizer=f={b['hz']}:t=q:w=1:g=3" for b in FOUR_BELLS),
    ),
    "limiter, 12 dB over": (
        [{"kind": "limiter", "params": {"drive_db": 12, "ceiling_db": -1}}],
        "alimiter=level_in=4:limit=0.89:attack=5:release=60:level=disabled",
    ),
    # Theirs looks at samples alone; so does this.
    "the same by samples": (
        [{"kind": "limiter", "params": {"drive_db": 12, "ceiling_db": -1, "true_peak": False}}],
        "alimiter=level_in=4:limit=0.89:attack=5:release=60:level=disabled",
    ),
    "gate": (
        [{"kind": "gate", "params": {"threshold_db": -20}}],
        "agate=threshold=0.1:attack=1:release=120",
    ),
    "measure": (None, "ebur128=peak=sample+true"),
}
"""Our chain, or None for measuring, and the nearest filter."""


def measure_beside() -> dict[str, Any]:
    """Return by how many times ours is as fast: start-up taken out, wall time and processor time.

    Empty where FFmpeg is not installed.
    """
    if shutil.which("ffmpeg") is None:
        return {}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        noise = np.random.default_rng(1).standard_normal((LONG_S * RATE, 2)) * 0.2
        for seconds, file in ((LONG_S, "long.wav"), (SHORT_S, "short.wav")):
            soundfile.write(folder / file, noise[: seconds * RATE], RATE, subtype="FLOAT")
        return {case: _case(folder, *CASES[case]) for case in CASES}


def _case(folder: Path, chain: list[dict[str, Any]] | None, filter_: str) -> dict[str, float]:
    recipe = folder / "recipe.json"
    form = {"format": "salt-anvil/recipe", "version": 1, "chain": chain or []}
    recipe.write_text(json.dumps(form))

    def ours(source: Path) -> list[str]:
        program = [sys.executable, "-m", "salt_anvil"]
        if chain is None:
            return [*program, "measure", str(source)]
        return [*program, "process", str(source), str(folder / "ours.wav"), "--recipe",
                str(recipe), "--width", "32f"]  # fmt: skip

    def theirs(source: Path) -> list[str]:
        out = ["-f", "null", "-"] if chain is None else ["-c:a", "pcm_f32le", "-y",
                                                        str(folder / "theirs.wav")]  # fmt: skip
        return ["ffmpeg", "-v", "error", "-nostdin", "-i", str(source), "-af", filter_, *out]

    found: dict[str, list[tuple[float, float]]] = {}
    for _ in range(ROUNDS):
        for name, command in (("ours", ours), ("theirs", theirs)):
            for file in ("short", "long"):
                took = _timed(command(folder / f"{file}.wav"))
                found.setdefault(f"{name} {file}", []).append(took)
    wall, busy = (
        {name: statistics.median(t[i] for t in times) for name, times in found.items()}
        for i in range(2)
    )
    return {
        "wall": _ratio(wall),
        "processor": _ratio(busy),
        "start_s": wall["ours short"],
        "times_real": (LONG_S - SHORT_S) / max(wall["ours long"] - wall["ours short"], 1e-3),
    }


def _ratio(took: dict[str, float]) -> float:
    mine = max(took["ours long"] - took["ours short"], 1e-3)
    return (took["theirs long"] - took["theirs short"]) / mine


def _timed(command: list[str]) -> tuple[float, float]:
    before, start = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    wall, after = time.perf_counter() - start, resource.getrusage(resource.RUSAGE_CHILDREN)
    return wall, after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def lines(found: dict[str, Any]) -> list[str]:
    """Return the figures as lines of text."""
    if not found:
        return []
    head = f"{'beside FFmpeg, start-up taken out':34} {'wall':>8} {'processor':>10} {'x real':>8}"
    rows = [
        f"  {case:32} {row['wall']:8.2f} {row['processor']:10.2f} {row['times_real']:8.0f}"
        for case, row in found.items()
    ]
    start = statistics.median(row["start_s"] for row in found.values())
    return ["", head, *rows, f"  a command over {SHORT_S} s of sound takes {start:.2f} s"]
