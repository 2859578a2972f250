"""What is looked for in a file before it leaves, on sounds made to have it, and to have it not."""

import numpy as np
import pytest

from salt_anvil.core.delivery.inspection import ClipMeter, Inspector, findings
from salt_anvil.core.measure.rows import Figures, RowMeter, figures
from tests.conftest import noise

RATE = 48000


def found_in(sound: np.ndarray, block: int = 10_007) -> list[str]:
    inspector = Inspector(RATE, sound.shape[1])
    for at in range(0, len(sound), block):
        inspector.feed(sound[at : at + block])
    mono = None if sound.shape[1] == 1 else of(sound.mean(axis=1, keepdims=True).repeat(2, 1))
    return [f.title for f in findings(inspector.result(), of(sound), mono)]


def of(sound: np.ndarray) -> Figures:
    rows = RowMeter(RATE, sound.shape[1])
    return figures(np.concatenate([rows.feed(sound), rows.flush()]))


def faded(sound: np.ndarray) -> np.ndarray:
    fade = np.ones(len(sound))
    fade[-RATE:] = np.linspace(1, 0, RATE) ** 4
    return sound * fade[:, None]


CLEAN = faded(noise(4 * RATE, level=0.1, seed=3) + 0.5 * noise(4 * RATE, 1, level=0.1, seed=4))


def test_nothing_is_found_where_nothing_is() -> None:
    assert found_in(CLEAN) == []
    assert found_in(CLEAN[:, :1]) == []


def with_clips(sound: np.ndarray) -> np.ndarray:
    sound = sound.copy()
    sound[1000:1004, 0] = 0.99
    sound[9000:9003, 1] = -1.0  # three are no run
    return sound


@pytest.mark.parametrize(
    ("title", "sound"),
    [
        ("Silent", np.zeros((RATE, 2))),
        ("Silent channel", CLEAN * [1, 0]),
        ("Equal channels", CLEAN[:, :1].repeat(2, 1)),
        ("Turned phase", np.column_stack([CLEAN[:, 0], -CLEAN[:, 0] + 0.3 * CLEAN[:, 1]])),
        ("Mono loss", np.column_stack([CLEAN[:, 0], -CLEAN[:, 0] + 0.3 * CLEAN[:, 1]])),
        ("DC", CLEAN + 0.002),
        ("Fade cut off", CLEAN[: 2 * RATE]),
        ("Silence", np.concatenate([np.zeros((2 * RATE, 2)), CLEAN])),
        ("Silence", np.concatenate([CLEAN, np.zeros((2 * RATE, 2))])),
        ("Clipped", with_clips(CLEAN)),
    ],
)  # fmt: skip
@pytest.mark.parametrize("block", [997, 1_000_000])
def test_what_is_wrong_is_found(title: str, sound: np.ndarray, block: int) -> None:
    assert title in found_in(sound, block)


@pytest.mark.parametrize("block", [1, 3, 64, 5000])
def test_runs_at_full_scale_are_counted_once_each(block: int) -> None:
    sound = noise(5000, 2, level=0.1, seed=8)
    for begin, length in ((100, 4), (200, 40), (300, 3), (4990, 10)):
        sound[begin : begin + length, 0] = 1.0
    sound[400:410, 1] = -0.995
    sound[500:510, 1] = 0.5  # stands still, but not at the top
    meter = ClipMeter(2)
    for at in range(0, len(sound), block):
        meter.feed(sound[at : at + block])
    assert meter.runs == 4
    assert meter.first == 100


def test_one_frame() -> None:
    assert found_in(np.full((1, 2), 0.5), 1)[0] in ("Equal channels", "Fade cut off")
