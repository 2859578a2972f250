"""Recipes of our own with several stages or branches, each with when and why.

Values are common practice, no source.
"""

from typing import Any

Stage = dict[str, Any]


def _stage(kind: str, mix: float = 1.0, key: Stage | None = None, **params: Any) -> Stage:
    own: Stage = {"kind": kind, "mix": mix, "params": params}
    return own if key is None else {**own, "key": key}


def _copies(wet: list[Stage], position: float, law: str = "steady") -> Stage:
    """A dry branch and a wet one."""
    return {
        "kind": "split",
        "by": "copies",
        "branches": [{"name": "dry", "chain": []}, {"name": "wet", "chain": wet}],
        "join": {"law": law, "position": position},
    }


def _bands(crossovers: list[float], chains: dict[str, list[Stage]]) -> Stage:
    return {
        "kind": "split",
        "by": "bands",
        "crossovers_hz": crossovers,
        "branches": [{"name": name, "chain": chain} for name, chain in chains.items()],
    }


def _mid_side(mid: list[Stage], side: list[Stage]) -> Stage:
    return {
        "kind": "split",
        "by": "mid-side",
        "branches": [{"name": "mid", "chain": mid}, {"name": "side", "chain": side}],
    }


CHAINS: list[tuple[str, str, str, list[Stage]]] = [
    ("Shout from the quay", "drums parallel level",
     "Drums that are too polite: a copy is pressed flat, its hits given back in part, and laid"
     " under the dry one. The level stays the same along the whole blend.", [_copies([
         _stage("compressor", threshold_db=-34, ratio=8, knee_db=0, attack_ms=10,
                release_mode="tempo", release_note="1/8", restore=0.3),
         _stage("saturator", drive_db=12, harmonics=0.7, makeup="loudness")], 0.35)]),
    ("Chipped paint", "drums parallel tone",
     "For drums that sound too clean: a torn copy without its lows, a little of it underneath.",
     [_copies([
         _stage("tone", bands=[{"type": "low-cut", "hz": 180, "slope": "12"}]),
         _stage("clipper", drive_db=18, ceiling_db=-9, shape=0.9, quality="high")], 0.22)]),
    ("Under the floor", "bass parallel tone",
     "A bass that vanishes on small loudspeakers: harmonics of a driven copy, its own lows left"
     " alone.", [_copies([
         _stage("saturator", drive_db=18, harmonics=0.8, asymmetry=0.2, makeup="loudness"),
         _stage("tone", bands=[{"type": "low-cut", "hz": 140, "slope": "24"},
                               {"type": "high-cut", "hz": 4500, "slope": "12"}])], 0.3)]),
    ("Voice in three steps", "voice level",
     "A singer who wanders: the slow walk first, then the peaks, then the words. Each does little,"
     " so that none is heard.", [
         _stage("leveller", target_db=-20, rise_db_s=1, fall_db_s=2, max_gain_db=5, max_cut_db=5),
         _stage("limiter", ceiling_db=-8, lookahead_ms=3, release_ms=40, release_mode="adaptive"),
         _stage("compressor", threshold_db=-24, ratio=2.5, knee_db=9, attack_ms=8,
                release_mode="auto", makeup_db=3)]),
    ("Close and dry", "speech clean-up level",
     "A spoken voice in a live room: rumble out, the room lower between the words, one level, s"
     " last, because the levelling brings it up.", [
         _stage("tone", bands=[{"type": "low-cut", "hz": 80, "slope": "18"}]),
         _stage("expander", threshold_db=-40, ratio=1.6, range_db=10, knee_db=12, attack_ms=4,
                hold_ms=80, release_ms=260, detector="rms"),
         _stage("compressor", threshold_db=-26, ratio=4, knee_db=6, attack_ms=6, release_ms=220,
                makeup_db=5),
         _stage("deesser", frequency_hz=6200, threshold_db=-11, max_reduction_db=9)]),
    ("Over the band", "voice keyed tone",
     "Lifts the voice while the band is loud, and only then: no ride to draw, no harshness where"
     " it sings alone.", [
         _stage("expander", key={"source": "input:band", "low_hz": 300, "high_hz": 5000},
                threshold_db=-24, ratio=1.5, range_db=3, knee_db=9, attack_ms=60,
                release_ms=500, direction="up", detector="rms"),
         _stage("tone", bands=[{"type": "bell", "hz": 3000, "gain_db": 1.5, "q": 0.8}])]),
    ("Make room for it", "bus keyed tone",
     "A bus steps aside where another sound lives, in the middle ranges alone and only while that"
     " sounds.", [_bands([350, 4500], {
         "low": [],
         "middle": [_stage("compressor", key={"source": "input:in front"}, threshold_db=-36,
                           ratio=2, knee_db=12, attack_ms=15, release_ms=260,
                           max_reduction_db=4)],
         "high": []})]),
    ("Kick through the bass", "bass keyed level",
     "Low notes give the drum its moment: only below 140 Hz, so that the string is still heard.",
     [_bands([140], {
         "low": [_stage("ducker", key={"source": "input:drum", "high_hz": 200},
                        threshold_db=-26, depth_db=7, attack_ms=1, decay_ms=90)],
         "high": []})]),
    ("Echo steps back", "room keyed clean-up",
     "A return that is full in the gaps and out of the way of every word.", [
         _stage("room", size=1.6, decay_s=1.2, predelay_ms=18, low_cut_hz=200),
         _stage("ducker", key={"source": "input:voice"}, threshold_db=-36, depth_db=10,
                attack_ms=12, hold_ms=120, decay_ms=600, retrigger_ms=40, shape="straight")]),
    ("Slammed door", "drums space effect",
     "A room that stops: dense behind the hit, gone before the next one.", [_copies([
         _stage("room", size=1.8, decay_s=1.2, damp_hz=9000, low_cut_hz=60),
         _stage("compressor", threshold_db=-30, ratio=6, attack_ms=3, release_ms=120,
                makeup_db=6),
         _stage("gate", key={"source": "own"}, threshold_db=-30, hysteresis_db=3, depth_db=80,
                attack_ms=0.5, hold_ms=180, release_ms=40)], 0.3, "linear")]),
    ("Three hands on a bus", "bus level",
     "A full bus whose lows push everything down: each range is held by itself, gently, and no"
     " range ever gives more than 3 dB.", [_bands([160, 2800], {
         "low": [_stage("compressor", threshold_db=-26, ratio=2, attack_ms=25, release_ms=180,
                        max_reduction_db=3)],
         "middle": [_stage("compressor", threshold_db=-28, ratio=1.8, attack_ms=18,
                           release_mode="auto", max_reduction_db=3)],
         "high": [_stage("compressor", threshold_db=-34, ratio=1.8, attack_ms=6,
                         release_ms=90, max_reduction_db=3)]})]),
    ("Boom down, click up", "drums tone level",
     "A big drum whose boom hides its beater: the lows are held, the first moment above them comes"
     " forward.", [_bands([130], {
         "low": [_stage("compressor", threshold_db=-24, ratio=4, attack_ms=12, release_ms=140,
                        max_reduction_db=6)],
         "high": [_stage("transient", attack_db=4, attack_ms=10)]})]),
    ("Soft top", "strings tone clean-up",
     "Bows and picks that bite: the top gives way when it is loud, and is bright when it is not.",
     [_bands([3500], {
         "low": [],
         "high": [_stage("compressor", threshold_db=-38, ratio=3, knee_db=9, attack_ms=2,
                         release_ms=80, max_reduction_db=6)]})]),
    ("Sides that breathe", "bus width level",
     "A mix whose sides are shy: the quiet in them comes up, the middle stays as it was.",
     [_mid_side([], [
         _stage("curve", points=[[-90, -90], [-60, -57], [-45, -40], [-30, -28], [-15, -15],
                                 [0, 0]], smooth=True, detector="rms", rms_ms=20, attack_ms=20,
                release_ms=300)])]),
    ("Firm middle", "bus width loudness",
     "Peaks live in the middle: it is clipped and held alone, so that the sides do not move with"
     " every drum.", [_mid_side([
         _stage("clipper", ceiling_db=-7, shape=0.5, quality="high"),
         _stage("compressor", threshold_db=-18, ratio=1.6, knee_db=12, attack_ms=20,
                release_mode="auto")], [])]),
    ("Two walls", "bus loudness",
     "Last on a main bus: the clipper takes the shortest tips, so that the limiter behind it works"
     " less and is heard less.", [
         _stage("clipper", ceiling_db=-3, shape=0.6, quality="high"),
         _stage("limiter", drive_db=2, ceiling_db=-1, lookahead_ms=5, release_ms=80,
                release_mode="adaptive")]),
    ("Glue and paint", "bus tone",
     "A bus that falls apart: a decibel or two that binds, then a little density; as loud as"
     " before, so that only the sound counts.", [
         _stage("compressor", threshold_db=-18, ratio=1.5, knee_db=12, attack_ms=30,
                release_mode="auto", detector="rms"),
         _stage("saturator", drive_db=5, harmonics=0.5, makeup="loudness", quality="high"),
         _stage("tone", bands=[{"type": "low-cut", "hz": 22, "slope": "24"},
                               {"type": "high-shelf", "hz": 9000, "gain_db": 1}])]),
    ("Only what was played", "drums clean-up",
     "A close drum full of its neighbours: the gate listens to the drum's own range, opens ahead"
     " of the hit, and leaves a shade of the room.", [
         _stage("gate", key={"source": "own", "low_hz": 60, "high_hz": 400}, threshold_db=-32,
                hysteresis_db=6, depth_db=24, attack_ms=0.2, hold_ms=70, release_ms=160,
                lookahead_ms=2),
         _stage("transient", attack_db=3, sustain_db=-3)]),
    ("Through the wall", "voice effect tone",
     "A voice from another room: narrow, pressed, a little broken. For one line, not for a song.", [
         _stage("tone", bands=[{"type": "low-cut", "hz": 380, "slope": "24"},
                               {"type": "high-cut", "hz": 3200, "slope": "24"}]),
         _stage("compressor", threshold_db=-34, ratio=10, attack_ms=1, release_ms=60,
                makeup_db=16),
         _stage("saturator", drive_db=16, harmonics=0.9, asymmetry=0.4, makeup="loudness")]),
]  # fmt: skip
"""Name, tags, when and why, the chain."""
