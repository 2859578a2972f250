"""Small parts: ramps, delays, states, note values, sections, the gate."""

import numpy as np
import pytest
from scipy import signal

from salt_anvil.core.audio import RAMP, as_block, without_nonfinite
from salt_anvil.core.dsp import biquad
from salt_anvil.core.dsp.control_ramp import ControlRamp
from salt_anvil.core.dsp.delay import delayed, earlier, scaled
from salt_anvil.core.dsp.dynamics import gain_into
from salt_anvil.core.dsp.note import note_ms
from salt_anvil.core.dsp.stereo import from_mid_side, to_mid_side
from salt_anvil.core.errors import SoundError
from salt_anvil.core.state import State
from tests.conftest import noise


def lengths(total: int, seed: int) -> list[int]:
    generator = np.random.default_rng(seed)
    parts: list[int] = []
    while sum(parts) < total:
        parts.append(min(int(generator.integers(1, 700)), total - sum(parts)))
    return parts


def glided(parts: list[int], start: int, change_at: int) -> np.ndarray:
    glide, at, out = ControlRamp(np.array([1.0])), start, []
    for part in parts:
        if at == change_at:
            glide.to(np.array([3.0]))
        line = glide.over(at, part).frames(0, at, part)
        out.append(np.broadcast_to(line, (part, 1)))
        at += part
    return np.concatenate(out)[:, 0]


def test_glide_is_a_straight_line_from_the_next_grid_point() -> None:
    line = glided([100, 2900], 0, 100)
    expected = np.interp(np.arange(3000), [128, 128 + RAMP], [1.0, 3.0])
    assert np.abs(line - expected).max() < 1e-12


@pytest.mark.parametrize("start", [0, 37, -5])
def test_glide_does_not_depend_on_block_lengths(start: int) -> None:
    whole = glided([100, 2900], start, start + 100)
    for seed in range(5):
        parts = [100, *lengths(2900, seed)]
        assert np.abs(glided(parts, start, start + 100) - whole).max() < 1e-12


@pytest.mark.parametrize("wait", [0, 1, 100, 3000])
def test_delay_by_whole_frames(wait: int) -> None:
    sound, past, out, at = noise(4000), np.zeros((wait, 2)), [], 0
    for part in lengths(4000, 3):
        out.append(delayed(sound[at : at + part], past))
        at += part
    assert (np.concatenate(out)[wait:] == sound[: 4000 - wait]).all()


@pytest.mark.parametrize("wait", [0, 1, 100, 3000])
@pytest.mark.parametrize("apart", [0.0, 3.0])
@pytest.mark.parametrize("channels", [1, 2])
def test_a_gain_and_the_delay_before_it_are_both(wait: int, apart: float, channels: int) -> None:
    """Channels turned down alike, and apart; cells in which nothing is."""
    sound, less = noise(4000, channels), np.abs(noise(4000, channels, seed=2))
    less[:, -1] = less[:, 0] + apart
    less[512:1024] = 0.0
    late = np.concatenate([np.zeros((wait, channels)), sound])[:4000]
    out, scaled_out, at = np.empty_like(sound), np.empty_like(sound), 0
    past, past_too = np.zeros((2, wait, channels))
    for part in lengths(4000, 3):
        here, still = slice(at, at + part), np.zeros(part // 64 + 2)
        gain_into(out[here], sound[here], less[here], at, still, still, past)
        scaled_out[here] = scaled(sound[here], less[here], past_too)
        at += part
    wanted = late * 10 ** (-less / 20)
    assert np.abs(out - wanted).max() < 1e-12
    assert (out[512:1024] == late[512:1024]).all()
    assert (scaled_out == late * less).all()


def test_state_survives_its_bytes() -> None:
    state = State(a=np.arange(6.0).reshape(2, 3), empty=np.zeros((0, 2)))
    state.update(three=np.arange(3, dtype=np.float32), one=np.array([1e-300]))
    back = State.from_bytes(state.to_bytes())
    assert list(back) == list(state)
    assert all((back[n] == state[n]).all() and back[n].shape == state[n].shape for n in state)
    assert [a.dtype for a in back.values()] == [a.dtype for a in state.values()]


def test_clone_is_independent() -> None:
    state = State(a=np.zeros(2))
    state.clone()["a"][0] = 1
    assert state["a"][0] == 0


# Values of design/05 and /03: 60 000 / bpm x note; at 102 bpm a quarter is 588.2 ms.
@pytest.mark.parametrize(
    ("note", "expected"),
    [("1/4", 588.235), ("1/8", 294.118), ("1/8.", 441.176), ("1/8t", 196.078), ("1/1", 2352.94)],
)
def test_note_values(note: str, expected: float) -> None:
    assert note_ms(note, 102) == pytest.approx(expected, abs=0.01)  # type: ignore[arg-type]


@pytest.mark.parametrize("design", [biquad.low_pass, biquad.high_pass])
def test_sections_are_butterworth(design) -> None:
    # scipy's own Butterworth design, order 2, prewarped as the Cookbook's is.
    kind = "lowpass" if design is biquad.low_pass else "highpass"
    ours = design(1000.0, 48000)
    b, a = signal.butter(2, 1000.0, kind, fs=48000)
    assert np.allclose(ours, [*b, *a[1:]], atol=1e-12)


@pytest.mark.parametrize("compiled", [True, False])
def test_cascade_against_scipy(compiled: bool) -> None:
    kernel = biquad.filter_into if compiled else biquad.filter_into.py_func
    sections = np.array([biquad.low_pass(3000.0, 48000), biquad.high_pass(80.0, 48000)])
    sound, out, state = noise(800), np.empty((800, 2)), np.zeros((2, 2, 2))
    for at in range(0, 800, 160):
        kernel(out[at : at + 160], sound[at : at + 160], sections, state)
    sos = np.insert(sections, 3, 1.0, axis=1)
    assert np.abs(out - signal.sosfilt(sos, sound, axis=0)).max() < 1e-13


def test_gate_makes_contiguous_float64() -> None:
    block = as_block(np.ones((8, 4), np.float32)[:, ::2])
    assert block.flags.c_contiguous
    assert block.flags.writeable
    assert block.dtype == np.float64
    with pytest.raises(SoundError, match=r"shape \(4, 8\)"):
        as_block(np.zeros((4, 8)))


def test_nonfinite_samples_become_silence() -> None:
    sound = noise(10)
    sound[3, 1], sound[5, 0] = np.nan, np.inf
    clean, count = without_nonfinite(sound)
    assert count == 2
    assert np.isfinite(clean).all()
    assert clean[3, 1] == clean[5, 0] == 0
    assert (clean[0] == sound[0]).all()


def test_mid_side_there_and_back() -> None:
    """Nulls to 1e-15 (design/03); against the defining matrix."""
    sound = noise(1000)
    matrix = np.array([[0.5, 0.5], [0.5, -0.5]])
    assert np.abs(to_mid_side(sound) - sound @ matrix).max() < 1e-15
    assert np.abs(from_mid_side(to_mid_side(sound)) - sound).max() < 1e-15


@pytest.mark.parametrize("block", [1, 5, 64, 300])
def test_a_delay_may_change_between_blocks(block: int) -> None:
    """Whatever it was before: behind a change lies what a longer past would have given."""
    sound, past, given = noise(900), np.zeros((40, 2)), []
    waits = [(0, 7, 40, 39)[i // 3 % 4] for i in range(900 // block)]
    for i, wait in enumerate(waits):
        given.append(earlier(sound[i * block : (i + 1) * block], wait, past))
    before = np.concatenate([np.zeros((40, 2)), sound])
    wanted = [before[40 + i * block - w : 40 + (i + 1) * block - w] for i, w in enumerate(waits)]
    assert (np.concatenate(given) == np.concatenate(wanted)).all()
    assert (past == before[len(waits) * block : len(waits) * block + 40]).all()


def test_what_is_delayed_may_lie_in_memory_as_it_likes() -> None:
    sound = np.asfortranarray(noise(300))
    assert (earlier(sound, 7, np.zeros((9, 2)))[7:] == sound[:-7]).all()
