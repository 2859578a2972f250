"""What stands between the sound and the ear, through the browser's own rendering."""

import base64
from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Page, expect
from scipy import signal

from tests.browser.test_job import open_demo
from tests.conftest import noise

RATE = 48000

# The same graph as behind the player, rendered at once. Samples go as text: numbers one by one
# take seconds.
RENDER = """async ([left, right, on]) => {
  const bytes = (text) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
  const read = (text) => new Float32Array(bytes(text).buffer);
  const write = (samples) => {
    let text = '';
    for (const byte of new Uint8Array(samples.buffer)) text += String.fromCharCode(byte);
    return btoa(text);
  };
  [left, right] = [read(left), read(right)];
  const context = new OfflineAudioContext(2, left.length, 48000);
  const buffer = context.createBuffer(2, left.length, 48000);
  buffer.copyToChannel(left, 0);
  buffer.copyToChannel(right, 1);
  const source = new AudioBufferSourceNode(context, { buffer });
  const monitor = new saltAnvil.live.monitor.constructor();
  for (const [way, times] of Object.entries(on))
    for (let i = 0; i < times; i++) monitor.turn(way);
  monitor.attach(context, source);
  source.start();
  const out = await context.startRendering();
  return [write(out.getChannelData(0)), write(out.getChannelData(1)), monitor.words];
}"""


def heard(page: Page, sound: np.ndarray, **on: int) -> tuple[np.ndarray, list[str]]:
    """What comes out, (frames, 2), and what the page says of it."""
    given = [base64.b64encode(side.astype("<f4").tobytes()).decode() for side in sound.T]
    page.wait_for_function("window.saltAnvil !== undefined")
    *sides, words = page.evaluate(RENDER, [*given, on])
    out = [np.frombuffer(base64.b64decode(side), "<f4") for side in sides]
    return np.array(out, np.float64).T, words


def test_two_channels_become(page: Page) -> None:
    sound = noise(4800, 2, seed=3).astype(np.float32).astype(np.float64) * 0.3
    left, right = sound.T
    half, less = (left + right) / 2, (left - right) / 2
    none = np.zeros_like(left)
    for on, wanted, words in [
        ({}, (left, right), []),
        ({"mono": 1}, (half, half), ["mono"]),
        ({"mono": 2}, (left, right), []),
        ({"sides": 1}, (less, less), ["sides only"]),
        ({"ear": 1}, (left, none), ["left ear"]),
        ({"ear": 2}, (none, right), ["right ear"]),
        ({"swapped": 1}, (right, left), ["swapped"]),
        ({"ear": 1, "swapped": 1}, (none, left), ["left ear", "swapped"]),
        ({"mono": 1, "sides": 1}, (less, less), ["sides only"]),
        ({"dim": 1}, (left / 10, right / 10), ["dim"]),
    ]:
        out, said = heard(page, sound, **on)
        assert np.abs(out - np.array(wanted).T).max() < 1e-6, on
        assert said == words


@pytest.mark.parametrize("band", [1, 2, 3, 4])
def test_one_band_is_cut_as_butterworth_cuts(page: Page, band: int) -> None:
    """Against scipy's filters of the fourth order, by their response to an impulse."""
    ends = [None, 150, 800, 5000, None]
    low, high = ends[band - 1], ends[band]
    impulse = np.zeros((RATE, 2))
    impulse[0] = 0.5
    out, _ = heard(page, impulse, band=band)
    wanted = impulse[:, 0]
    for hz, kind in ((low, "highpass"), (high, "lowpass")):
        if hz:
            wanted = signal.sosfilt(signal.butter(4, hz, kind, fs=RATE, output="sos"), wanted)
    got, ideal = (np.abs(np.fft.rfft(x)) for x in (out[:, 0], wanted))
    inside = ideal > 0.5 * 10 ** (-60 / 20)
    assert np.abs(20 * np.log10(got[inside] / ideal[inside])).max() < 0.3
    assert (out[:, 0] == out[:, 1]).all()


@pytest.mark.parametrize(("size", "low", "high"), [(1, 160, 9000), (2, 500, 5000)])
def test_small_loudspeakers_are_mono_narrow_and_a_little_bent(
    page: Page, size: int, low: int, high: int
) -> None:
    t = np.arange(RATE) / RATE
    sine = 0.5 * np.sin(2 * np.pi * 1000 * t)
    out, _ = heard(page, np.array([sine, sine]).T, small=size)
    spectrum = np.abs(np.fft.rfft(out[:, 0] * np.hanning(RATE)))
    bent = spectrum[3000] / spectrum[1000]
    assert 0.003 < bent < 0.1
    quiet = noise(RATE, 2, seed=5) * 0.01
    out, _ = heard(page, quiet, small=size)
    assert np.abs(out[:, 0] - out[:, 1]).max() == 0
    hz, got = signal.welch(out[:, 0], RATE, nperseg=8192)
    _, came = signal.welch(quiet.mean(1), RATE, nperseg=8192)
    drop = 10 * np.log10(got / came)
    assert np.abs(drop[(hz > 1.6 * low) & (hz < high / 1.6)]).max() < 1.5
    assert drop[hz < low / 2].max() < -18
    assert drop[(hz > 2 * high) & (hz < 20000)].max() < -18


def test_a_key_each_and_a_caution_while_any_is_on(page: Page) -> None:
    open_demo(page)
    keys: dict[str, Any] = {"6": "mono", "7": "sides only", "8": "left ear", "9": "swapped",
                            "0": "dim", "u": "radio on a shelf", "n": "lows"}  # fmt: skip
    caution = page.get_by_title("Between the sound and the ear")
    for key, words in keys.items():
        page.keyboard.press(key)
        expect(caution).to_contain_text(words)
    page.keyboard.press("3")
    expect(caution).to_contain_text("dim")
    caution.click()
    expect(caution).to_have_count(0)
    page.keyboard.press("2")
    page.get_by_text("heard as it is").click()
    page.get_by_role("button", name="swapped").click()
    expect(caution).to_have_text("swapped")
    # Nothing of it is the session's: no step to undo.
    assert page.evaluate("saltAnvil.work.state.undo") is None
