"""The ledger and the hits: figures of a passage, contrast, cautions, beginnings."""

import numpy as np
import pytest

from salt_anvil.core.measure.cautions import silent_caution
from salt_anvil.core.measure.hits import last_hits
from salt_anvil.core.measure.ledger import ledger, percussive
from salt_anvil.core.measure.rows import RowMeter
from salt_anvil.core.measure.spans import Span
from tests.conftest import sine

RATE = 48000
QUIET, LOUD = Span("Quiet", 0, 10 * RATE), Span("Loud", 10 * RATE, 20 * RATE)
WHOLE = Span("", 0, 20 * RATE)


def rows(first_db: float, second_db: float) -> np.ndarray:
    sound = np.concatenate([sine(1000, 10, level_db=first_db), sine(1000, 10, level_db=second_db)])
    return RowMeter(RATE, 2).feed(sound)


def cells(first_db: float, second_db: float) -> np.ndarray:
    half = 10 * RATE // 64
    return np.repeat([first_db, second_db], half)[:, None] * np.ones((1, 2))


def test_differences_of_two_tones() -> None:
    found = ledger(rows(-30, -20), rows(-33, -23), cells(0, 3), RATE, LOUD, [QUIET, LOUD])
    assert found.after.integrated_lufs - found.before.integrated_lufs == pytest.approx(-3, abs=0.01)
    assert (found.before_db, found.after_db) == (pytest.approx(-3, abs=0.01), 0)
    # The balance of the ranges is told without the change of loudness.
    assert found.ranges_db[2] == pytest.approx(0, abs=0.01)
    assert found.reduction.median == 3
    assert [s.reduction.most for s in found.sections] == [0, 3]
    assert found.cautions == []


def test_same_loudness_turns_the_louder_side_down() -> None:
    found = ledger(rows(-30, -30), rows(-24, -24), cells(0, 0), RATE, WHOLE, [])
    assert found.before_db == 0
    assert found.after_db == pytest.approx(-6, abs=0.01)


def test_contrast_and_its_caution() -> None:
    found = ledger(rows(-30, -24), rows(-24, -23.5), cells(0, 3), RATE, WHOLE, [QUIET, LOUD])
    assert found.contrast is not None
    assert (found.contrast.quiet, found.contrast.loud) == ("Quiet", "Loud")
    assert found.contrast.before == pytest.approx(6, abs=0.05)
    assert found.contrast.after == pytest.approx(0.5, abs=0.05)
    assert [c.rule for c in found.cautions] == ["contrast"]
    assert "only 0.5 LU louder" in found.cautions[0].words


def test_a_section_with_only_leaks_is_no_contrast() -> None:
    found = ledger(rows(-70, -24), rows(-70, -24), cells(0, 0), RATE, WHOLE, [QUIET, LOUD])
    assert found.contrast is None


def test_a_noise_floor_that_is_brought_up() -> None:
    """Words at -20 over a floor at -60: 12 dB more of the floor alone is told, of all is not."""
    loud, quiet = rows(-20, -60), rows(-20, -48)
    found = ledger(loud, quiet, cells(0, 0), RATE, WHOLE, [])
    [caution] = [c for c in found.cautions if c.rule == "floor"]
    assert caution.value == pytest.approx(12, abs=0.1)
    assert "noise and bleed" in caution.words
    again = ledger(loud, rows(-20, -58), cells(0, 0), RATE, WHOLE, [])
    assert [c.rule for c in again.cautions] == []
    # What is quiet music and no floor may come up.
    music = ledger(rows(-20, -34), rows(-20, -28), cells(0, 0), RATE, WHOLE, [])
    assert [c.rule for c in music.cautions] == []


def test_what_carries_nothing_is_told() -> None:
    sound = rows(-20, -110)
    assert silent_caution("key", "The key, A,", sound, RATE, QUIET) == []
    [caution] = silent_caution("key", "The key, A,", sound, RATE, LOUD)
    assert caution.words == "The key, A, carries nothing here."
    assert caution.value < caution.limit
    assert silent_caution("key", "A", sound[:0], RATE, LOUD) == []


def test_reduction_that_never_lets_go_between_hits() -> None:
    held = cells(0, 2)
    held[::10] = 8
    found = ledger(
        rows(-20, -20), rows(-22, -22), held, RATE, WHOLE, [QUIET, LOUD], percussive=True
    )
    assert [(c.rule, c.begin) for c in found.cautions] == [("let-go", LOUD.begin)]
    again = ledger(rows(-20, -20), rows(-22, -22), held, RATE, WHOLE, [QUIET, LOUD])
    assert again.cautions == []


def test_true_peak_and_crest_cautions() -> None:
    sound = np.zeros((20 * RATE, 2))
    sound[::4800] = 0.99
    clicks = RowMeter(RATE, 2).feed(sound + 0.01 * sine(1000, 20))
    flat = RowMeter(RATE, 2).feed(1.4 * sine(1000, 20))
    found = ledger(clicks, flat, cells(0, 0), RATE, WHOLE, [])
    assert {c.rule for c in found.cautions} == {"crest", "peak"}
    assert percussive(clicks)
    assert not percussive(flat)


def stereo(left: float, right: float, common: float) -> np.ndarray:
    """Noise: common to both channels, and each one's own, by amplitude."""
    random = np.random.default_rng(2)
    own = random.standard_normal((3, 4 * RATE)) * 0.1
    sound = np.array([left * own[0] + common * own[2], right * own[1] + common * own[2]]).T
    return RowMeter(RATE, 2).feed(sound)


def test_cautions_of_the_image() -> None:
    """Own noise in both channels: their sum lies 3.01 dB under both."""
    span = Span("", 0, 4 * RATE)
    none = np.zeros((0, 2))
    mono, wide = stereo(0, 0, 1), stereo(1, 1, 0)
    found = ledger(mono, wide, none, RATE, span, [])
    assert [c.rule for c in found.cautions] == ["mono"]
    assert found.cautions[0].value == pytest.approx(3.01, abs=0.1)
    assert ledger(wide, mono, none, RATE, span, []).cautions == []
    found = ledger(wide, stereo(1, 0.5, 0), none, RATE, span, [])
    assert [c.words for c in found.cautions] == ["The image moves 6.0 dB to the left."]


def test_cautions_of_one_stage() -> None:
    quiet = rows(-20, -20)

    def rules(taken: np.ndarray, **more: object) -> list[str]:
        found = ledger(quiet, quiet, taken, RATE, WHOLE, [], **more)  # type: ignore[arg-type]
        return [c.rule for c in found.cautions]

    assert rules(cells(0, 0), alone="gate") == ["never-closes"]
    assert rules(cells(40, 40), alone="gate") == ["never-opens"]
    assert rules(cells(0, 40), alone="gate") == []
    assert rules(cells(0, 3), wall=True) == ["wall"]
    assert rules(cells(0, 1.9), wall=True) == rules(cells(0, 3), alone="compressor") == []


def test_last_hits_begin_where_reduction_rises() -> None:
    reduction = np.zeros(4000)
    for start in (500, 1500, 2500, 3500):
        reduction[start : start + 200] = 6 * np.exp(-np.arange(200) / 60)
    hits = last_hits(reduction, RATE, 3000 * 64)
    starts = [frame // 64 + int(np.argmax(np.array(cells) > 1)) for frame, cells in hits]
    assert starts == [500, 1500, 2500]
    assert max(hits[0][1]) == 6
    assert last_hits(reduction, RATE, 100) == []
