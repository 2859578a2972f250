"""The scan against constructed beds: what was put in is known, and nothing else may be found.

The bench counts over many (`python -m bench.resonances`); these are the cases that must not break.
"""

from collections.abc import Callable
from functools import partial

import numpy as np
import pytest

from salt_anvil.core.errors import SoundError
from salt_anvil.core.processors.tamer import region_of
from salt_anvil.core.resonances import in_notes
from salt_anvil.core.resonances.scan import Scan, scan
from tests.core.resonances import beds
from tests.core.resonances.beds import RATE, Bed, Ring
from tests.long import of

HELD = [(2027, 1), (1299, 2), (2663, 3), (2642, 4), (1618, 7)]
"""Where a note is held under which speech."""
PINK = [Ring(250, 4, 9), Ring(1000, 8, 12), Ring(4000, 15, 6)]


def scanned(sound: np.ndarray, rate: int = RATE) -> Scan:
    return scan(sound[:, None], rate)


def missed(put_in: list[Ring], found: Scan) -> list[Ring]:
    """Those that were put in and not found within a sixth of an octave of where they are."""
    return [
        ring
        for ring in put_in
        if all(abs(np.log2(r.hz / ring.hz)) > 1 / 6 + ring.octaves / 2 for r in found.found)
    ]


def test_the_check_values() -> None:
    """Design 11: three places within 1/6 octave, gains within 3 dB; without them, nothing."""
    found = scanned(beds.ringing(beds.pink(1).sound, PINK)).found
    assert len(found) == 3
    for ring, place in zip(PINK, found, strict=True):
        assert abs(np.log2(place.hz / ring.hz)) < 1 / 6
        assert place.over_db == pytest.approx(ring.gain_db, abs=3)
        assert place.share > 0.5
    assert scanned(beds.pink(1).sound).found == ()


@pytest.mark.parametrize("rate", [44100, 96000][: of(1, 2)])
def test_at_another_rate_the_same_places(rate: int) -> None:
    import soxr  # a converter that is not ours

    sound = soxr.resample(beds.ringing(beds.pink(2).sound, PINK), RATE, rate)
    assert missed(PINK, scanned(sound, rate)) == []


@pytest.mark.parametrize("bed", ["pink", "drums"])
@pytest.mark.parametrize("seed", [3, 11])
@pytest.mark.parametrize("moving", [False, True])
def test_in_noise_and_drums_all_are_found(bed: str, seed: int, moving: bool) -> None:
    put_in = beds.rings(seed + 1000 * moving, moving=moving)
    found = scanned(beds.ringing(getattr(beds, bed)(seed).sound, put_in))
    assert missed(put_in, found) == []


# With notes that stand still: traces between the partials (3, 66), a round one (39), and one that
# the partials of many notes share, at one pitch (19, 55).
@pytest.mark.parametrize(
    ("seed", "vibrato"), [(0, 0.3), (5, 0.3), (3, 0.0), (66, 0.0), (39, 0.0), (19, 0.0), (55, 0.0)]
)
def test_in_a_melody_what_six_notes_pass_through_is_found(seed: int, vibrato: float) -> None:
    bed, put_in = beds.melody(seed, vibrato=vibrato), beds.rings(seed)
    counting = [r for r in put_in if beds.excited(r, bed.notes) >= 6]
    assert counting
    assert missed(counting, scanned(beds.ringing(bed.sound, put_in))) == []


@pytest.mark.parametrize(("hz", "seed"), HELD[: of(2, 5)])
def test_a_note_held_under_speech_is_no_resonance(hz: float, seed: int) -> None:
    """Every syllable shows it, as it would show a resonance; but its level is its own."""
    speech = beds.speech(seed).sound
    held = 0.3 * speech.std() * np.sin(2 * np.pi * hz * np.arange(len(speech)) / RATE)
    found = scanned(speech + held)
    assert all(abs(np.log2(r.hz / hz)) > 1 / 24 for r in found.found)
    assert any(abs(np.log2(note.hz / hz)) < 1 / 24 for note in found.held)


def test_of_a_short_passage_of_speech_it_says_that_a_longer_one_shows_more() -> None:
    assert scanned(beds.speech(3, 6.0).sound).words.endswith("10 s would show more.")
    for sound in (beds.speech(3).sound, beds.melody(3, 6.0).sound):
        assert "would show more" not in scanned(sound).words


@pytest.mark.parametrize(
    ("bed", "windows"),
    [
        (partial(beds.speech, 1), 1),
        (partial(beds.melody, 1, vibrato=0.3), 1),
        (partial(beds.chords, 1, held=8), 2),
        (partial(beds.chords, 1, held=8, vibrato=0.4), 2),
    ],
)
def test_one_voice_is_looked_at_by_a_shorter_window_than_chords(
    bed: Callable[[], Bed], windows: int
) -> None:
    """A window of 4096 frames cannot part what is 20 Hz apart; one of 8192 blurs what glides."""
    sound, hop = bed().sound, in_notes.SHORT // 2 * windows
    assert abs(in_notes.lines_of(sound, RATE).frames - len(sound) // hop) <= 2


@pytest.mark.parametrize(
    "bed",
    [
        partial(beds.pink, 100),
        partial(beds.melody, 103, vibrato=0.4),
        partial(beds.tones, 104),
        partial(beds.chords, 106, vibrato=0.4),
        partial(beds.chords, 107, held=8),
        partial(beds.chords, 105),
        partial(beds.melody, 101),
    ][: of(5, 7)],
)
def test_where_nothing_was_put_in_nothing_is_found(bed: Callable[[], Bed]) -> None:
    assert scanned(bed().sound).found == ()


def test_a_quantile_is_that_of_numpy() -> None:
    rng = np.random.default_rng(5)
    for count in (1, 2, 3, 10, 101):
        values = np.sort(rng.standard_normal(count))
        for share in (0.3, 0.5):
            assert in_notes._quantile(values, share) == pytest.approx(np.quantile(values, share))


def test_the_source_of_a_frame_is_that_of_numpy_s_least_squares() -> None:
    """Frame by frame, from one line to forty; from eight on it is bent."""
    rng = np.random.default_rng(3)
    counts = [1, 2, 3, 7, 8, 9, 40]
    frame = np.repeat(np.arange(len(counts)) * 3, counts)
    octave = np.concatenate([np.sort(rng.uniform(-3, 4, count)) for count in counts])
    level = -6 * octave + rng.standard_normal(len(octave)) * 6
    wanted = []
    for n in np.unique(frame):
        x, y = octave[frame == n], level[frame == n]
        design, weight = np.vander(x, 3 if len(x) >= 8 else 2), np.ones(len(x))
        for _ in range(4):
            found = np.linalg.lstsq(design * weight[:, None], y * weight, rcond=None)[0]
            left = y - design @ found
            doubt = 1 + (left / (1.5 * (1.48 * np.median(np.abs(left)) + 0.5))) ** 2
            weight = np.sqrt(np.where(left > 0, in_notes.OVER_WEIGHT, 1.0) / doubt)
        wanted.append(design @ found)
    assert np.allclose(in_notes._sources(frame, octave, level), np.concatenate(wanted), atol=1e-9)


@pytest.mark.parametrize("vibrato", [0.0, 0.4])
def test_of_one_chord_nothing_can_be_told_and_it_says_so(vibrato: float) -> None:
    """One chord is the same as resonances excited once (design 11)."""
    found = scanned(beds.chords(3, vibrato=vibrato, held=1).sound)
    assert not found.can_tell
    assert found.words.startswith("Too little moves here")
    if not vibrato:
        assert found.held


def test_what_rings_under_a_glide_is_no_held_note() -> None:
    """What rings draws lines to its place; a held note stays narrow, beside speech too."""
    speech = beds.speech(7).sound
    ring = Ring(3849, 10.8, 14.9)
    found = scanned(beds.ringing(speech, [ring]))
    assert missed([ring], found) == []
    assert all(abs(np.log2(note.hz / ring.hz)) > 1 / 12 for note in found.held)
    held = scanned(speech + 0.3 * beds.tones(0).sound).held
    assert any(abs(note.hz - 795) < 10 for note in held)


@pytest.mark.parametrize("seed", [23, 54])
def test_a_broad_one_counts_where_notes_agree(seed: int) -> None:
    """Formants wander from note to note; what stands is believed with less."""
    [ring] = beds.rings(seed)
    assert ring.q < 3
    assert missed([ring], scanned(beds.ringing(beds.melody(seed).sound, [ring]))) == []


def test_only_the_range_is_listed() -> None:
    sound = beds.ringing(beds.pink(1).sound, PINK)[:, None]
    assert [round(r.hz, -2) for r in scan(sound, RATE, 500, 2000).found] == [1000]


def test_both_channels_count_even_where_the_middle_cancels() -> None:
    sound = beds.ringing(beds.pink(4).sound, PINK)
    assert missed(PINK, scan(np.stack([sound, -sound], axis=1), RATE)) == []


@pytest.mark.parametrize(
    ("sound", "words"),
    [(np.zeros((RATE, 1)), "needs 3 s"), (np.zeros((5 * RATE, 2)), "silent")],
)
def test_what_cannot_be_scanned_is_said(sound: np.ndarray, words: str) -> None:
    with pytest.raises(SoundError, match=words):
        scan(sound, RATE)


def test_regions_have_the_words_of_the_trade() -> None:
    """Common practice, no source (design 11)."""
    names = [region_of(hz) for hz in (50, 100, 300, 500, 1000, 2000, 4000, 7000, 12000)]
    assert names == [
        "rumble", "boom", "mud", "box", "honk", "hard", "harsh", "sharp", "fizz",
    ]  # fmt: skip
