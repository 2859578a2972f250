"""Resonances where the sound is made of lines: what different notes agree on.

Every frame's lines are taken apart into a source, which belongs to the frame and is a smooth
course over pitch, and a body, which is the same for all frames. A line that stands at one place
says nothing about the body there; six different notes that pass through it do.
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.resonances.bells import Bell, Fit, fit
from salt_anvil.core.resonances.spectra import (
    GRID_HZ,
    OCTAVES,
    PER_OCTAVE,
    TINY,
    Wave,
    active,
    periodograms,
    window_frames,
)

Index = NDArray[np.int64]
SHORT, LONG, SPLIT_HZ = 4096, 8192, 500.0
"""Frames at 48 kHz of the windows: what glides passes by in the short one; where lines are
crowded, the long one keeps them apart up to where partials of most notes are farther away."""
CROWDED_HZ, CROWDED_SHARE = 75.0, 0.2
"""Lines are crowded where such a share of neighbours is closer than this ..."""
CROWDED_BELOW_HZ = 1500.0
"""... below here, where the windows show all of them."""
PROMINENT_DB, ENVELOPE_DB, ENVELOPE_OCTAVES = 8.0, 20.0, 0.3
"""A line stands so far over the median around it, and not so far under the strongest near it."""
FEWEST_LINES = 5
LOWEST_LINES, NAME_SPREAD = 10, 0.3
"""A context is told by so many of its lowest lines, each as wide as so many semitones."""
SAME_AS_BEFORE, SAME_AS_FIRST, SAME_AGAIN, SAME_NOTE = 0.7, 0.45, 0.65, 0.5
"""Likeness (cosine) from which on two frames are one context, or two contexts one note."""
TURNS = 5
FRESH, QUANTILE_SPREAD = 1.5, 1.2
"""A context says as much as so many independent levels; a low quantile spreads more than a mean."""
LEAST_SIGMA_DB, UNKNOWN_DB, SHARED = 0.4, 9.0, 1.22
"""A point is never surer; one that is not known; neighbours share lines, so each says less."""
QUANTILE, OVER_WEIGHT = 0.3, 0.5
"""The body is what nearly all contexts have: formants that wander lift some of them."""
LEAST_SIGMAS, FITTED_SIGMAS = 5.0, 4.0
"""What is believed, and what is fitted beside it so that it does not count as something else."""
GAINS_DB = (3.0, 18.5)
NARROW_Q, NARROW_LEAST_DB = 10.0, 2.5
"""Notes that glide are in a narrow one for a part of a frame only, which shows it lower."""
KNOWN_OCTAVES, KNOWN_SHARE = 0.35, 0.35
"""Of so much to each side, such a share has to be known, or the gain hangs in the air."""
WHOLLY_KNOWN = 0.9
FEWEST_NOTES, AGREE_SHARE = 6, 0.7
"""So many different notes must show it, and such a share of them a third of the gain or more."""
FEW_NOTES, FEW_SIGMAS, FEW_KNOWN_SIGMAS = 10, 7.5, 6.2
"""Fewer have to be so sure, or a little less where all around is known."""
FEWEST_SEEN, FEWEST_SIGMAS = 5, 8.5
"""One note may miss the middle of a narrow one, if the others agree and are so sure."""
MANY_NOTES, MANY_AGREE_SHARE = 20, 0.65
WILD_DB, WILD_OCTAVES = 20.0, 0.7
"""Near a bell of such a gain too little is known for anything to be believed ..."""
TAME_SIGMAS, TAME_GAIN_DB, TAME_SHARE, TAME_LEFT_DB = 6.0, 1.0, 0.8, 2.5
LEFT_OCTAVES = 0.4
"""... but what is so sure, whose notes show its gain, and where the fit leaves so little."""
BROAD_Q, BROAD_GAIN_DB, BROAD_LEAST_DB, BROAD_SIGMAS = 3.0, 7.0, 5.0, 10.0
"""What is broad and low may be the mean of formants, which wander, unless it is very sure."""
WANDERS_DB = 2.9
"""Where contexts differ by more at a place formants wander; a low bell is doubted anywhere."""
ROUND_Q, ROUND_SIGMAS = 4.0, 9.0
"""What is round has to be so sure then; more so a small one in few notes, or the roundest."""
ROUND_NOTES, ROUND_GAIN_DB, ROUND_FEW_SIGMAS = 20, 11.0, 12.0
ROUNDEST_Q, ROUNDEST_GAIN_DB = 2.0, 9.0
ABOVE_LOWEST_OCTAVES = 0.6
"""The lowest line has none below it that could say how much is usual."""
REACH_OCTAVES, STEADY_REACH_OCTAVES, STEADY_CENTS = 1 / 12, 1 / 8, 5.0
"""How far from a bell notes show it: farther where they stand still, and pass over less of it."""
TRACE_DB = 26.0
"""So far under its frame's course a line is a trace between the partials, and says nothing."""
SPREAD_DB = 1.0
"""How uncertain the level of a single line is at least."""


class Lines(NamedTuple):
    """Lines of all frames: frame, place in octaves, level in dB (power times frequency)."""

    frame: Index
    octave: Wave
    level_db: Wave
    frames: int


class Notes(NamedTuple):
    """What the notes in a sound show: how many different ones there are, what rings.

    own_level: those of the bells whose lines keep a level of their own instead of following the
    other lines, as those of a note do that is held under the others. glide: notes do not stand
    still, as in speech.
    """

    different: int
    bells: tuple[Bell, ...]
    own_level: tuple[Bell, ...] = ()
    glide: bool = False


def look(lines: Lines) -> Notes:
    """Return what rings where a sound is made of notes."""
    context, names = _contexts(lines)
    notes = _different(names)
    different = len(set(notes))
    if len(names) < FEWEST_NOTES:
        return Notes(different, ())
    body = _body(lines, context)
    known = body.contexts > 2
    if known.sum() < PER_OCTAVE // 2:
        return Notes(different, ())
    sigma = np.where(known, np.maximum(body.sigma_db, LEAST_SIGMA_DB), UNKNOWN_DB)
    fitted = fit(body.level_db, sigma * SHARED, known, FITTED_SIGMAS, moving=False)
    kept = tuple(b for b in fitted.bells if _believed(b, fitted, body, np.array(notes)))
    own = tuple(b for b in kept if _keeps_level(b, body))
    return Notes(different, kept, own, not body.steady)


def lines_of(sound: Wave, rate: int) -> Lines:
    """Return all lines of a sound, by windows that suit how close they stand."""
    crowded = _lines_of(sound, rate, ((LONG, 0.0, SPLIT_HZ), (SHORT, SPLIT_HZ, np.inf)))
    if _crowded(crowded):
        return crowded
    return _lines_of(sound, rate, ((SHORT, 0.0, np.inf),))


def _crowded(lines: Lines) -> bool:
    hz = 2**lines.octave
    apart = np.diff(hz)[(np.diff(lines.frame) == 0) & (hz[1:] < CROWDED_BELOW_HZ)]
    return len(apart) > 0 and float(np.quantile(apart, CROWDED_SHARE)) < CROWDED_HZ


def _lines_of(sound: Wave, rate: int, windows: tuple[tuple[int, float, float], ...]) -> Lines:
    """Return all lines by windows of (frames at 48 kHz, from Hz, to Hz), the longest first."""
    size = window_frames(windows[0][0], rate)
    hop = size // 2
    found: list[tuple[Index, Wave, Wave]] = []
    heard: NDArray[np.bool_] | None = None
    total = 0
    for frames, low, high in windows:
        mine = window_frames(frames, rate)
        # A line's peak grows with the window; noise does not.
        power = periodograms(sound[(size - mine) // 2 :], mine, hop) / mine
        hz = np.fft.rfftfreq(mine, 1 / rate)
        if heard is None:
            heard = active(power[:, hz > GRID_HZ[0]] * hz[hz > GRID_HZ[0]])
            total = len(heard)
        inside = (hz >= max(low, GRID_HZ[0])) & (hz < min(high, GRID_HZ[-1]))
        decibels = 10 * np.log10(power + TINY)
        floor = _floor(decibels, inside)
        for frame in np.flatnonzero(heard[: len(power)]):
            octave, level = _peaks(decibels[frame], floor[frame], inside, hz[1])
            found.append((np.full(len(octave), frame), octave, level))
    if not found:
        return Lines(np.zeros(0, int), np.zeros(0), np.zeros(0), 0)
    frames_of = np.concatenate([f for f, _, _ in found])
    octave = np.concatenate([o for _, o, _ in found])
    level = np.concatenate([v for _, _, v in found])
    order = np.lexsort((octave, frames_of))
    return Lines(frames_of[order], octave[order], level[order], total)


def _floor(decibels: Wave, inside: NDArray[np.bool_]) -> Wave:
    """Return the median a third of an octave to each side, at twelve places an octave."""
    first, last = np.flatnonzero(inside)[[0, -1]]
    places = np.geomspace(first, last, max(2, int(12 * np.log2(last / first))))
    spans = [(int(p * 0.8), int(p * 1.25) + 2) for p in places]
    found = np.stack([np.median(decibels[:, a:b], axis=1) for a, b in spans], axis=1)
    bins = np.arange(decibels.shape[1])
    nearest = np.clip(np.searchsorted(places, bins), 0, len(places) - 1)
    return np.asarray(found[:, nearest])


def _peaks(
    decibels: Wave, floor: Wave, inside: NDArray[np.bool_], step: float
) -> tuple[Wave, Wave]:
    """Return place and level of the lines of one frame, between the bins by a parabola."""
    middle = decibels[1:-1]
    top = (middle > decibels[:-2]) & (middle >= decibels[2:]) & inside[1:-1]
    at = np.flatnonzero(top) + 1
    if not len(at):
        return np.zeros(0), np.zeros(0)
    at = at[decibels[at] > floor[at] + PROMINENT_DB]
    if not len(at):
        return np.zeros(0), np.zeros(0)
    left, top_db, right = decibels[at - 1], decibels[at], decibels[at + 1]
    shift = 0.5 * (left - right) / np.minimum(left - 2 * top_db + right, -1e-9)
    hz = (at + shift) * step
    octave, level = np.log2(hz), top_db - 0.25 * (left - right) * shift + 10 * np.log10(hz)
    low = np.searchsorted(octave, octave - ENVELOPE_OCTAVES)
    high = np.searchsorted(octave, octave + ENVELOPE_OCTAVES)
    # Every other one is the most from low to high; those between them count for nothing.
    spans = np.stack([low, high], axis=1).ravel()
    strongest = np.maximum.reduceat(np.append(level, -np.inf), spans)[::2]
    kept = level > strongest - ENVELOPE_DB
    return octave[kept], level[kept]


def _contexts(lines: Lines) -> tuple[Index, list[Wave]]:
    """Return every frame's context, or -1, and how each context is told."""
    grid = np.arange(np.log2(GRID_HZ[0]), np.log2(2500), 1 / PER_OCTAVE)
    context = np.full(lines.frames, -1)
    names: list[Wave] = []
    before: tuple[int, Wave] | None = None
    starts = np.searchsorted(lines.frame, np.arange(lines.frames + 1))
    for frame in range(lines.frames):
        mine = lines.octave[starts[frame] : starts[frame + 1]]
        if len(mine) < FEWEST_LINES:
            before = None
            continue
        far = (grid[None] - mine[:LOWEST_LINES, None]) * 12 / NAME_SPREAD
        name = np.exp(-0.5 * far**2).max(axis=0)
        name /= np.linalg.norm(name) + TINY
        which = -1
        if before is not None and name @ before[1] > SAME_AS_BEFORE:
            which = before[0] if name @ names[before[0]] > SAME_AS_FIRST else -1
        if which < 0 and names:
            like = np.array(names) @ name
            which = int(np.argmax(like)) if like.max() > SAME_AGAIN else -1
        if which < 0:
            names.append(name)
            which = len(names) - 1
        context[frame] = which
        before = (which, name)
    return context, names


def _different(names: list[Wave]) -> list[int]:
    """Return for every context the note that it belongs to."""
    notes: list[int] = []
    first: list[Wave] = []
    for name in names:
        like = np.array(first) @ name if first else np.zeros(1)
        if first and like.max() > SAME_NOTE:
            notes.append(int(np.argmax(like)))
        else:
            first.append(name)
            notes.append(len(first) - 1)
    return notes


class _Body(NamedTuple):
    """What is common to all contexts at every grid point, and the means that it is made of.

    raw_db: the levels of the lines that the means are of. lowest: where the lowest line of a frame
    is in the middle, in octaves. steady: notes stand still, as of an instrument that has no
    formants that wander; each tells of one point only.
    """

    level_db: Wave
    sigma_db: Wave
    contexts: Index
    context: Index
    point: Index
    mean_db: Wave
    raw_db: Wave
    lowest: float
    steady: bool


def _body(lines: Lines, context: Index) -> _Body:
    n = len(GRID_HZ)
    point = np.rint((lines.octave - OCTAVES[0]) * PER_OCTAVE).astype(int)
    kept = (point >= 0) & (point < n) & (context[lines.frame] >= 0)
    frame, octave, level, point = (
        a[kept] for a in (lines.frame, lines.octave, lines.level_db, point)
    )
    steady = _moved_cents(lines, context) < STEADY_CENTS
    if steady:
        source = _sources(frame, octave - np.log2(1000), level)
        kept = level - source > -TRACE_DB
        frame, octave, level, point = (a[kept] for a in (frame, octave, level, point))
    starts = np.flatnonzero(np.diff(frame, prepend=-1))
    lowest = float(np.median(octave[starts])) if len(starts) else 0.0
    key = frame * n + point
    unique, inverse = np.unique(key, return_inverse=True)
    own_context, own_point = context[unique // n], unique % n
    body = np.zeros(n)
    sigma, count = np.full(n, np.inf), np.zeros(n, int)
    raw = np.bincount(inverse, level) / np.bincount(inverse)
    mean = np.zeros(len(unique))
    for _ in range(TURNS):
        source = _sources(frame, octave - np.log2(1000), level - body[point])
        mean = np.bincount(inverse, level - source) / np.bincount(inverse)
        body, sigma, count = _common(own_context, own_point, mean, n)
        known = count > 2
        if known.sum() > 10:
            # Tilt and bend belong to the source.
            design = np.vander(OCTAVES - np.log2(1000), 3)
            bend = np.linalg.lstsq(design[known], body[known], rcond=None)[0]
            body = np.where(known, body - design @ bend, 0.0)
    return _Body(body, sigma, count, own_context, own_point, mean, raw, lowest, steady)


def _moved_cents(lines: Lines, context: Index) -> float:
    """Return how far the lowest lines of a context move from one frame to the next (median)."""
    starts = np.searchsorted(lines.frame, np.arange(lines.frames + 1))
    moved = []
    same = (context[1:] == context[:-1]) & (context[1:] >= 0)
    for frame in np.flatnonzero(same):
        here = lines.octave[starts[frame] : starts[frame + 1]][:LOWEST_LINES]
        there = lines.octave[starts[frame + 1] : starts[frame + 2]]
        moved.append(np.median(np.abs(here[:, None] - there[None]).min(axis=1)))
    return 1200 * float(np.median(moved)) if moved else np.inf


def _sources(frame: Index, octave: Wave, level: Wave) -> Wave:
    """Return every frame's smooth course at its lines: a parabola that outliers do not move."""
    starts = np.flatnonzero(np.diff(frame, prepend=-1))
    counts = np.diff(starts, append=len(frame))
    row = np.repeat(np.arange(len(starts)), counts)
    place = (row, np.arange(len(frame)) - starts[row])
    # All frames beside each other, filled up with lines of no weight.
    there = np.zeros((len(starts), counts.max(initial=1)))
    x, y = np.zeros_like(there), np.zeros_like(there)
    there[place], x[place], y[place] = 1.0, octave, level
    design = np.stack([x * x, x, np.ones_like(x)], axis=2)
    # What so few lines do not tell is 0.
    unknown = np.stack([counts < 8, counts < 2, np.zeros(len(counts), bool)], axis=1)
    design *= ~unknown[:, None, :]
    squares = there
    for _ in range(4):
        weighted = (design * squares[:, :, None]).swapaxes(1, 2)
        normal = weighted @ design + unknown[:, :, None] * np.eye(3)
        found = np.linalg.solve(normal, weighted @ y[:, :, None])
        left = y - (design @ found)[:, :, 0]
        scale = 1.48 * _medians(np.abs(left), counts) + 0.5
        doubt = 1 + np.square(left / (1.5 * scale[:, None]))
        squares = there * np.where(left > 0, OVER_WEIGHT, 1.0) / doubt
    return np.asarray((y - left)[place])


def _medians(values: Wave, counts: Index) -> Wave:
    """Return the median of the first so many values of every row."""
    inside = np.arange(values.shape[1]) < counts[:, None]
    ordered = np.sort(np.where(inside, values, np.inf), axis=1)
    middle = np.stack([(counts - 1) // 2, counts // 2], axis=1)
    return np.asarray(np.take_along_axis(ordered, middle, axis=1).mean(axis=1))


def _common(context: Index, point: Index, mean: Wave, n: int) -> tuple[Wave, Wave, Index]:
    """Return the body, how uncertain it is, and how many contexts say so, at every point."""
    body, sigma, count = np.zeros(n), np.full(n, np.inf), np.zeros(n, int)
    order = np.argsort(point, kind="stable")
    sorted_point = point[order]
    for at in range(n):
        near = order[np.searchsorted(sorted_point, at - 1) : np.searchsorted(sorted_point, at + 2)]
        if len(near) == 0:
            continue
        count[at] = len(np.unique(context[near]))
        if count[at] > 2:
            values = np.sort(mean[near])
            middle = _quantile(values, 0.5)
            below = values[: np.searchsorted(values, middle, side="right")]
            spread = 1.48 * (middle - _quantile(below, 0.5)) + SPREAD_DB
            body[at] = _quantile(values, QUANTILE)
            sigma[at] = QUANTILE_SPREAD * spread / np.sqrt(min(len(near), FRESH * count[at]))
    known = count > 2
    if known.any():
        body[known] -= np.median(body[known])
    return body, sigma, count


def _quantile(ordered: Wave, share: float) -> float:
    """Return a quantile of values in order, between them by a line, as numpy does (but faster)."""
    place = share * (len(ordered) - 1)
    below = int(place)
    above = min(below + 1, len(ordered) - 1)
    return float(ordered[below] + (place - below) * (ordered[above] - ordered[below]))


def _believed(bell: Bell, fitted: Fit, body: _Body, notes: Index) -> bool:
    passed = bell.q >= NARROW_Q and not body.steady
    least = NARROW_LEAST_DB if passed else GAINS_DB[0]
    if not least <= bell.gain_db <= GAINS_DB[1] or bell.sigmas < LEAST_SIGMAS:
        return False
    if np.log2(bell.hz) < body.lowest + ABOVE_LOWEST_OCTAVES:
        return False
    known = body.contexts > 2
    around = _known_share(bell, known)
    if around < KNOWN_SHARE:
        return False
    if bell.q < BROAD_Q and bell.gain_db < BROAD_GAIN_DB:
        sure = bell.sigmas >= BROAD_SIGMAS and around >= WHOLLY_KNOWN
        if not sure or bell.gain_db < BROAD_LEAST_DB:
            return False
    shown = _shown(bell, fitted, body, notes)
    if len(shown) < FEWEST_SEEN:
        return False
    doubtful = bell.gain_db < BROAD_GAIN_DB or _spread_db(bell, body) > WANDERS_DB
    wanders = bell.q < ROUND_Q and doubtful and not body.steady
    if wanders and bell.sigmas < _round_sigmas(bell, len(shown)):
        return False
    agree = float(np.mean(shown > bell.gain_db / 3))
    if len(shown) < FEWEST_NOTES and (agree < 1 or bell.sigmas < FEWEST_SIGMAS):
        return False
    few_sigmas = FEW_KNOWN_SIGMAS if around >= WHOLLY_KNOWN else FEW_SIGMAS
    if len(shown) < FEW_NOTES and bell.sigmas < few_sigmas:
        return False
    if agree < (AGREE_SHARE if len(shown) < MANY_NOTES else MANY_AGREE_SHARE):
        return False
    wild = [b for b in fitted.bells if abs(b.gain_db) > WILD_DB]
    return not any(abs(np.log2(b.hz / bell.hz)) < WILD_OCTAVES for b in wild) or (
        bell.sigmas >= TAME_SIGMAS
        and agree >= TAME_SHARE
        and abs(float(np.median(shown)) - bell.gain_db) < TAME_GAIN_DB
        and _left_db(bell, fitted, known) < TAME_LEFT_DB
    )


def _keeps_level(bell: Bell, body: _Body) -> bool:
    """Return whether the lines at a bell vary less by themselves than over the other lines."""
    near = np.abs(body.point - bell.point) <= 1
    return bool(near.any()) and _scatter(body.raw_db[near]) < _scatter(body.mean_db[near])


def _scatter(values: Wave) -> float:
    """Return the spread of values (median, as of a Gaussian)."""
    return 1.48 * float(np.median(np.abs(values - np.median(values))))


def _spread_db(bell: Bell, body: _Body) -> float:
    """Return how far contexts differ at a place around a bell."""
    near = np.abs(body.point - bell.point) <= 0.5 / bell.q * PER_OCTAVE
    points, levels = body.point[near], body.mean_db[near]
    spreads = []
    for point in np.unique(points):
        here = levels[points == point]
        if len(here) > 3:
            spreads.append(_scatter(here))
    return float(np.median(spreads)) if spreads else np.inf


def _round_sigmas(bell: Bell, notes: int) -> float:
    """Return how sure a round bell has to be: the mean of formants that wander is one, too."""
    few = notes < ROUND_NOTES and bell.gain_db < ROUND_GAIN_DB
    roundest = bell.q < ROUNDEST_Q and bell.gain_db < ROUNDEST_GAIN_DB
    return ROUND_FEW_SIGMAS if few or roundest else ROUND_SIGMAS


def _known_share(bell: Bell, known: NDArray[np.bool_]) -> float:
    """Return how much is known of the surroundings, on the side where that is less."""
    away = OCTAVES - np.log2(bell.hz)
    sides = ((away >= 0) & (away < KNOWN_OCTAVES), (away <= 0) & (away > -KNOWN_OCTAVES))
    return float(min(known[side].mean() for side in sides))


def _shown(bell: Bell, fitted: Fit, body: _Body, notes: Index) -> Wave:
    """Return how far each different note stands over all but this bell, in dB."""
    most = STEADY_REACH_OCTAVES if body.steady else REACH_OCTAVES
    reach = np.clip(0.72 / bell.q * PER_OCTAVE, 1.0, most * PER_OCTAVE)
    near = np.abs(body.point - bell.point) <= reach
    others = fitted.course + sum(
        (b.shape for b in fitted.bells if b is not bell), np.zeros(len(GRID_HZ))
    )
    over = body.mean_db[near] - others[body.point[near]]
    which, inverse = np.unique(notes[body.context[near]], return_inverse=True)
    return np.asarray(np.bincount(inverse, over, len(which)) / np.bincount(inverse))


def _left_db(bell: Bell, fitted: Fit, known: NDArray[np.bool_]) -> float:
    """Return what the fit leaves unexplained around a bell (RMS)."""
    near = (np.abs(OCTAVES - np.log2(bell.hz)) < LEFT_OCTAVES) & known
    return float(np.sqrt(np.mean(fitted.left[near] ** 2))) if near.any() else np.inf
