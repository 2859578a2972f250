"""Proof on mixes of different density: what coding adds, the ceiling proposed, what is left then.

`python -m bench.proof [SECONDS]`: six mixes made here, pressed by our limiter to -0.1 dB; the ways
MP3 128, AAC 256, Opus 96 and 44.1 kHz with 16 bits. What is left is looked for by others: MP3 and
Opus decoded by libsndfile, peaks by Fourier interpolation. Then the time of a Proof of 4 minutes.
"""

import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
import soundfile
from scipy import signal

from salt_anvil.core.audio import Sound
from salt_anvil.core.delivery.targets import Target
from salt_anvil.core.delivery.ways import way_of
from salt_anvil.files.codecs import encode, pieces
from salt_anvil.jobs.proof import FileSubject, ProofRequest, Prover, limited

RATE = 48000
WAYS = ("44100:16", "mp3:128", "aac:256", "opus:96")
ANY = Target(name="Any")


def music(seconds: float, seed: int) -> Sound:
    """Chords, a bass and hits over noise, all invented here."""
    rng = np.random.default_rng(seed)
    at = np.arange(round(seconds * RATE)) / RATE
    sound = np.zeros((len(at), 2))
    for root in rng.choice([110, 130.8, 146.8, 164.8, 196, 220], 5):
        for harmonic in range(1, 9):
            pan = rng.uniform(0.3, 0.7)
            tone = np.sin(2 * np.pi * root * harmonic * at + rng.uniform(0, 6)) / harmonic**1.2
            sound += tone[:, None] * [1 - pan, pan] * 0.2
    beat = at % 0.5
    sound += (np.sin(2 * np.pi * 55 * beat) * np.exp(-9 * beat))[:, None]
    sound += rng.standard_normal(sound.shape) * (0.4 * np.exp(-25 * ((at + 0.25) % 0.5)))[:, None]
    return np.asarray(sound / np.abs(sound).max() * (0.7 + 0.3 * np.sin(at))[:, None])


def peak_db(path: Path) -> float:
    """Return the true peak of a file, by Fourier interpolation of pieces that overlap."""
    sound = soundfile.read(path, always_2d=True)[0]
    most, size = 0.0, 65536
    for begin in range(0, len(sound), size):
        piece = sound[max(begin - 2048, 0) : begin + size + 2048] * 1.0
        edge = min(1024, len(piece) // 4)
        fine = np.abs(signal.resample(piece, 8 * len(piece)))
        most = max(most, float(fine[8 * edge : len(fine) - 8 * edge].max(initial=0)))
    return 20 * float(np.log10(most))


def main() -> None:
    """Print the table."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 20.0
    ways = [way_of(name) for name in WAYS]
    head = "   ".join(f"{n:>10}" for n in WAYS)
    print(f"{'drive':>5} {'LUFS':>6}   {head}   ceiling  tries   then MP3, Opus by others     s")
    with tempfile.TemporaryDirectory() as name, ProcessPoolExecutor() as pool:
        folder = Path(name)
        (folder / "work").mkdir()
        raw, mix = folder / "raw.wav", folder / "mix.wav"
        for seed, drive in enumerate((0, 3, 6, 9, 12, 18)):
            soundfile.write(raw, music(seconds, seed), RATE, subtype="FLOAT")
            wall = {"drive_db": drive, "ceiling_db": -0.1, "character": "quick"}
            limited(raw, mix, folder / "work", wall, 1.0)
            began = time.perf_counter()
            request = ProofRequest(ways=ways, target=ANY)
            found = Prover(folder / "proof", pool).prove(FileSubject(mix), request)
            took = time.perf_counter() - began
            cells = [f"{w.true_peak_dbtp or -99:+5.2f} {len(w.overs):3d}" for w in found.ways]
            ceiling, left = found.ceiling, []
            if ceiling and ceiling.found_db is not None:
                final = folder / "final.wav"
                limited(mix, final, folder / "work", {"ceiling_db": ceiling.found_db}, 1.0)
                for way in (way_of("mp3:128"), way_of("opus:96")):
                    coded = folder / ("coded.mp3" if way.codec == "mp3" else "coded.opus")
                    encode(way, pieces(final), RATE, 2, coded, lambda done: None)
                    left.append(peak_db(coded))
            shown = "   ".join(f"{c:>10}" for c in cells)
            proposed = "none" if not ceiling else str(ceiling.found_db)
            tries = len(ceiling.points) - 1 if ceiling else 0
            others = ", ".join(f"{v:+.2f}" for v in left) or "-"
            print(
                f"{drive:5} {found.figures.integrated_lufs or -99:6.1f}   {shown}   {proposed:>7}"
                f"  {tries:5}   {others:>24}  {took:5.1f}"
            )
        soundfile.write(raw, np.tile(music(20, 1), (12, 1)), RATE, subtype="FLOAT")
        request = ProofRequest(ways=ways, target=ANY, ceiling=False)
        found = Prover(folder / "proof", pool).prove(FileSubject(raw), request)
        print(f"four minutes, four ways, no ceiling looked for: {found.seconds:.1f} s")


if __name__ == "__main__":
    main()
