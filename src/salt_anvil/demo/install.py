"""The demo session: a dance band in a boathouse, recorded live; every strip shows one job."""

import shutil
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor, as_completed
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from salt_anvil.core.errors import StoreError
from salt_anvil.core.session import Session, checked
from salt_anvil.files.media import MediaFolder
from salt_anvil.kernels.parent import end_with_parent
from salt_anvil.store.database import Database
from salt_anvil.store.sessions import SessionStore

NAME = "Boathouse, second evening"
Progress = Callable[[float], None]

Chain = list[dict[str, Any]]
Kept = tuple[str, int, int]
"""A recording: media id, channels, frames."""


def _compressor(name: str, **params: Any) -> dict[str, Any]:
    return {"id": f"{name}-compressor", "kind": "compressor", "params": params}


def _branch(name: str, part: str, *chain: dict[str, Any], **more: Any) -> dict[str, Any]:
    return {"id": f"{name}-{part.replace(' ', '-')}", "name": part, "chain": list(chain)} | more


# name, bus, fader, pan, chain
TRACKS: list[tuple[str, str, float, float, Chain]] = [
    ("Box drum", "percussion-bus", -3.2, -0.1, [
        # The one slap that is 8 dB above the others, before anything listens to it.
        {"id": "box-drum-peaks", "kind": "limiter", "params": {
            "ceiling_db": -7, "lookahead_ms": 2, "release_ms": 40, "release_mode": "adaptive"}},
        _compressor("box-drum", threshold_db=-19, ratio=5, knee_db=6, attack_ms=6, release_ms=160,
                    release_mode="tempo", release_note="1/16", restore=0.2, makeup_db=4.5)
        | {"key": {"low_hz": 60, "high_hz": 4000}},
        # A crushed copy under the dry one, as loud at every position.
        {"id": "box-drum-blend", "kind": "split", "by": "copies", "branches": [
            _branch("box-drum", "dry"),
            _branch("box-drum", "crushed",
                    _compressor("box-drum-crushed", threshold_db=-34, ratio=8, knee_db=0,
                                attack_ms=0.4, release_mode="tempo", release_note="1/16",
                                makeup_db=8)),
         ], "join": {"law": "steady", "position": 0.35}},
    ]),
    ("Foot stomps", "percussion-bus", -2.0, 0.05, [
        _compressor("foot-stomps", threshold_db=-20, ratio=3, attack_ms=18, release_ms=90,
                    ballistics="branching", makeup_db=3),
        # The boom of the boards: shorter below 140 Hz, the knock above it as it was.
        {"id": "foot-stomps-boom", "kind": "transient", "params": {
            "attack_db": 1.5, "sustain_db": -9, "sustain_ms": 250, "sustain_high_hz": 140,
            "range_acts": "signal"}},
    ]),
    ("Shaker", "percussion-bus", -6.0, 0.35, [
        # Between its strokes the drum and the room, which it need not carry.
        {"id": "shaker-bleed", "kind": "expander", "params": {
            "threshold_db": -27, "ratio": 2.2, "range_db": 14, "attack_ms": 0.5, "hold_ms": 25,
            "release_ms": 70, "lookahead_ms": 1}, "key": {"low_hz": 4000}},
    ]),
    ("Low fiddle", "strings-bus", -4.0, 0.0, [
        # A little room for every stomp, however hard it is.
        {"id": "low-fiddle-room", "kind": "ducker", "params": {
            "threshold_db": -16, "depth_db": 3, "attack_ms": 4, "hold_ms": 20, "decay_ms": 150,
            "retrigger_ms": 250}, "key": {"source": "strip:foot-stomps", "high_hz": 200}},
        # Only what lies below 77 Hz: about 4 dB down and 4 dB back (common practice, no source).
        {"id": "low-fiddle-bands", "kind": "split", "by": "bands", "crossovers_hz": [77],
         "branches": [
            _branch("low-fiddle", "low",
                    _compressor("low-fiddle-low", threshold_db=-27, ratio=4, knee_db=9,
                                attack_ms=25, release_mode="auto", release_ms=120,
                                detector="rms", rms_ms=20, makeup_db=4)),
            _branch("low-fiddle", "rest"),
         ]},
        # For loudspeakers that end above its lowest notes.
        {"id": "low-fiddle-carry", "kind": "enhancer", "params": {
            "low_hz": 140, "high_hz": 200, "order": "both", "amount_db": -5, "drive_db": 6}},
    ]),
    ("Fiddle", "strings-bus", -7.0, 0.3, [
        _compressor("fiddle", threshold_db=-24, ratio=2.5, knee_db=12, attack_ms=15,
                    release_ms=200, topology="feed-back", makeup_db=2.5, colour=0.35,
                    colour_balance=0.2),
        # Close to the microphone; a few planks around it.
        {"id": "fiddle-planks", "kind": "room", "mix": 0.14, "params": {
            "size": 0.9, "decay_s": 0.45, "damp_hz": 5000, "low_cut_hz": 250}},
    ]),
    ("Squeezebox", "strings-bus", -9.5, -0.35, [
        # A plate that rings along; what the case itself does is left as it is.
        {"id": "squeezebox-tamer", "kind": "tamer", "params": {"places": [
            {"hz": 1140, "over_db": 6.2, "depth_db": 4.5, "width_oct": 0.29,
             "time_share": 0.41, "on": False},
            {"hz": 2451, "over_db": 12.1, "depth_db": 8.5, "width_oct": 0.29,
             "time_share": 0.74}]}},
        # Its thick middle, and more of it taken where the chords pile up.
        {"id": "squeezebox-mud", "kind": "tone", "params": {"bands": [
            {"type": "low-cut", "hz": 95, "slope": "24"},
            {"type": "bell", "hz": 270, "gain_db": -1.5, "q": 0.9, "move_db": -3.5,
             "threshold_db": -24, "attack_ms": 20, "release_ms": 180}]}},
        {"id": "squeezebox-width", "kind": "split", "by": "mid-side", "branches": [
            _branch("squeezebox", "mid",
                    _compressor("squeezebox-mid", threshold_db=-22, ratio=2, attack_ms=30,
                                release_ms=250, makeup_db=1.5)),
            _branch("squeezebox", "sides", gain_db=1.5),
         ]},
    ]),
    ("Lead voice", "voices-bus", -4.5, 0.0, [
        {"id": "lead-voice-trim", "kind": "trim", "params": {"gain_db": 1.5, "dc_block": True}},
        _compressor("lead-voice", threshold_db=-15, ratio=3.5, knee_db=8, attack_ms=5,
                    release_ms=140, lookahead_ms=2, max_reduction_db=12, makeup_db=3),
        # The hard s-sounds, on quiet words too.
        {"id": "lead-voice-ess", "kind": "deesser", "params": {
            "frequency_hz": 5000, "slope": "24", "threshold_db": -13, "ratio": 4,
            "max_reduction_db": 9}},
    ]),
    ("Voice room", "voices-bus", -13.0, 0.0, [
        # The room comes up between the words: it listens to the voice itself.
        _compressor("voice-room", threshold_db=-34, ratio=3, attack_ms=2, release_ms=320,
                    makeup_db=2) | {"key": {"source": "strip:lead-voice"}},
        {"id": "voice-room-curve", "kind": "curve", "params": {
            "points": [[-90, -99], [-62, -68], [-48, -44], [-30, -29], [0, -6]], "smooth": True,
            "attack_ms": 15, "release_ms": 250}},
    ]),
    ("Announcement", "voices-bus", -1.0, -0.15, [
        # The mains' hum and its harmonics, before anything turns them up.
        {"id": "announcement-hum", "kind": "tone", "params": {"bands": [
            {"type": "low-cut", "hz": 75, "slope": "24"},
            *({"type": "notch", "hz": hz, "q": 16} for hz in (50, 100, 150))]}},
        # Hum and the band's bleed sink in the pauses and after the last word.
        {"id": "announcement-gate", "kind": "gate", "params": {
            "threshold_db": -24, "hysteresis_db": 8, "depth_db": 18, "attack_ms": 3,
            "hold_ms": 250, "release_ms": 320, "lookahead_ms": 4},
         "key": {"low_hz": 150, "high_hz": 5000}},
        _compressor("announcement", threshold_db=-30, ratio=4, attack_ms=8, hold_ms=60,
                    release_ms=220, makeup_db=6),
        # What wanders slowly is left to something slow.
        {"id": "announcement-level", "kind": "leveller", "params": {
            "target_db": -29, "rise_db_s": 2.5, "fall_db_s": 5, "max_gain_db": 4,
            "max_cut_db": 4, "floor_db": -44}},
        # A little of the horn over the boathouse door.
        {"id": "announcement-horn", "kind": "grit", "mix": 0.3, "params": {
            "bits": 9, "rate_hz": 6000}},
    ]),
]  # fmt: skip
BUSES: list[tuple[str, str | None, float, Chain]] = [
    ("Stomp press", "percussion-bus", -9.0, [
        _compressor("stomp-press", threshold_db=-36, ratio=12, knee_db=0, attack_ms=3,
                    release_ms=80, restore=0.3, makeup_db=10),
        # What a parallel bus is for: dirt that nobody would leave alone on a track.
        {"id": "stomp-press-dirt", "kind": "saturator", "params": {
            "drive_db": 12, "harmonics": 0.8,
            "emphasis": [{"type": "low-shelf", "hz": 180, "gain_db": -6}]}},
    ]),
    ("Percussion bus", None, 0.0, [
        _compressor("percussion-bus", threshold_db=-14, ratio=2, attack_ms=30, release_ms=120,
                    release_mode="auto", makeup_db=1),
        # The hits' tips, which nobody hears but the wall at the end.
        {"id": "percussion-tips", "kind": "clipper", "params": {
            "ceiling_db": -6, "shape": 0.85}},
    ]),
    ("Strings bus", None, 0.0, [
        # Out of the way of the announcement, and back up by itself.
        _compressor("strings-bus", threshold_db=-36, ratio=2.5, knee_db=6, attack_ms=60,
                    hold_ms=200, release_ms=700, max_reduction_db=9)
        | {"key": {"source": "strip:announcement"}},
        # Aside, so that the voice has the middle; the lows stay in it.
        {"id": "strings-aside", "kind": "width", "params": {
            "width": 1.25, "mono_below_hz": 120}},
    ]),
    ("Voices bus", None, 0.0, []),
]  # fmt: skip
SENDS = {"box-drum": ("stomp-press", -6.0), "foot-stomps": ("stomp-press", -3.0)}
MAIN: Chain = [
    # Headroom that gives nothing, and a little of what all the instruments share.
    {"id": "main-clear", "kind": "tone", "params": {"bands": [
        {"type": "low-cut", "hz": 22, "slope": "24"},
        {"type": "bell", "hz": 265, "gain_db": -1.5, "q": 0.8}]}},
    _compressor("main", threshold_db=-16, ratio=1.5, knee_db=12, attack_ms=30,
                release_mode="auto", release_ms=150, detector="rms", makeup_db=5),
    {"id": "main-wall", "kind": "limiter", "params": {
        # Clean as it stands, over after coding: Proof finds the ceiling that is not.
        "ceiling_db": -0.1, "drive_db": 4.5, "release_ms": 80, "release_mode": "adaptive"}},
]  # fmt: skip
LEVERS: list[dict[str, Any]] = [
    {"id": "lever-lift", "name": "Lift", "value": 0.4, "moves": [
        {"owner": "stomp-press", "control": "fader_db", "low": -24, "high": -3},
        {"owner": "squeezebox-sides", "control": "gain_db", "low": 0, "high": 4}]},
    {"id": "lever-room", "name": "Room", "value": 0.5, "moves": [
        {"owner": "voice-room", "control": "fader_db", "low": -24, "high": -8}]},
]  # fmt: skip


def _in_reel_two() -> list[dict[str, Any]]:
    """More of the crushed drum in the last part."""
    from salt_anvil.demo import score

    begin = next((bar - 1) * score.BAR for n, bar in score.SECTIONS if n == "Reel two")
    return [{"owner": "box-drum-blend", "control": "position", "points": [
        {"at_s": 0, "value": 0.35, "shape": "stepped"},
        {"at_s": begin - 2, "value": 0.35}, {"at_s": begin, "value": 0.65}]}]  # fmt: skip


def session_model(media: dict[str, Kept]) -> Session:
    """Return the session; media: strip id to what was kept."""
    from salt_anvil.demo import score
    from salt_anvil.demo.sounds import RATE

    strips: list[dict[str, Any]] = []
    for name, bus, fader, pan, chain in TRACKS:
        strip_id = name.lower().replace(" ", "-")
        audio, channels, frames = media[strip_id]
        strips.append(
            {
                "id": strip_id,
                "name": name,
                "kind": "track",
                "audio": audio,
                "channels": channels,
                "frames": frames,
                "fader_db": fader,
                "pan": pan,
                "output": bus,
                "chain": chain,
                "sends": [
                    {"to": to, "gain_db": gain} for n, (to, gain) in SENDS.items() if n == strip_id
                ],
            }
        )
    for name, output, fader, chain in BUSES:
        bus_id = name.lower().replace(" ", "-")
        strips.append(
            {
                "id": bus_id,
                "name": name,
                "kind": "bus",
                "fader_db": fader,
                "chain": chain,
                "output": output,
            }
        )
    strips.append({"id": "main", "name": "Main bus", "kind": "main", "chain": MAIN})
    sections = [{"name": n, "start_s": (bar - 1) * score.BAR} for n, bar in score.SECTIONS]
    return checked(
        Session,
        {
            "name": NAME,
            "rate": RATE,
            "bpm": score.BPM,
            "sections": sections,
            "strips": strips,
            "levers": LEVERS,
            "automation": _in_reel_two(),
        },
    )


def install_demo(data: Path, progress: Progress = lambda share: None) -> str:
    """Make the demo session in a data folder, unless it is there; return what was done.

    Raises:
        StoreError, FileError: the folder cannot be used.
    """
    try:
        data.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        reason = (error.strerror or "error").lower()
        raise StoreError(f"the data folder {data} cannot be used: {reason}") from None
    store = SessionStore(Database(data / "salt-anvil.db"))
    if any(row.name == NAME for row in store.every()):
        return f"“{NAME}” is there already"
    progress(0.02)
    media = _recorded(data, progress)
    store.add(session_model(media), "Demo session made")
    return f"“{NAME}” made"


def _recorded(data: Path, progress: Progress) -> dict[str, Kept]:
    """Record every track; two processes share the work: the players first, then the microphones."""
    folder = data / "making"
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    with ProcessPoolExecutor(2, get_context("spawn"), initializer=end_with_parent) as pool:
        for _ in range(2):
            pool.submit(_begin)  # what a worker loads, it loads beside this one
        from salt_anvil.demo.room import PLAYERS, RECORDINGS

        played = [pool.submit(_play, folder, name) for name in PLAYERS]
        for count, player in enumerate(as_completed(played), 1):
            player.result()
            progress(0.02 + 0.4 * count / len(played))
        kept = {name: pool.submit(_record, data, folder, name) for name in RECORDINGS}
        for count, recording in enumerate(as_completed(kept.values()), 1):
            recording.result()
            progress(0.42 + 0.58 * count / len(kept))
    shutil.rmtree(folder)
    return {name: recording.result() for name, recording in kept.items()}


def _begin() -> None:
    """Load what recording needs."""
    from salt_anvil.demo import room  # noqa: F401


def _play(folder: Path, name: str) -> None:
    from salt_anvil.demo.room import dry

    np.save(folder / name, dry(name))


def _record(data: Path, folder: Path, name: str) -> Kept:
    from salt_anvil.demo.room import record
    from salt_anvil.demo.sounds import RATE

    path = folder / f"{name}.wav"
    sound = record(name, lambda player: np.load(folder / f"{player}.npy"))
    soundfile.write(path, sound, RATE, subtype="PCM_24")
    media = MediaFolder(data / "media").bring_in(path, path.name, RATE)
    return media.id, media.channels, media.frames
