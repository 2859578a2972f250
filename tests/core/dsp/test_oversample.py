"""The oversampling: its filters' responses by their pulses, its delay, a closed form of the rest.

passband and stopband · delay · half-band · no frame of the future · idle stretches · qualities
"""

from collections.abc import Callable

import numpy as np
import pytest

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp import oversample as o
from tests.conftest import noise

RATE = 44100
FRAMES, AT, SIZE = 400, 100, 1 << 17
OVERSAMPLED = ["good", "high", "best"]
Bend = Callable[[Sound], Sound]


def shaped(bend: Bend, sound: Sound, quality: str, kept: o.Kept, idle_db: float | None = None):
    """What a bend takes from lanes of values, (frames, factor): the values between the frames, what
    is left of what was taken, (frames, lanes). With idle_db, stretches below it are passed over."""
    table, factor = o.tables(quality), o.FACTORS[quality]
    lines, out = np.empty((len(sound), factor, sound.shape[1])), np.zeros(sound.shape)
    room = o.room_for(table)
    for at in range(0, len(sound), o.CHUNK):
        block = sound[at : at + o.CHUNK]
        n = len(block)
        for lane in range(sound.shape[1]):
            level = -1.0 if idle_db is None else 10 ** (idle_db / 20)
            if o.idle(block, level, lane, table, kept):
                continue
            o.rise(room, block, lane, table, kept)
            for p in range(factor):
                lines[at : at + n, p, lane] = o.raised(room, table, p, n)
            cut = bend(lines[at : at + n, :, lane])
            for p in range(factor):
                o.taken(room, table, p, n)[:] = cut[:, p]
            out[at : at + n, lane] = o.fall(room, n, lane, table, kept)
    return lines.reshape(-1, sound.shape[1]), out


def nothing(lines: Sound) -> Sound:
    return np.zeros_like(lines)


def pulse_up(quality: str) -> np.ndarray:
    """What a pulse becomes at the higher rate, from that pulse on."""
    pulse = np.zeros((FRAMES, 1))
    pulse[AT] = 1
    lines, _ = shaped(nothing, pulse, quality, o.kept(o.shaping_state(1)))
    return lines[AT * o.FACTORS[quality] :, 0]


def pulse_down(quality: str) -> np.ndarray:
    """The filter on the way down at the higher rate, put together of its phases."""
    factor = o.FACTORS[quality]
    found = np.zeros((FRAMES - AT) * factor + factor)
    for phase in range(factor):
        values = np.zeros((FRAMES, factor))
        values[AT, phase] = 1
        at = 0

        def bend(lines: Sound, values: Sound = values) -> Sound:
            nonlocal at
            at += len(lines)
            return values[at - len(lines) : at]

        silence = np.zeros((FRAMES, 1))
        out = shaped(bend, silence, quality, o.kept(o.shaping_state(1)))[1][AT:, 0]
        found[factor - phase :: factor][: len(out)] = out
    return found


def level_db(pulse: np.ndarray, rate: int) -> tuple[np.ndarray, np.ndarray]:
    hz = np.fft.rfftfreq(SIZE, 1 / rate)
    return hz, 20 * np.log10(np.maximum(np.abs(np.fft.rfft(pulse, SIZE)), 1e-12))


@pytest.mark.parametrize("quality", OVERSAMPLED)
def test_filters_pass_to_20_khz_and_stop_what_folds_there(quality: str) -> None:
    """Design/03: 0.01 dB, -100 dB; at 44.1 kHz, where 24.1 kHz folds to 20.

    A wave that is straight between its values has lost sinc^2, the mean over a step sinc: the
    filters make them good.
    """
    factor = o.FACTORS[quality]
    hz, up = level_db(pulse_up(quality) / factor, factor * RATE)
    _, down = level_db(pulse_down(quality), factor * RATE)
    mean = 20 * np.log10(np.sinc(hz / (factor * RATE)))
    assert np.abs((up + 2 * mean)[hz <= 20000]).max() < 0.003
    assert np.abs((down + mean)[hz <= 20000]).max() < 0.002
    assert up[hz >= 24100].max() < -100
    assert down[hz >= 24100].max() < -100


@pytest.mark.parametrize("quality", OVERSAMPLED)
def test_delays_are_those_stated(quality: str) -> None:
    """By symmetry: about UP frames, and about DOWN less the half step of the mean."""
    factor = o.FACTORS[quality]
    for pulse, middle in (
        (pulse_up(quality), o.UP * factor),
        (pulse_down(quality)[factor:], o.DOWN * factor - 0.5),
    ):
        at = np.arange(len(pulse))
        assert (pulse**2 @ at) / (pulse**2).sum() == pytest.approx(middle, abs=1e-6)
        turned = pulse[: round(2 * middle) + 1]
        # Some units of the last place of float32.
        assert np.abs(turned - turned[::-1]).max() <= 2**-21 * np.abs(pulse).max()


def through(way: list[o.Stage], values: np.ndarray) -> np.ndarray:
    """What stages make of (frames, values), in float64 by their definition."""
    for stage in way:
        flat = np.concatenate([np.zeros(stage.past * stage.inner), values.ravel()])
        at = stage.inner * (np.arange(len(values)) + stage.past)[:, None]
        rows = [flat[at + places] @ weights for places, weights in stage.rows]
        values = np.stack(rows, axis=1)
    return values


@pytest.mark.parametrize("quality", OVERSAMPLED)
def test_single_precision_is_heard_nowhere(quality: str) -> None:
    """Against float64: 135 dB below a sound that is bent hard, further below one that is not."""
    up, down = o.stages(quality)

    def bend(lines: Sound) -> Sound:
        return np.asarray(lines - lines / np.sqrt(1 + lines**2))

    for level, least in ((10.0, -135), (1.0, -150), (0.01, -225), (1e-5, -320)):
        sound = level * noise(2000, 1)
        wanted = through(down, bend(through(up, sound)))
        found = shaped(bend, sound, quality, o.kept(o.shaping_state(1)))[1]
        off = np.sqrt(np.mean((found - wanted) ** 2) / np.mean(sound**2))
        assert 20 * np.log10(off) < least, level


@pytest.mark.parametrize("quality", list(o.FACTORS))
def test_no_value_is_made_of_frames_to_come(quality: str) -> None:
    for way in o.stages(quality):
        for stage in way:
            assert all(places.max() < stage.inner for places, _ in stage.rows)
            assert all(places.min() >= -stage.inner * stage.past for places, _ in stage.rows)


@pytest.mark.parametrize("quality", OVERSAMPLED)
def test_straight_lines_between_values_lie_on_the_sine_in_the_mean(quality: str) -> None:
    """The lift is that of 1 / sinc^2 at the sine's frequency."""
    factor = o.FACTORS[quality]
    for hz in (100, 5000, 19000):
        sine = np.sin(2 * np.pi * hz * np.arange(500) / RATE)[:, None]
        lines = shaped(nothing, sine, quality, o.kept(o.shaping_state(1)))[0][:, 0]
        at = np.arange(len(lines)) / factor - o.UP
        wanted = np.sin(2 * np.pi * hz * at / RATE) / np.sinc(hz / (factor * RATE)) ** 2
        assert np.abs(lines - wanted)[150 * factor :].max() < 4e-4


@pytest.mark.parametrize("quality", OVERSAMPLED)
@pytest.mark.parametrize("power", [1, 2, 3, 5])
def test_means_over_straight_lines_are_level_whatever_power_is_taken(
    quality: str, power: int
) -> None:
    """The fundamental or the second harmonic of sine^n from 1 to 18 kHz at 44.1 kHz, by its
    binomial: 1, 1/2, 3/4, 5/8."""
    order, share = (2, 0.5) if power == 2 else (1, {1: 1, 3: 0.75, 5: 0.625}[power])
    for hz in (1000, 9000, 18000 / order):
        before = np.zeros(1)

        def bend(lines: Sound, before: np.ndarray = before) -> Sound:
            flat = lines.ravel()
            a, b = np.concatenate([before, flat[:-1]]), flat
            before[:] = flat[-1:]
            whole = sum(a**k * b ** (power - k) for k in range(power + 1)) / (power + 1)
            return whole.reshape(lines.shape)

        count = 4410
        at = np.arange(2 * count) / 44100
        sine = np.sin(2 * np.pi * hz * at)[:, None]
        out = shaped(bend, sine, quality, o.kept(o.shaping_state(1)))[1][count:, 0]
        found = 2 * abs(out @ np.exp(-2j * np.pi * order * hz * at[:count])) / count
        assert 20 * np.log10(found / share) == pytest.approx(0, abs=0.01), hz


@pytest.mark.parametrize("quality", list(o.FACTORS))
def test_passing_over_what_is_quiet_changes_nothing(quality: str) -> None:
    """A bend that begins at a level: quiet stretches and loud ones, in pieces of any length."""

    def over(lines: Sound) -> Sound:
        return np.sign(lines) * np.maximum(np.abs(lines) - 0.5, 0)

    sound = 0.2 * noise(3000)
    sound[:700] *= 0.01
    sound[1400:1500] *= 20
    sound[2500] = 3
    whole = shaped(over, sound, quality, o.kept(o.shaping_state(2)))[1]
    assert np.abs(whole).max() > 0.5
    assert not whole[:1300].any()
    quiet = 20 * np.log10(0.5 / o.BOUND)
    for size in (64, 1024, 3000):
        kept, outs = o.kept(o.shaping_state(2)), []
        for at in range(0, len(sound), size):
            outs.append(shaped(over, sound[at : at + size], quality, kept, quiet)[1])
        assert (np.concatenate(outs) == whole).all()


@pytest.mark.parametrize("quality", OVERSAMPLED)
def test_no_value_between_exceeds_the_bound(quality: str) -> None:
    """The worst sound for a value between the frames has the signs of its weights."""
    factor = o.FACTORS[quality]
    worst = np.abs(pulse_up(quality).reshape(-1, factor)).sum(axis=0).max()
    assert 0.93 * o.BOUND < worst * 1.05 <= o.BOUND * (1 + 2**-22)


def test_another_quality_goes_on_with_the_same_frames() -> None:
    """What the stages of another quality kept is of another time; what came in is not."""
    sound = noise(1500, 1)
    kept = o.kept(o.shaping_state(1))
    shaped(np.ones_like, sound[:768], "best", kept)
    lines, out = shaped(nothing, sound[768:], "good", kept)
    whole, _ = shaped(nothing, sound, "good", o.kept(o.shaping_state(1)))
    assert (lines == whole[768 * 8 :]).all()
    assert not out.any()


@pytest.mark.parametrize("quality", ["plain", "good"])
def test_interpreted_kernels_are_the_same(quality: str) -> None:
    """All but the sums, which are the machine's."""
    table, block = o.tables(quality), noise(100, 1)
    states = [o.shaping_state(1) for _ in range(2)]
    rooms = [o.room_for(table) for _ in range(2)]
    for room, state, rise in zip(rooms, states, (o.rise, o.rise.py_func), strict=True):
        room[:] = 0
        rise(room, block, 0, table, o.kept(state))
    assert (rooms[0] == rooms[1]).all()
    assert all((states[0][name] == states[1][name]).all() for name in states[0])
