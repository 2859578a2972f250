"""`python -m bench.comparing [FOLDER]`: same loudness and aim in figures, on the demo's strips.

The loudness of what is compared is measured anew, from the sound and by another meter (pyloudnorm).
With a folder: same loudness on the recordings in it, each behind a compressor and a limiter.
"""

import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
import pyloudnorm
from scipy.signal import resample_poly

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.cached_strips import CachedStrips
from salt_anvil.analysis.comparison import comparison
from salt_anvil.analysis.pictures import Viewer
from salt_anvil.analysis.strip_pass import analyse, join_measurements
from salt_anvil.core.aim import Aim, Wish
from salt_anvil.core.edits import ChooseSettings, SetParams, apply_edits
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import FileError
from salt_anvil.core.session import Extent, Session, Slot, Stage, checked, elements
from salt_anvil.demo.install import install_demo
from salt_anvil.files.media import MediaFolder
from salt_anvil.jobs.aim import run_aim
from salt_anvil.jobs.print_command import find_session
from salt_anvil.jobs.render import blocks
from salt_anvil.kernels.cache import sources_digest

RATE = 48000
OVER = 8
"""So many values for each of the sound's, when its true peak is looked for."""
REDUCES = {"compressor": "threshold_db", "limiter": "drive_db", "deesser": "threshold_db"}


class Bench:
    """A session in a folder, analysed as it is needed."""

    def __init__(self, data: Path, session: Session) -> None:
        self.data, self.code, self.session = data, sources_digest(), session
        self.cache = StripCache(data / "cache")
        self.source = MediaFolder(data / "media").source()

    def analysed(self, session: Session, strip: str | None = None) -> Viewer:
        """Return the figures of a session once they are measured."""
        analyse(session, self.code, self.source, self.cache, strip,
                lambda *_: True, alone=strip is not None)  # fmt: skip
        measured = join_measurements(self.cache, self.code)
        plan = make_plan(session, observe_all=True, measured=measured)
        return Viewer(session, plan, self.code, self.cache)

    def heard(self, session: Session, strip: str) -> tuple[float, float]:
        """Return the loudness (pyloudnorm) and the true peak (scipy) behind a strip's chain."""
        measured = join_measurements(self.cache, self.code)
        plan = make_plan(session, measured=measured)
        frozen = CachedStrips(self.cache, self.code)(plan)
        found = []
        for low, high, block in blocks(
            plan, self.source, 0, session.frames(), strip=strip, frozen=frozen
        ):
            found.append(block.strips[strip].out[low:high])
        sound = np.concatenate(found)
        loudness = float(pyloudnorm.Meter(session.rate).integrated_loudness(sound))
        peak = np.abs(resample_poly(sound, OVER, 1)).max()
        return loudness, 20 * float(np.log10(peak))


def same_loudness(bench: Bench) -> None:
    """Print for each strip what plays at what gain, and how far apart they are after it."""
    print("same loudness, whole song: gains of A and B in dB, what is left between them in LU,")
    print("the highest true peak of the two as they are heard in dBTP (limit -1)")
    for strip in bench.session.strips:
        stages = [e for e in elements(strip.chain) if isinstance(e, Stage) and e.on]
        moved = [s for s in stages if s.kind in REDUCES]
        if not moved:
            continue
        extent = Extent(kind="chain", owner=strip.id)
        change = [
            SetParams(
                stage=s.id,
                params={REDUCES[s.kind]: 8.0 if s.kind == "limiter" else -36.0},
            )
            for s in moved
        ]
        other = apply_edits(bench.session, [ChooseSettings(extent=extent, slot="B"), *change])[0]
        viewers = {None: bench.analysed(other, strip.id)}
        viewers["A"] = bench.analysed(bench.session, strip.id)

        def viewer_of(slot: Slot | None, known: dict = viewers) -> Viewer:  # type: ignore[type-arg]
            return known[slot]

        span = (0, other.frames())
        rows = comparison(other, extent, "A", viewer_of, "chain", False, span).rows
        plays = {r.slot: r.plays_db or 0.0 for r in rows}
        heard = {"A": bench.heard(bench.session, strip.id), "B": bench.heard(other, strip.id)}
        left = heard["A"][0] + plays["A"] - heard["B"][0] - plays["B"]
        peak = max(heard[slot][1] + plays[slot] for slot in heard)
        print(f"  {strip.name:16} {plays['A']:7.2f} {plays['B']:7.2f} {left:7.3f} {peak:7.2f}")


def aims(bench: Bench) -> None:
    """Print what was wanted and found in the Reel, how often it was tried, how long it took."""
    bench.analysed(bench.session)
    print("aim: 4 dB at 95 % in the Reel: value, got, tries, seconds")
    begin, end = next((a, b) for n, a, b in bench.session.section_spans() if n == "Reel")
    rate = bench.session.rate
    for strip in bench.session.strips:
        for stage in elements(strip.chain):
            control = REDUCES.get(stage.kind)
            if control is None:
                continue
            aim = Aim(stage=stage.id, control=control, wish=Wish(what="reduction", wanted=4),
                      begin=round(begin * rate), end=round(end * rate))  # fmt: skip
            start = time.monotonic()
            found = run_aim(bench.data, bench.session.model_dump(), aim, lambda *_: None)
            took = time.monotonic() - start
            got = "none" if found.got is None else f"{found.got:.2f}"
            said = found.problem or ""
            print(
                f"  {strip.name:16} {stage.kind:10} {control:12} {found.value:7.2f} {got:>6}"
                f" {len(found.steps):3} {took:5.1f}  {said}"
            )


def recordings(data: Path, folder: Path) -> Session:
    """Return a session with a track for each file of a folder; what cannot be read is told."""
    strips: list[dict[str, Any]] = []
    for path in sorted(p for p in folder.iterdir() if p.is_file()):
        try:
            media = MediaFolder(data / "media").bring_in(path, path.name, RATE)
        except FileError as error:
            print(f"  {error}")
            continue
        name = f"track-{len(strips) + 1}"
        stages = [("compressor", {"threshold_db": -12.0}), ("limiter", {"drive_db": 0.0})]
        chain = [{"id": f"{name}-{kind}", "kind": kind, "params": p} for kind, p in stages]
        strips.append({
            "id": name, "name": path.stem[:16], "kind": "track", "audio": media.id,
            "channels": media.channels, "frames": media.frames, "output": "main", "chain": chain,
        })  # fmt: skip
    strips.append({"id": "main", "name": "Main bus", "kind": "main"})
    return checked(Session, {"name": folder.name, "rate": RATE, "strips": strips})


def main() -> None:
    """Print the tables."""
    with tempfile.TemporaryDirectory() as name:
        data = Path(name)
        if len(sys.argv) > 1:
            same_loudness(Bench(data, recordings(data, Path(sys.argv[1]))))
            return
        install_demo(data)
        demo = Bench(data, find_session(data, "1"))
        aims(demo)
        same_loudness(demo)


if __name__ == "__main__":
    main()
