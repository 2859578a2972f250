"""What may be wrong with a file before it leaves, in words: from its samples and its figures."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound
from salt_anvil.core.measure.rows import Figures, difference

QUIET_DBFS = -60.0
"""Under this an end is silent, and a fade has ended."""
MOST_SILENCE_S = 1.0
DC_LIMIT = 10 ** (-60 / 20)
MONO_LOSS_LU = 4.0
"""Sides that have nothing in common lose 3 LU, which is usual. Common practice, no source."""
TURNED = -0.2
"""Correlation under which one side is more the other's opposite than its like."""
RUN, FULL = 4, 0.98
"""So many equal samples in a row so near full scale were cut. Common practice, no source."""
END_S = 0.05
NEVER_DBFS = -90.0
"""Under this a channel is silent."""


@dataclass(frozen=True)
class Finding:
    """A warning: what it is called, its sentence, and the frame to look at (None: everywhere)."""

    title: str
    text: str
    frame: int | None = None


LOOKED_FOR = (
    "DC", "silent or equal channels", "turned phase", "mono loss over 4 LU",
    "clipped runs", "a fade cut off", "silence at the ends over 1 s",
)  # fmt: skip
"""What is looked for, to be told where it is not found."""


class ClipMeter:
    """Counts runs of equal samples near full scale, block by block."""

    def __init__(self, channels: int) -> None:
        self._last = np.zeros((RUN - 1, channels))
        self._at = 0
        self._open = np.zeros(channels, bool)
        self.runs = 0
        self.first: int | None = None

    def feed(self, sound: Sound) -> None:
        """Take a block."""
        whole = np.concatenate([self._last, sound])
        same = (np.diff(whole, axis=0) == 0) & (np.abs(whole[1:]) >= FULL)
        # A run has RUN samples: RUN - 1 steps that change nothing.
        windows = np.lib.stride_tricks.sliding_window_view(same, RUN - 1, axis=0)
        long = np.asarray(windows.all(axis=-1))
        for channel in range(long.shape[1]):
            row = np.concatenate([[self._open[channel]], long[:, channel]])
            begins = np.flatnonzero(~row[:-1] & row[1:])
            self.runs += len(begins)
            if len(begins):
                first = self._at + int(begins[0]) - RUN + 1
                self.first = first if self.first is None else min(self.first, first)
            self._open[channel] = row[-1]
        self._last = whole[len(whole) - RUN + 1 :]
        self._at += len(sound)


@dataclass
class Inspection:
    """What a whole file showed, from `Inspector`."""

    rate: int
    frames: int
    channels: int
    first_sound: int | None
    last_sound: int | None
    end_dbfs: float
    offset: NDArray[np.float64]
    powers: NDArray[np.float64]
    equal: bool
    clipped_runs: int
    first_clip: int | None


class Inspector:
    """Goes through a file block by block and remembers what could be wrong with it."""

    def __init__(self, rate: int, channels: int) -> None:
        self._rate, self._channels = rate, channels
        self._frames = 0
        self._first: int | None = None
        self._last: int | None = None
        self._sum, self._square = np.zeros(channels), np.zeros(channels)
        self._equal = channels == 2
        self._clips = ClipMeter(channels)
        self._tail = np.zeros((0, channels))

    def feed(self, sound: Sound) -> None:
        """Take a block."""
        if not len(sound):
            return
        loud = np.flatnonzero(np.abs(sound).max(axis=1) > 10 ** (QUIET_DBFS / 20))
        if len(loud):
            if self._first is None:
                self._first = self._frames + int(loud[0])
            self._last = self._frames + int(loud[-1])
        self._sum += sound.sum(axis=0)
        self._square += np.square(sound).sum(axis=0)
        self._equal = self._equal and bool(np.array_equal(sound[:, 0], sound[:, -1]))
        self._clips.feed(sound)
        self._tail = np.concatenate([self._tail, sound])[-max(round(END_S * self._rate), 1) :]
        self._frames += len(sound)

    def result(self) -> Inspection:
        """Return what was seen."""
        count = max(self._frames, 1)
        power = float(np.square(self._tail).mean()) if len(self._tail) else 0.0
        return Inspection(
            self._rate, self._frames, self._channels, self._first, self._last,
            _db(power), self._sum / count, self._square / count, self._equal,
            self._clips.runs, self._clips.first,
        )  # fmt: skip


def findings(seen: Inspection, found: Figures, mono: Figures | None) -> list[Finding]:
    """Return what is wrong, the worst first. mono: figures of left and right in one channel."""
    result: list[Finding] = []
    rate = seen.rate
    if seen.first_sound is None:
        return [Finding("Silent", f"Nothing in it is over {_signed(QUIET_DBFS, 0)} dBFS.")]
    silent = [_db(float(p)) < NEVER_DBFS for p in seen.powers]
    if any(silent):
        side = ("The left", "The right")[silent.index(True)]
        result.append(Finding("Silent channel", f"{side} channel carries nothing."))
    elif seen.equal:
        text = "Left and right are the same to the bit: it is mono, in a stereo file."
        result.append(Finding("Equal channels", text))
    if seen.clipped_runs:
        result.append(Finding("Clipped", _runs(seen.clipped_runs), seen.first_clip))
    if found.correlation is not None and found.correlation < TURNED:
        text = (
            f"Left and right correlate by {_signed(found.correlation, 2)}; one side may be turned."
        )
        result.append(Finding("Turned phase", text))
    loss = difference(found.integrated_lufs, None if mono is None else mono.integrated_lufs)
    if loss is not None and loss > MONO_LOSS_LU:
        text = f"In mono it is {loss:.1f} LU quieter, limit {MONO_LOSS_LU:g}."
        result.append(Finding("Mono loss", text))
    worst = float(np.abs(seen.offset).max())
    if worst > DC_LIMIT:
        text = f"Its middle lies at {_signed(20 * np.log10(worst), 0)} dBFS, limit −60."
        result.append(Finding("DC", text))
    if seen.end_dbfs > QUIET_DBFS:
        text = f"It ends at {_signed(seen.end_dbfs, 0)} dBFS, limit {_signed(QUIET_DBFS, 0)}."
        at = max(seen.frames - rate, 0)
        result.append(Finding("Fade cut off", text, at))
    ahead, behind = seen.first_sound / rate, (seen.frames - 1 - (seen.last_sound or 0)) / rate
    for where, seconds, frame in (("begins", ahead, 0), ("ends", behind, seen.last_sound)):
        if seconds > MOST_SILENCE_S:
            text = f"It {where} with {seconds:.1f} s of silence, limit {MOST_SILENCE_S:g} s."
            result.append(Finding("Silence", text, frame))
    return result


def clipped_source(name: str, meter: ClipMeter) -> Finding | None:
    """Return the warning for a recording that goes into a mix, None where there is none."""
    if not meter.runs:
        return None
    return Finding("Clipped source", f"{name}: {_runs(meter.runs)}", meter.first)


def _runs(count: int) -> str:
    runs = "1 run" if count == 1 else f"{count} runs"
    return f"{runs} of {RUN} samples or more that stand still at full scale."


def _db(power: float) -> float:
    return 10 * float(np.log10(max(power, 1e-20)))


def _signed(value: float, digits: int) -> str:
    return f"{value:.{digits}f}".replace("-", "−")
