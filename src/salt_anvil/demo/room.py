"""The boathouse: how each microphone hears the others, its room, its hum."""

from collections.abc import Callable
from functools import cache

import numpy as np
from scipy import signal

from salt_anvil.demo import score, sounds
from salt_anvil.demo.sounds import RATE, Wave

# Those who take longest to compute first: two processes share them.
PLAYERS = {
    "squeezebox": score.squeezebox, "low-fiddle": score.low_fiddle, "fiddle": score.fiddle,
    "box-drum": score.box_drum, "lead-voice": score.lead_voice,
    "foot-stomps": score.foot_stomps, "announcement": score.announcement, "shaker": score.shaker,
}  # fmt: skip
# What leaks into a microphone: from whom, dB, metres away.
BLEED = {
    "box-drum": [("foot-stomps", -19, 1.4), ("squeezebox", -30, 2.6), ("fiddle", -33, 2.2)],
    "foot-stomps": [("box-drum", -17, 1.4), ("low-fiddle", -26, 1.8)],
    "shaker": [("box-drum", -24, 2.0), ("lead-voice", -34, 3.0)],
    "low-fiddle": [("foot-stomps", -25, 1.8), ("box-drum", -27, 2.1)],
    "fiddle": [("squeezebox", -26, 1.5), ("box-drum", -28, 2.2)],
    "squeezebox": [("fiddle", -27, 1.5), ("shaker", -33, 2.4)],
    "lead-voice": [("squeezebox", -31, 2.8), ("box-drum", -30, 3.0), ("fiddle", -32, 2.5)],
    "announcement": [("squeezebox", -24, 3.5), ("low-fiddle", -27, 3.0)],
}  # fmt: skip
# Peak level of each recording in dBFS before bleed and noise.
PEAK_DB = {
    "box-drum": -1.2, "foot-stomps": -4.0, "shaker": -9.0, "low-fiddle": -5.0, "fiddle": -7.0,
    "squeezebox": -6.5, "lead-voice": -4.5, "announcement": -8.0,
}  # fmt: skip
STEREO = {"squeezebox", "shaker"}
VOICE_ROOM = "voice-room"
RECORDINGS = [VOICE_ROOM, *PLAYERS]
HUM = {"squeezebox": -58.0, "announcement": -54.0, "low-fiddle": -62.0}


@cache
def dry(name: str) -> Wave:
    """Return a player alone, at the level of the recording."""
    sound = PLAYERS[name]()[: score.LENGTH]
    return np.asarray(sound * (10 ** (PEAK_DB[name] / 20) / np.abs(sound).max()))


@cache
def impulse(seconds: float, damping: float, seed: int) -> Wave:
    """Return the room's answer to a click: planks close by, then a dense decay."""
    t = np.arange(round(seconds * 1.5 * RATE)) / RATE
    chance = np.random.default_rng(seed)
    tail = sounds.band(chance.standard_normal(len(t)), 180, damping, 1) * 10 ** (-3 * t / seconds)
    tail *= np.clip((t - 0.008) / 0.03, 0, 1) * 0.12
    for _ in range(14):
        at = int(chance.uniform(0.004, 0.045) * RATE)
        tail[at] += chance.choice([-1, 1]) * 0.4 * (1 - at / (0.06 * RATE))
    return tail


def microphone(name: str, alone: Callable[[str], Wave] = dry) -> Wave:
    """Return what a player's microphone records: itself, leaks, a little room, hum, noise.

    alone: gives each player alone.
    """
    sound = alone(name).copy()
    for other, level_db, metres in BLEED[name]:
        late = round(metres / 343 * RATE)
        leak = sounds.band(alone(other), None, 6000, 1)
        sound[late:] += 10 ** (level_db / 20) * leak[:-late]
    near = signal.oaconvolve(sound, impulse(0.35, 5000, 7))[: score.LENGTH]
    sound += 0.06 * near
    t = np.arange(score.LENGTH) / RATE
    if name in HUM:
        hum = sum(np.sin(2 * np.pi * 50 * k * t + k) / k**1.5 for k in (1, 2, 3, 5))
        sound += 10 ** (HUM[name] / 20) * np.asarray(hum)
    seed = sorted(PLAYERS).index(name)
    floor = sounds.band(sounds.noise(score.LENGTH / RATE, 400 + seed), 30, 12000, 1)
    return sound + 10 ** (-68 / 20) * floor


def voice_room(alone: Callable[[str], Wave] = dry) -> Wave:
    """Return the room microphones (stereo): the voice from far, a little of the band."""
    voice = sounds.band(alone("lead-voice"), 160, None)
    send = voice + 0.12 * alone("box-drum") + 0.1 * alone("fiddle")
    sides = []
    for seed in (11, 12):
        answer = impulse(1.5, 4200, seed)
        wet = signal.oaconvolve(send, answer)[: score.LENGTH]
        sides.append(wet)
    stereo = np.stack(sides, axis=1)
    stereo *= 10 ** (-9 / 20) / np.abs(stereo).max()
    return np.asarray(stereo)


def pair(name: str, alone: Callable[[str], Wave] = dry) -> Wave:
    """Return a stereo recording: the microphone, and a second one a step to the side."""
    left = microphone(name, alone)
    late = 17
    right = np.concatenate([np.zeros(late), left[:-late]])
    right = (
        0.8 * sounds.band(right, None, 9000, 1)
        + 0.25 * signal.oaconvolve(left, impulse(0.3, 6000, 21))[: score.LENGTH]
    )
    return np.stack([left, right], axis=1)


def record(name: str, alone: Callable[[str], Wave] = dry) -> Wave:
    """Return one recording of the session, (frames, channels), within full scale."""
    if name == VOICE_ROOM:
        sound = voice_room(alone)
    elif name in STEREO:
        sound = pair(name, alone)
    else:
        sound = microphone(name, alone)[:, None]
    return np.asarray(sound * min(1.0, 0.98 / np.abs(sound).max()))
