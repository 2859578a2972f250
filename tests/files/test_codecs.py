"""Ways out gone, and what comes back, read by decoders that are not FFmpeg's where there are any.

MP3 is read back through libsndfile by mpg123, Opus by libopus, Vorbis by libvorbis.
"""

from pathlib import Path

import numpy as np
import pytest
import soundfile
from scipy import signal

from salt_anvil.core.delivery.ways import CODERS, Way, way_of
from salt_anvil.files.codecs import ENDINGS, converted, decode, encode
from tests.conftest import noise, sine

NAMES = ("mp3:128", "aac:256", "opus:96", "vorbis:192")


def music(rate: int, channels: int = 2, seconds: float = 4) -> np.ndarray:
    sound = noise(round(seconds * rate), channels, level=0.3, seed=6)
    sos = signal.butter(2, [80, 6000], "band", fs=rate, output="sos")
    at = np.arange(len(sound)) / rate
    return signal.sosfilt(sos, sound, axis=0) * (0.2 + np.abs(np.sin(4 * at)))[:, None]


def gone(way: Way, sound: np.ndarray, rate: int, path: Path) -> np.ndarray:
    coded = path / f"coded.{ENDINGS[way.codec or '']}"
    blocks = (sound[a : a + 30_011] for a in range(0, len(sound), 30_011))
    out = way.rate_at(rate)
    going = converted(way, blocks, rate, sound.shape[1])
    done: list[int] = []
    encode(way, going, out, sound.shape[1], coded, done.append)
    assert done[-1] >= len(sound) * out // rate - 2
    assert way.codec
    return np.concatenate(list(decode(way.codec, coded, sound.shape[1])))


def lag(sound: np.ndarray, other: np.ndarray) -> int:
    count = min(len(sound), len(other))
    found = signal.correlate(other[:count, 0], sound[:count, 0], method="fft")
    return int(np.argmax(found)) - count + 1


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize("rate", [44100, 48000, 96000])
def test_what_comes_back_is_in_step(name: str, channels: int, rate: int, tmp_path: Path) -> None:
    way, sound = way_of(name), music(rate, channels)
    back = gone(way, sound, rate, tmp_path)
    out = way.rate_at(rate)
    assert out in CODERS[way.codec].rates  # type: ignore[index]
    wanted = signal.resample_poly(sound, out, rate, axis=0) if out != rate else sound
    assert back.shape[1] == channels
    assert len(wanted) - 2 <= len(back) < len(wanted) + 3000
    assert abs(lag(wanted, back)) <= 1
    count = min(len(back), len(wanted))
    left = np.square(back[:count] - wanted[:count]).mean() / np.square(wanted).mean()
    assert 10 * np.log10(left) < -3  # it is this sound


@pytest.mark.parametrize("name", ["mp3:128", "mp3:320", "opus:96"])
def test_another_decoder_hears_the_same(name: str, tmp_path: Path) -> None:
    way, sound = way_of(name), music(48000) * 3  # over full scale after coding
    back = gone(way, sound, 48000, tmp_path)
    other = soundfile.read(tmp_path / f"coded.{ENDINGS[way.codec or '']}", always_2d=True)[0]
    count = min(len(back), len(other))
    assert count >= len(sound)
    assert np.abs(back[:count]).max() > 1
    loud = np.abs(back[:count]) < 0.99  # libsndfile's MP3 is not cut, its Opus may be
    assert np.abs(back[:count] - other[:count])[loud].max() < 2e-3


@pytest.mark.parametrize("bits", [16, 24])
def test_dither_is_last_or_the_wrong_order(bits: int) -> None:
    """TPDF of 2 LSB leaves 3/12 LSB² of noise; before conversion what of it lies above 20 to 22
    kHz goes, and rounding adds 1/12 (Lipshitz, Wannamaker and Vanderkooy 1992)."""
    rate, step = 48000, 2.0 ** (1 - bits)
    quiet = sine(500, 4, rate, level_db=-60)

    def power(way: Way) -> float:
        sound = np.concatenate(list(converted(way, iter([quiet]), rate, 2)))
        clean = np.concatenate(list(converted(Way(rate=44100), iter([quiet]), rate, 2)))
        levels = sound / step
        assert np.abs(levels - np.round(levels)).max() < 1e-6  # it has that width
        return float(np.square((sound - clean) / step).mean())

    assert power(Way(rate=44100, bits=bits)) == pytest.approx(3 / 12, rel=0.02)  # type: ignore[arg-type]
    before = power(Way(rate=44100, bits=bits, dither="before"))  # type: ignore[arg-type]
    assert 3 / 12 * 20 / 24 + 1 / 12 < before < 3 / 12 * 44100 / 48000 + 1 / 12 + 0.003


def test_a_conversion_keeps_a_tone_and_takes_what_is_over_the_band() -> None:
    way = Way(rate=44100)
    tone = np.concatenate(list(converted(way, iter([sine(10_000, 1, 96000)]), 96000, 2)))
    middle = tone[8000:-8000]
    assert np.abs(middle).max() == pytest.approx(1, abs=2e-3)
    high = np.concatenate(list(converted(way, iter([sine(30_000, 1, 96000)]), 96000, 2)))
    assert np.abs(high[8000:-8000]).max() < 1e-6
