"""Every figure of files of random length, from 1 frame to 20 s, against two independent meters.

Loudness: FFmpeg's ebur128 through PyAV, at 48 kHz for which its coefficients are made, and
pyloudnorm, given whole 100 ms only (it rounds the number of gating blocks, BS.1770-4 leaves an
incomplete one out). True peak: scipy's polyphase resampling by 8 with a long Kaiser window, which
shares neither taps nor code with ours. The rest: numpy over all frames.
"""

import warnings

import av
import numpy as np
import pyloudnorm
import pytest
from scipy.signal import firwin

from salt_anvil.core.measure.rows import Figures, RowMeter, figures
from tests import long
from tests.hard_sounds import filtered_up

RATES = (44100, 48000, 96000, 192000)
FILES = long.of(40, 200)
WINDOW = firwin(8 * 256 + 1, 1 / 8, window=("kaiser", 9.0))


def a_file(seed: int) -> tuple[int, np.ndarray]:
    random = np.random.default_rng(seed)
    rate = RATES[seed % 4]
    frames = max(1, int(rate * 20 ** random.uniform(-4, 1))) if seed > 3 else seed + 1
    channels = int(random.integers(1, 3))
    at = np.arange(frames)[:, None] / rate
    tone = np.sin(2 * np.pi * random.uniform(50, 0.2 * rate) * at)
    level = 10 ** (random.uniform(-45, -6) / 20)
    envelope = np.where(np.sin(2 * np.pi * random.uniform(0.1, 2) * at) > 0, 1.0, 0.1)
    sound = level * envelope * (tone + 0.3 * random.standard_normal((frames, channels)))
    if random.integers(2) and frames > 100:
        # What used to be lost: something loud in the last milliseconds.
        sound[-50:] = 0.9 * np.sin(2 * np.pi * 997 * at[-50:])
    return rate, sound + random.uniform(-0.01, 0.01)


def ours(rate: int, sound: np.ndarray, seed: int) -> Figures:
    meter = RowMeter(rate, sound.shape[1])
    sizes = np.random.default_rng(seed).integers(1, 5000, 4000)
    rows, at = [], 0
    for size in sizes:
        if at >= len(sound):
            break
        rows.append(meter.feed(np.ascontiguousarray(sound[at : at + size])))
        at += size
    if at < len(sound):
        rows.append(meter.feed(np.ascontiguousarray(sound[at:])))
    rows.append(meter.flush())
    return figures(np.concatenate(rows))


def ffmpeg_loudness(rate: int, sound: np.ndarray) -> float:
    graph = av.filter.Graph()
    layout = "mono" if sound.shape[1] == 1 else "stereo"
    source = graph.add_abuffer(
        format="dbl",
        sample_rate=rate,
        layout=layout,
        time_base=f"1/{rate}",  # type: ignore[arg-type]
    )
    meter = graph.add("ebur128", "metadata=1")
    sink = graph.add("abuffersink")
    source.link_to(meter)
    meter.link_to(sink)
    graph.configure()
    frame = av.AudioFrame.from_ndarray(sound.reshape(1, -1).copy(), "dbl", layout)
    frame.sample_rate, frame.pts = rate, 0
    graph.push(frame)
    graph.push(None)
    reported = -70.0
    while True:
        try:
            out = graph.pull()
        except (av.error.EOFError, av.error.BlockingIOError):
            return reported
        reported = float(out.metadata.get("lavfi.r128.I", reported))


@pytest.mark.parametrize("seed", range(FILES))
def test_every_figure(seed: int) -> None:
    rate, sound = a_file(seed)
    found = ours(rate, sound, seed)
    whole = round(rate / 10)
    used = sound[: len(sound) // whole * whole]
    if len(used) >= 4 * whole:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            other = pyloudnorm.Meter(rate).integrated_loudness(np.ascontiguousarray(used))
        if np.isfinite(other) and other > -69:
            # Its filters are mapped to other rates in its own way.
            assert found.integrated_lufs == pytest.approx(other, abs=0.05 if rate == 48000 else 0.2)
        if rate == 48000:
            assert found.integrated_lufs == pytest.approx(ffmpeg_loudness(rate, used), abs=0.06)
    else:
        assert found.integrated_lufs is None
    power = float(np.square(sound).mean())
    assert found.rms_dbfs == pytest.approx(10 * np.log10(max(power, 1e-12)), abs=1e-6)
    assert found.sample_peak_dbfs == pytest.approx(
        20 * np.log10(max(np.abs(sound).max(), 1e-6)), abs=1e-9
    )
    assert found.dc_offset == pytest.approx(sound.mean(), abs=1e-12)
    between = filtered_up(8 * WINDOW, sound, 8)
    peak = max(float(np.abs(between).max()), float(np.abs(sound).max()))
    # Ours stops at 16 frames on each side; noise up to half the rate differs by that much.
    assert found.true_peak_dbtp == pytest.approx(20 * np.log10(peak), abs=0.5)


def test_a_loud_end_is_not_a_loud_song() -> None:
    """10 s of a -40 dBFS sine and 2 ms at full scale: -40 and not -6."""
    at = np.arange(480_096) / 48000
    sound = np.sin(2 * np.pi * 997 * at) * np.where(at < 10, 0.01, 1.0)
    found = ours(48000, sound[:, None], 1)
    assert found.integrated_lufs == pytest.approx(-40 - 3.01, abs=0.1)
    expected = 10 * np.log10(np.square(sound).mean())
    assert found.rms_dbfs == pytest.approx(expected, abs=1e-9)


def test_the_last_frames_count_for_the_true_peak() -> None:
    """A quarter of the rate, 45 degrees off, for the last 12 frames only: -3.01 at the samples."""
    sound = np.zeros((48_000, 1))
    sound[-12:, 0] = np.sin(np.pi / 2 * np.arange(12) + np.pi / 4)
    found = ours(48000, sound, 1)
    assert found.sample_peak_dbfs == pytest.approx(-3.01, abs=0.01)
    assert -0.1 < found.true_peak_dbtp < 1.0
