"""The scan's table: constructed beds with resonances put in, found or not, and what was not there.

python -m bench.resonances [CASES]: so many of each (28), on two processes.
"""

import sys
import time
from concurrent.futures import ProcessPoolExecutor
from typing import Any, NamedTuple

import numpy as np
from tests.core.resonances import beds
from tests.core.resonances.beds import RATE

from salt_anvil.core.resonances.scan import scan

SIX = 6
"""On lines only resonances that so many different notes pass through count."""


class Row(NamedTuple):
    """A kind of bed: how it is made, and whether its resonances move; None: none are put in."""

    words: str
    bed: str
    more: dict[str, Any]
    moving: bool | None
    lines: bool = False


ROWS = [
    Row("pink noise", "pink", {}, False),
    Row("pink noise, moving", "pink", {}, True),
    Row("drums", "drums", {}, False),
    Row("drums, moving", "drums", {}, True),
    Row("melody", "melody", {}, False, True),
    Row("melody with vibrato", "melody", {"vibrato": 0.3}, False, True),
    Row("speech-like, 10 s", "speech", {}, False, True),
    Row("speech-like, 20 s", "speech", {"seconds": 20.0}, False, True),
    Row("clean pink noise", "pink", {}, None),
    Row("clean drums", "drums", {}, None),
    Row("clean steady tones", "tones", {}, None),
    Row("clean melody", "melody", {}, None),
    Row("clean melody, vibrato", "melody", {"vibrato": 0.4}, None),
    Row("clean chords", "chords", {"held": 8}, None),
    Row("clean chords, vibrato", "chords", {"vibrato": 0.4, "held": 8}, None),
    Row("one chord", "chords", {"held": 1}, None),
    Row("one chord, vibrato", "chords", {"held": 1, "vibrato": 0.4}, None),
    Row("clean speech-like", "speech", {}, None),
    Row("dense mix (reported only)", "mix", {}, None),
]


def one(task: tuple[Row, int]) -> tuple[int, int, int, int, bool, float]:
    """Return how many count, how many of them are found, all found, false ones, can tell, s."""
    row, seed = task
    clean = row.moving is None
    bed = getattr(beds, row.bed)(seed + 100 * clean, **row.more)
    put_in = [] if row.moving is None else beds.rings(seed, moving=row.moving)
    sound = beds.ringing(bed.sound, put_in)
    began = time.perf_counter()
    found = scan(sound[:, None], RATE)
    took = time.perf_counter() - began
    counts = hits = 0
    known: set[float] = set()
    for ring in put_in:
        near = [
            r.hz for r in found.found if abs(np.log2(r.hz / ring.hz)) <= 1 / 6 + ring.octaves / 2
        ]
        known.update(near)
        if not row.lines or beds.excited(ring, bed.notes) >= SIX:
            counts += 1
            hits += bool(near)
    false = sum(r.hz not in known for r in found.found)
    return counts, hits, len(known), false, found.can_tell, took


def main() -> None:
    """Print the table."""
    cases = int(sys.argv[1]) if len(sys.argv) > 1 else 28
    print(
        f"{'bed':28} {'count':>6} {'found':>6} {'%':>5} {'false':>6} {'cannot tell':>12} {'s':>5}"
    )
    with ProcessPoolExecutor(2) as pool:
        for row in ROWS:
            got = list(pool.map(one, [(row, seed) for seed in range(cases)]))
            counts, hits = sum(g[0] for g in got), sum(g[1] for g in got)
            share = f"{100 * hits / counts:.0f}" if counts else "-"
            silent = sum(not g[4] for g in got)
            median = float(np.median([g[5] for g in got]))
            print(
                f"{row.words:28} {counts:6} {hits:6} {share:>5} {sum(g[3] for g in got):6}"
                f" {silent:9}/{cases} {median:5.1f}",
                flush=True,
            )


if __name__ == "__main__":
    main()
