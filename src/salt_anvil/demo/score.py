"""Who plays what, when: 24 bars at 96 beats a minute, five sections, every fault on purpose."""

import numpy as np

from salt_anvil.demo import sounds
from salt_anvil.demo.sounds import RATE, Wave

BPM = 96
BEAT = 60 / BPM
BAR = 4 * BEAT
BARS = 24
LENGTH = round(BARS * BAR * RATE)
SECTIONS = [("Gangway", 1), ("Verse", 5), ("Reel", 11), ("Slack tide", 17), ("Reel two", 20)]
# Chord roots (semitones from D) bar by bar, and whether the third is minor.
CHORDS = [(0, 1), (0, 1), (-2, 0), (0, 1), *([(0, 1), (-2, 0), (3, 0), (-2, 0)] * 5)]
D2 = 73.42


def section(bar: int) -> str:
    """Return the section of a bar, counted from 1."""
    return next(name for name, first in reversed(SECTIONS) if bar >= first)


def loud(bar: int) -> float:
    """Return how hard everybody plays in a bar: a quiet verse, a loud reel."""
    return {"Gangway": 0.5, "Verse": 0.6, "Reel": 1.0, "Slack tide": 0.42, "Reel two": 1.05}[
        section(bar)
    ]


def semitone(steps: float) -> float:
    """Return D2 moved by so many semitones, in Hz."""
    return float(D2 * 2 ** (steps / 12))


class Track:
    """A line of sound to which notes are added."""

    def __init__(self) -> None:
        self.sound = np.zeros(LENGTH + 2 * RATE)

    def add(self, at: float, wave: Wave, gain: float = 1.0) -> None:
        """Add a wave at a time in seconds."""
        start = max(round(at * RATE), 0)
        end = min(start + len(wave), len(self.sound))
        self.sound[start:end] += gain * wave[: end - start]


def _human(seed: int) -> "np.random.Generator":
    return np.random.default_rng(seed)


def box_drum() -> Wave:
    """Boom on one and three, slaps between; the stray slap is in bar 13, 8 dB too loud."""
    track, chance = Track(), _human(101)
    for bar in range(1, BARS + 1):
        if section(bar) == "Gangway" and bar < 3:
            continue
        busy = section(bar) in ("Reel", "Reel two")
        steps = [(0, "b"), (6, "s"), (8, "b"), (12, "s")]
        if busy:
            steps += [(3, "s-"), (10, "b-"), (11, "s-"), (14, "s-")]
        if section(bar) == "Slack tide":
            steps = [(0, "b"), (12, "s-")]
        for take, (step, what) in enumerate(steps):
            at = (bar - 1) * BAR + step * BEAT / 4 + chance.normal(0, 0.004)
            strength = loud(bar) * (0.45 if what.endswith("-") else 1) * chance.uniform(0.82, 1.05)
            if bar == 13 and (step, what) == (12, "s"):
                strength = loud(bar) * 10 ** (8 / 20)
            wave = sounds.drum_boom(take) if what[0] == "b" else sounds.drum_slap(take)
            track.add(at, wave, strength * (0.9 if what[0] == "b" else 0.75))
    return track.sound


def foot_stomps() -> Wave:
    """A boot on every beat, lighter on two and four."""
    track, chance = Track(), _human(102)
    for beat in range(8, BARS * 4):
        bar = beat // 4 + 1
        if section(bar) == "Slack tide" and beat % 4:
            continue
        strength = loud(bar) * (1.0 if beat % 2 == 0 else 0.6) * chance.uniform(0.8, 1.05)
        track.add(beat * BEAT + chance.normal(0.004, 0.005), sounds.stomp(beat), strength)
    return track.sound


def shaker() -> Wave:
    """Sixteenths from the verse on, the off-beats leaning forward."""
    track, chance = Track(), _human(103)
    for step in range(4 * 16, BARS * 16):
        bar = step // 16 + 1
        if section(bar) == "Slack tide":
            continue
        accent = (1.0, 0.45, 0.75, 0.5)[step % 4]
        at = step * BEAT / 4 + (0.012 if step % 2 else 0) + chance.normal(0, 0.003)
        track.add(at - 0.06, sounds.shake(step, accent * loud(bar) * chance.uniform(0.8, 1.1)))
    return track.sound


def low_fiddle() -> Wave:
    """Plucked in the verse, bowed in the reels; its 98 Hz rings longer than the rest (boom)."""
    track = Track()
    for bar in range(1, BARS + 1):
        root, _ = CHORDS[bar - 1]
        start = (bar - 1) * BAR
        if section(bar) in ("Reel", "Reel two"):
            for index, step in enumerate((0, 3, 6, 8, 11, 14)):
                length = (3, 3, 2, 3, 3, 2)[index] * BEAT / 4
                pitch = root + (0, 0, 7, 0, 5, 7)[index]
                wave = sounds.bowed(semitone(pitch), length + 0.05, bar * 31 + index, low=True)
                track.add(start + step * BEAT / 4, wave, 0.8 * loud(bar))
        elif section(bar) == "Gangway" and bar < 3:
            wave = sounds.bowed(semitone(0), BAR + 0.1, bar, low=True, bite=0.1)
            track.add(start, wave, 0.35)
        else:
            for index, (beat, pitch) in enumerate(((0, 0), (1.5, 7), (2, 0), (3.5, 5))):
                wave = sounds.plucked(semitone(root + pitch), 1.1, bar * 17 + index)
                track.add(start + beat * BEAT, wave, 1.6 * loud(bar))
    return track.sound


# Scale degrees in D dorian, as semitones above D4, and four bars of a reel in eighths.
SCALE = [0, 2, 3, 5, 7, 9, 10, 12, 14, 15, 17, 19]
REEL = [
    [7, 4, 5, 7, 9, 7, 5, 4], [6, 3, 4, 6, 8, 6, 4, 3], [5, 7, 9, 10, 9, 7, 5, 7],
    [6, 4, 3, 1, 3, 4, 6, 8],
]  # fmt: skip


def fiddle() -> Wave:
    """Long notes in the verse, eighths with sixteenth turns in the reels."""
    track, chance = Track(), _human(105)
    for bar in range(3, BARS + 1):
        start, where = (bar - 1) * BAR, section(bar)
        if where in ("Reel", "Reel two"):
            for index, degree in enumerate(REEL[(bar - 11) % 4]):
                at = start + index * BEAT / 2 + chance.normal(0, 0.004)
                pitch = 24 + SCALE[degree]
                strength = loud(bar) * (1.0 if index % 4 == 0 else 0.75)
                if index in (3, 7):
                    turn = 24 + SCALE[degree + 1]
                    track.add(at, sounds.bowed(semitone(turn), 0.17, bar * 9 + index), strength)
                    at += BEAT / 4
                    wave = sounds.bowed(semitone(pitch), 0.17, bar * 7 + index)
                else:
                    wave = sounds.bowed(semitone(pitch), 0.31, bar * 7 + index, bite=0.8)
                track.add(at, wave, strength)
        elif where != "Gangway" or bar == 4:
            root, minor = CHORDS[bar - 1]
            for half, pitch in enumerate((24 + root + 7, 24 + root + (15 if minor else 16))):
                wave = sounds.bowed(semitone(pitch), 2 * BEAT, bar * 13 + half, bite=0.15)
                track.add(start + half * 2 * BEAT, wave, 0.7 * loud(bar))
    return track.sound


RUNS = ((12, 10, 8, 7, 5, 3, 2, 0), (0, 3, 2, 5, 7, 5, 8, 10), (7, 8, 5, 7, 3, 5, 2, -2))


PLATE = (2450.0, 1.0, 272.0)
"""A plate of the squeezebox that rings along: Hz, gain, bandwidth."""


def squeezebox() -> Wave:
    """Off-beat chords over a held root, and runs; a thick middle, and a plate that rings."""
    track = Track()
    for bar in range(1, BARS + 1):
        root, minor = CHORDS[bar - 1]
        start = (bar - 1) * BAR
        chord = [root + 12, root + 12 + (3 if minor else 4), root + 19]
        held = 0.5 if section(bar) in ("Gangway", "Slack tide") else 0.3
        still = section(bar) in ("Gangway", "Slack tide")
        if still or bar % 2:
            track.add(start, sounds.reeds(semitone(root + 12), BAR, bar), held * loud(bar) * 1.2)
        if still:
            for pitch in chord[1:]:
                track.add(start, sounds.reeds(semitone(pitch), BAR, bar + pitch), 0.35 * loud(bar))
            continue
        if bar % 2 == 0:
            # Every other bar a run, with nothing under it.
            for step, pitch in enumerate(RUNS[bar // 2 % len(RUNS)]):
                wave = sounds.reeds(semitone(root + 24 + pitch), 0.46 * BEAT, bar * 7 + step)
                track.add(start + step * BEAT / 2, wave, 0.5 * loud(bar))
            continue
        for beat in (0.5, 1.5, 2.5, 3.5):
            for pitch in chord:
                wave = sounds.reeds(semitone(pitch + 12), 0.42 * BEAT, bar * 5 + pitch)
                track.add(start + beat * BEAT, wave, 0.42 * loud(bar))
    return track.sound + 3 * sounds.resonators(track.sound, [PLATE])


# A syllable: consonants, vowel, scale degree (above D3 for the voice), length in beats.
Syllable = tuple[str, str, int, float]
VERSE: list[Syllable] = [
    ("s", "i", 4, 0.5), ("t", "e", 4, 0.5), ("s", "a", 5, 1.0), ("", "o", 4, 0.5),
    ("sh", "i", 3, 0.5), ("s", "u", 1, 1.0), ("k", "a", 2, 0.5), ("s", "o", 3, 0.5),
    ("t", "i", 4, 1.0), ("s", "e", 3, 0.5), ("f", "a", 1, 0.5), ("s", "i", 0, 1.0),
]  # fmt: skip
CALL: list[Syllable] = [
    ("s", "a", 7, 1.0), ("t", "i", 7, 0.5), ("s", "e", 6, 0.5), ("k", "o", 4, 1.0),
    ("s", "i", 5, 1.0), ("sh", "o", 4, 1.0), ("s", "a", 4, 1.0), ("", "e", 2, 2.0),
]  # fmt: skip


def sing(track: Track, start: float, words: list[Syllable], strength: float, seed: int) -> None:
    """Add a sung line."""
    at = start
    for index, (consonant, vowel, degree, beats) in enumerate(words):
        take = seed * 100 + index
        length = beats * BEAT
        onset = {"s": 0.13, "sh": 0.12, "f": 0.08, "t": 0.05, "k": 0.05}.get(consonant, 0.0)
        if consonant:
            # The fault: hard s-sounds, as loud as the vowels.
            hard = 0.42 if consonant == "s" else 0.22
            wave = sounds.hiss(consonant, onset, take)
            track.add(at - 0.4 * onset, wave, hard * strength)
        hz = semitone(12 + SCALE[degree])
        line = sounds.vibrato(hz, length * 0.94, 0.006, 5.3, take)
        tone = sounds.resonators(sounds.glottis(line, take, 0.04), sounds.VOWELS[vowel])
        t = np.arange(len(tone)) / RATE
        rise = np.clip((t - 0.5 * onset) / 0.05, 0, 1)
        fall = np.clip((t[-1] - t) / 0.07, 0, 1)
        track.add(at, tone * rise * fall, 1.5 * strength * (1.1 if beats >= 1 else 0.8))
        at += length


def lead_voice() -> Wave:
    """Two lines of verse, a call in each reel; quiet words and loud ones."""
    track = Track()
    for phrase, bar in enumerate((5, 7, 9)):
        sing(track, (bar - 1) * BAR, VERSE, (0.5, 0.75, 0.6)[phrase], phrase)
    for phrase, bar in enumerate((11, 13, 15, 20, 22)):
        sing(track, (bar - 1) * BAR, CALL, (0.9, 1.0, 1.1, 1.1, 1.2)[phrase], 10 + phrase)
    sing(track, 16 * BAR, VERSE, 0.35, 20)
    return track.sound


SPEECH = (
    "sa ti o se ka-i no su a-e si-o ta. ke a so-u ti, si e-a ko su-i ta no-e. so a ki-e su ta-o si"
)


def announcement() -> Wave:
    """Somebody welcomes the room over the opening bars, with pauses."""
    track, at = Track(), 0.8
    chance = _human(109)
    syllables = SPEECH.replace("-", " ").split(" ")
    for index, text in enumerate(syllables):
        word = text.strip(".,")
        vowel = word[-1]
        fall = 1 - 0.25 * index / len(syllables)
        length = chance.uniform(0.13, 0.2)
        if word[0] in "stk":
            onset = {"s": 0.1, "t": 0.04, "k": 0.04}[word[0]]
            track.add(at, sounds.hiss(word[0], onset, 900 + index), 0.16)
            at += 0.6 * onset
        line = sounds.vibrato(112 * fall * chance.uniform(0.92, 1.12), length, 0.0, 5, 700 + index)
        tone = sounds.resonators(sounds.glottis(line, 800 + index, 0.05), sounds.VOWELS[vowel])
        t = np.arange(len(tone)) / RATE
        shape = np.minimum(1, t / 0.025) * np.clip((length - t) / 0.04, 0, 1)
        track.add(at, tone * shape, 0.9 * chance.uniform(0.6, 1.1))
        at += length + (0.55 if text.endswith(".") else 0.3 if text.endswith(",") else 0.02)
    return track.sound
