"""What rings in a passage: found, named, measured; and what was set aside, or cannot be told."""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from salt_anvil.core.audio import Sound
from salt_anvil.core.errors import SoundError
from salt_anvil.core.processors.tamer import MOST, region_of, width_of
from salt_anvil.core.resonances import in_noise, in_notes
from salt_anvil.core.resonances.bells import Bell
from salt_anvil.core.resonances.spectra import (
    GRID_HZ,
    HIGH_HZ,
    LOW_HZ,
    OCTAVES,
    PER_OCTAVE,
    TINY,
    Band,
    Wave,
    averaged,
    bands,
    triangles,
)

SHORTEST_S = 3.0
TOLD_SHARE = 0.4
"""So much of the range has to be like noise, where there are not enough notes."""
SAME_OCTAVES = 1 / 6
SAME_SOUND = 0.98
"""Channels that correlate so much are one."""
HELD_CENTS, HELD_SHARE, HELD_ALONE, HELD_BELOW_HZ = 15.0, 0.5, 0.3, 4000.0
"""A line that stays within so many cents for such a share of the time, and is alone, is held ..."""
HELD_SCATTER_CENTS = 10.0
"""... if it scatters no more: what rings draws the lines of a glide to its whole width."""
HELD_OCTAVES, HELD_Q = 1 / 24, 12.0
"""So near to a held note nothing as narrow as this is believed: it is the note."""
GLIDING_S = 10.0
"""Where notes glide, as in speech, half of it shows only two thirds of what rings."""
SILENT_DB = -90.0


class Resonance(BaseModel):
    """One place that rings.

    over_db: over its surroundings. width_oct: between its half-gain points, movement included.
    share: of the time with sound, in which it is there. octaves: how far it moves. region: how
    the trade calls what is too much there.
    """

    hz: float
    over_db: float
    width_oct: float
    share: float
    octaves: float
    region: str


class HeldNote(BaseModel):
    """A line that stands still, and for which share of the time: it may be music."""

    hz: float
    share: float


class Scan(NamedTuple):
    """What a passage shows.

    can_tell: whether noise or enough different notes were there to tell by. brief: a longer
    passage would show more. level_db, around_db: the long-term spectrum on GRID_HZ in dB, and its
    surroundings.
    """

    found: tuple[Resonance, ...]
    held: tuple[HeldNote, ...]
    can_tell: bool
    brief: bool
    seconds: float
    level_db: Wave
    around_db: Wave

    @property
    def words(self) -> str:
        """What came of it, in a sentence."""
        if not self.can_tell:
            return (
                "Too little moves here to tell a resonance from a held note: scan a passage with"
                " more different notes, or with drums or noise."
            )
        told = f"{len(self.found)} found."
        if not self.found:
            told = "Nothing rings: no place stays over its surroundings."
        if self.brief:
            told += f" Notes glide here: {GLIDING_S:g} s would show more."
        return told


def scan(sound: Sound, rate: int, low_hz: float = LOW_HZ, high_hz: float = HIGH_HZ) -> Scan:
    """Look for what rings in a passage, (frames, channels), between two frequencies.

    Raises:
        SoundError: it is shorter than 3 s, or silent.
    """
    seconds = len(sound) / rate
    if seconds < SHORTEST_S:
        raise SoundError(f"a scan needs {SHORTEST_S:g} s; this passage has {seconds:.1f} s")
    waves = _channels(sound)
    if max(10 * np.log10(np.mean(np.square(w)) + TINY) for w in waves) < SILENT_DB:
        raise SoundError("there is nothing to scan: the passage is silent")
    looks = [_look(wave, rate) for wave in waves]
    every = sorted((r for look in looks for r in look.found), key=lambda r: -r.over_db)
    found: list[Resonance] = []
    for one in every:
        alone = all(abs(np.log2(one.hz / other.hz)) > SAME_OCTAVES for other in found)
        if alone and low_hz <= one.hz <= high_hz:
            found.append(one)
    level = 10 * np.log10(np.mean([10 ** (look.level_db / 10) for look in looks], axis=0))
    return Scan(
        tuple(sorted(found[:MOST], key=lambda r: r.hz)),
        looks[0].held,
        any(look.can_tell for look in looks),
        seconds < GLIDING_S and all(look.glides for look in looks),
        seconds,
        level,
        _around(level),
    )


class _Look(NamedTuple):
    """What one channel shows."""

    found: tuple[Resonance, ...]
    held: tuple[HeldNote, ...]
    can_tell: bool
    glides: bool
    level_db: Wave


def _look(wave: Wave, rate: int) -> _Look:
    views = bands(wave, rate)
    noise = in_noise.look(views, wave, rate)
    lines = in_notes.lines_of(wave, rate)
    notes = in_notes.look(lines)
    held = _held(lines, noise.where)
    bells = list(noise.bells)
    for bell in notes.bells:
        alone = all(abs(np.log2(bell.hz / other.hz)) > SAME_OCTAVES for other in bells)
        # A broader bump than one line has others in it.
        narrow = bell.q > HELD_Q
        stands = any(abs(np.log2(bell.hz / note.hz)) < HELD_OCTAVES for note in held) and narrow
        stands &= bell in notes.own_level
        if alone and not stands:
            bells.append(bell)
    noisy = noise.where.mean() >= TOLD_SHARE
    can_tell = noisy or notes.different >= in_notes.FEWEST_NOTES
    found = tuple(_told(b, wave, rate) for b in bells)
    return _Look(found, held, bool(can_tell), notes.glide and not noisy, _level(views))


def _channels(sound: Sound) -> list[Wave]:
    """Return the louder channel first, and the other one where it is not the same sound.

    The middle of two microphones is a comb, so channels are looked at one by one.
    """
    powers = np.square(sound).mean(axis=0)
    order = np.argsort(-powers)
    channels = [np.ascontiguousarray(sound[:, c]) for c in order if powers[c] > 0]
    if len(channels) < 2:
        return channels or [np.ascontiguousarray(sound[:, 0])]
    alike = abs(float(np.mean(channels[0] * channels[1]))) / np.sqrt(powers.prod())
    return channels[:1] if alike > SAME_SOUND else channels


def _told(bell: Bell, wave: Wave, rate: int) -> Resonance:
    return Resonance(
        hz=bell.hz,
        over_db=bell.gain_db,
        width_oct=width_of(bell.q) + bell.octaves,
        share=in_noise.share_of_time(bell, wave, rate),
        octaves=bell.octaves,
        region=region_of(bell.hz),
    )


def _held(lines: in_notes.Lines, noisy: NDArray[np.bool_]) -> tuple[HeldNote, ...]:
    if not len(lines.frame):
        return ()
    per_octave = 1200 / HELD_CENTS
    place = np.floor((lines.octave - OCTAVES[0]) * per_octave).astype(int)
    frames = len(np.unique(lines.frame))
    count = np.zeros(int((OCTAVES[-1] - OCTAVES[0]) * per_octave) + 3)
    inside = (place >= 0) & (place < len(count) - 1)
    pairs = np.unique(np.stack([place[inside], lines.frame[inside]]), axis=1)
    np.add.at(count, pairs[0] + 1, 1)
    # A line on the border of two steps is in both.
    pair = np.minimum((count[:-1] + count[1:]) / frames, 1.0)
    # Where lines are dense everything is held; a held note is alone.
    alone = pair - averaged(pair, int(per_octave / 2)) > HELD_ALONE
    top = (pair >= HELD_SHARE) & (pair >= np.roll(pair, 1)) & (pair > np.roll(pair, -1)) & alone
    found = []
    for index in np.flatnonzero(top):
        hz = float(2 ** (OCTAVES[0] + index / per_octave))
        point = int(np.clip(round((np.log2(hz) - OCTAVES[0]) * PER_OCTAVE), 0, len(noisy) - 1))
        if noisy[point] or hz >= HELD_BELOW_HZ:
            continue
        if _scatter_cents(lines, hz) <= HELD_SCATTER_CENTS:
            found.append(HeldNote(hz=hz, share=float(pair[index])))
    return tuple(sorted(found, key=lambda n: -n.share)[:MOST])


def _scatter_cents(lines: in_notes.Lines, hz: float) -> float:
    """Return how far the lines around a place lie from their middle (median, as of a Gaussian)."""
    cents = 1200 * (lines.octave - np.log2(hz))
    near = cents[np.abs(cents) <= 1.5 * HELD_CENTS]
    return float(1.48 * np.median(np.abs(near - np.median(near))))


def _level(views: list[Band]) -> Wave:
    level = np.full(len(GRID_HZ), -200.0)
    for band in views:
        if len(band.points) and len(band.power):
            weights = triangles(band.hz, GRID_HZ[band.points], 1 / 24)
            mean = band.power.mean(axis=0) / band.hz / (band.hz[1] - band.hz[0])
            level[band.points] = 10 * np.log10(weights @ (mean * band.hz) + TINY)
    return level


def _around(level: Wave) -> Wave:
    """Return the level's surroundings: its mean in dB, Hann-weighted, an octave to each side."""
    weights = np.hanning(2 * PER_OCTAVE + 1)
    weighed = np.convolve(level, weights, mode="same")
    return np.asarray(weighed / np.convolve(np.ones(len(level)), weights, mode="same"))
