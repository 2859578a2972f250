"""The cache: what a strip gave, drawn and measured, under its fingerprint; limited in size.

One folder a fingerprint. Points are named: ID-in and ID-out for every stage, split and branch, and
for "chain".
    out.f32       the output after the chain, (frames, channels); every sound with its .sums
    peaks-P.f32   extremes per 64 frames at point P, (cells, min and max, channels)
    power-P.f32   mean square per 64 frames at point P, all channels together
    rows-P.f64    figures per 100 ms at point P (see core.measure.rows)
    bends-ID.f32  rest and whole of a stage that bends per 1,024 frames (core.measure.bending)
    cells-ID-NAME.f32  a report of stage ID per 64 frames, (cells, channels)
    point-NAME.f32  a place inside the chain that another strip listens to, (frames, channels)
    meters.f32   per block: peak left, peak right, most reduction in dB
    group-G.f32  (buses) the sum of the inputs' group G, (frames, 2)
    state-B.bin   the strip's state before output block B, behind its checksum
    meta.json     what is in it; `done` holds the number of finished frames
"""

import json
import os
import shutil
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np
import xxhash
from numpy.typing import NDArray

from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.engine.graph import Buffer, Point
from salt_anvil.core.engine.strip import CHECKPOINT
from salt_anvil.core.errors import FileError
from salt_anvil.core.measure.rows import COLUMNS
from salt_anvil.core.state import State
from salt_anvil.files.checked import CheckedSound

LIMIT_BYTES = 4 << 30


@dataclass(frozen=True)
class Meta:
    """What a cache folder holds."""

    channels: int
    frames: int
    exports: list[str]


class StripCache:
    """The cache folder of a data folder."""

    def __init__(self, folder: Path, limit: int = LIMIT_BYTES) -> None:
        self._folder, self._limit = folder, limit
        folder.mkdir(parents=True, exist_ok=True)

    def path(self, fingerprint: str, name: str = "") -> Path:
        """Return a file of a fingerprint's folder."""
        return self._folder / fingerprint / name

    def begin(self, fingerprint: str, meta: Meta) -> None:
        """Make an empty folder for a fingerprint."""
        shutil.rmtree(self.path(fingerprint), ignore_errors=True)
        self.path(fingerprint).mkdir()
        self.set_done(fingerprint, 0)
        self.path(fingerprint, "meta.json").write_text(json.dumps(asdict(meta)))

    def set_done(self, fingerprint: str, frames: int) -> None:
        """Store how far a strip is, in one small write."""
        # What is cut to nothing first is written to the disk at once by some file systems.
        file = os.open(self.path(fingerprint, "done"), os.O_WRONLY | os.O_CREAT, 0o666)
        try:
            os.pwrite(file, frames.to_bytes(8, "little"), 0)
        finally:
            os.close(file)

    def done(self, fingerprint: str) -> int:
        """Return how many frames of a strip are there."""
        try:
            held = self.path(fingerprint, "done").read_bytes()
        except OSError:
            return 0
        return int.from_bytes(held, "little") if len(held) == 8 else 0

    def drop(self, fingerprint: str) -> None:
        """Forget what is damaged; it is computed again."""
        if fingerprint and "/" not in fingerprint:
            shutil.rmtree(self.path(fingerprint), ignore_errors=True)

    def meta(self, fingerprint: str) -> Meta | None:
        """Return what a strip's folder holds, None if there is none."""
        try:
            meta = Meta(**json.loads(self.path(fingerprint, "meta.json").read_text()))
        except (OSError, ValueError, TypeError):
            return None
        whole = isinstance(meta.frames, int) and meta.channels in (1, 2)
        return meta if whole and isinstance(meta.exports, list) else None

    def complete(self, fingerprint: str, exports: Sequence[Point] = ()) -> bool:
        """Say whether a strip is there from end to end, with the points asked for."""
        meta = self.meta(fingerprint)
        if (
            meta is None
            or self.done(fingerprint) < meta.frames
            or not {str(point) for point in exports} <= set(meta.exports)
        ):
            return False
        try:
            found = self.output(fingerprint, meta.channels)
        except FileError:
            found = None
        if found is not None and len(found.rows) >= meta.frames:
            return True
        self.drop(fingerprint)
        return False

    # Measurements of steady joins -----------------------------------------------------------------

    def join_measurement(self, digest: str) -> JoinMeasurement | None:
        """Return what was measured under a digest."""
        try:
            held = (self._folder / f"join-{digest}.f32").read_bytes()
        except OSError:
            return None
        if not held or len(held) % 12 or not np.isfinite(np.frombuffer(held, "<f4")).all():
            return None
        return JoinMeasurement(held)

    def keep_join_measurement(self, digest: str, found: JoinMeasurement) -> None:
        """Keep a measurement."""
        path = self._folder / f"join-{digest}.f32"
        part = path.with_suffix(".part")
        part.write_bytes(found.blocks)
        part.replace(path)

    def touch(self, fingerprint: str) -> None:
        """Note that a fingerprint is in use."""
        if self.path(fingerprint).exists():
            self.path(fingerprint, "used").touch()

    def output(self, fingerprint: str, channels: int) -> CheckedSound:
        """Return a strip's output.

        Raises:
            FileError: it is not there. DamagedError: its size cannot be.
        """
        return self.sound(fingerprint, "out", channels)

    def sound(self, fingerprint: str, name: str, channels: int) -> CheckedSound:
        """Return a sound of a strip (out, point-NAME).

        Raises:
            FileError: it is not there. DamagedError: its size cannot be.
        """
        return CheckedSound(self.path(fingerprint, f"{name}.f32"), channels, fingerprint)

    def meters(self, fingerprint: str) -> NDArray[np.float32]:
        """Return peaks and most reduction per block so far, (blocks, 3)."""
        return self._rows(self.path(fingerprint, "meters.f32"), "<f4", 3)

    def peaks(self, fingerprint: str, point: Buffer, channels: int) -> NDArray[np.float32]:
        """Return extremes per cell so far, (cells, 2, channels)."""
        return self._rows(
            self.path(fingerprint, f"peaks-{point}.f32"), "<f4", 2 * channels
        ).reshape(-1, 2, channels)

    def powers(self, fingerprint: str, point: Buffer) -> NDArray[np.float32]:
        """Return the mean square per cell so far, (cells,)."""
        return self._rows(self.path(fingerprint, f"power-{point}.f32"), "<f4", 1)[:, 0]

    def cells(self, fingerprint: str, stage: str, name: str, channels: int) -> NDArray[np.float32]:
        """Return a stage's report per cell so far, (cells, channels); empty if there is none."""
        return self._rows(self.path(fingerprint, f"cells-{stage}-{name}.f32"), "<f4", channels)

    def bends(self, fingerprint: str, stage: str) -> NDArray[np.float32]:
        """Return the powers of a stage's rest and whole per block so far, (blocks, 2)."""
        return self._rows(self.path(fingerprint, f"bends-{stage}.f32"), "<f4", 2)

    def rows(self, fingerprint: str, point: Buffer) -> NDArray[np.float64]:
        """Return the figures per 100 ms so far, (rows, COLUMNS)."""
        return self._rows(self.path(fingerprint, f"rows-{point}.f64"), "<f8", COLUMNS)

    def _rows(self, path: Path, kind: str, columns: int) -> NDArray[Any]:
        # Opened once: what is computed anew may drop it at any moment.
        try:
            with path.open("rb") as file:
                size = os.fstat(file.fileno()).st_size // np.dtype(kind).itemsize
                if size >= columns:
                    shape = (size // columns, columns)
                    return np.asarray(np.memmap(file, kind, "r", shape=shape))
        except OSError:
            pass
        return np.empty((0, columns))

    def keep_state(self, fingerprint: str, block: int, state: State) -> None:
        """Store a checkpoint."""
        data = state.to_bytes()
        sum_ = xxhash.xxh3_64_digest(data)
        self.path(fingerprint, f"state-{block}.bin").write_bytes(sum_ + data)

    def state(self, fingerprint: str, block: int) -> State | None:
        """Return the checkpoint before a block, if it is there."""
        try:
            held = self.path(fingerprint, f"state-{block}.bin").read_bytes()
        except OSError:
            return None
        if xxhash.xxh3_64_digest(held[8:]) != held[:8]:
            return None
        return State.from_bytes(held[8:])

    def states_before(
        self, fingerprints: dict[str, str], block: int
    ) -> tuple[int, dict[str, State]]:
        """Return the last checkpoint that every strip has at or before a block: where, states.

        Block 0 needs no state: everything starts cold there.
        """
        at = block // CHECKPOINT * CHECKPOINT
        while at > 0:
            states = {}
            for name, fingerprint in fingerprints.items():
                state = self.state(fingerprint, at)
                if state is None:
                    break
                states[name] = state
            else:
                return at, states
            at -= CHECKPOINT
        return 0, {}

    def trim(self, in_use: set[str]) -> None:
        """Remove what was used longest ago until the limit is kept."""
        entries = []
        for folder in self._folder.iterdir():
            try:
                with os.scandir(folder) as files:
                    stats = {file.name: file.stat() for file in files}
                used = stats.get("used") or folder.stat()
            except OSError:
                continue  # a measurement, or somebody else has just removed it
            entries.append((used.st_mtime, sum(s.st_size for s in stats.values()), folder))
        total = sum(size for _, size, _ in entries)
        for _, size, folder in sorted(entries):
            if total <= self._limit:
                return
            if folder.name not in in_use:
                shutil.rmtree(folder, ignore_errors=True)
                total -= size
