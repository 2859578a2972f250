"""Starting points: recipes of our own with one stage, for the situations that an engineer meets.

Values are common practice, no source.
"""

from typing import Any

_COMPRESSOR: list[tuple[str, str, dict[str, Any]]] = [
    ("Even hand", "Holds a voice or a solo line level without being heard.", {
        "threshold_db": -24, "ratio": 3, "knee_db": 9, "attack_ms": 8, "release_ms": 140,
        "release_mode": "auto", "makeup_db": 4}),
    ("Let the stick through", "Drums: the hit passes, the body comes up behind it.", {
        "threshold_db": -20, "ratio": 4, "knee_db": 3, "attack_ms": 28, "release_ms": 90,
        "makeup_db": 4}),
    ("Flat as planks", "A crushed copy to blend under the dry one, released on the beat.", {
        "threshold_db": -34, "ratio": 8, "knee_db": 0, "attack_ms": 10,
        "release_mode": "tempo", "release_note": "1/8", "restore": 0.2, "makeup_db": 8}),
    ("Four off the bottom", "A bass: about 4 dB down on the loud notes, 4 dB back.", {
        "threshold_db": -22, "ratio": 4, "knee_db": 9, "attack_ms": 22, "release_ms": 160,
        "detector": "rms", "rms_ms": 20, "makeup_db": 4}),
    ("One roof", "A bus: a decibel or two that holds the players together.", {
        "threshold_db": -18, "ratio": 1.5, "knee_db": 12, "attack_ms": 30, "release_ms": 150,
        "release_mode": "auto", "detector": "rms", "makeup_db": 1}),
    ("Breathing room", "A room return that swells back between the words.", {
        "threshold_db": -32, "ratio": 4, "attack_ms": 2, "release_ms": 420, "makeup_db": 3}),
    ("Speaker's table", "Spoken word at one level; holds through the pauses.", {
        "threshold_db": -28, "ratio": 5, "knee_db": 6, "attack_ms": 6, "hold_ms": 80,
        "release_ms": 260, "makeup_db": 6}),
]  # fmt: skip
_DUCKER: list[tuple[str, str, dict[str, Any]]] = [
    ("Out of the stick's way", "Only the moment of the hit: a synth under a drum.", {
        "threshold_db": -24, "depth_db": 8, "attack_ms": 0.5, "decay_ms": 24, "retrigger_ms": 80}),
    ("Pumping floor", "A long way back that is heard as movement.", {
        "threshold_db": -24, "depth_db": 14, "attack_ms": 2, "hold_ms": 20, "decay_ms": 340,
        "shape": "curved"}),
    ("Echo in the gaps", "An ambience that steps aside for every word of its source.", {
        "threshold_db": -34, "depth_db": 10, "attack_ms": 12, "hold_ms": 120, "decay_ms": 600,
        "retrigger_ms": 40, "shape": "straight"}),
]  # fmt: skip
_EXPANDER: list[tuple[str, str, dict[str, Any]]] = [
    ("Softer than a gate", "Bleed sinks behind the hits without a hole in between.", {
        "threshold_db": -30, "ratio": 2, "range_db": 14, "knee_db": 9, "attack_ms": 2,
        "hold_ms": 40, "release_ms": 180}),
    ("Room away", "A voice in a live room: less of the walls between the words.", {
        "threshold_db": -38, "ratio": 1.6, "range_db": 10, "knee_db": 12, "attack_ms": 4,
        "hold_ms": 60, "release_ms": 260, "detector": "rms"}),
    ("Hits forward", "What is loud gets louder: life back into a flat loop.", {
        "threshold_db": -18, "ratio": 1.4, "range_db": 5, "knee_db": 6, "attack_ms": 1,
        "release_ms": 70, "direction": "up"}),
]  # fmt: skip
_GATE: list[tuple[str, str, dict[str, Any]]] = [
    ("Only the drum", "A close drum: opens at once, keeps the body, shuts the neighbours out.", {
        "threshold_db": -30, "hysteresis_db": 6, "depth_db": 60, "attack_ms": 0.1, "hold_ms": 60,
        "release_ms": 140, "lookahead_ms": 1}),
    ("Pauses down", "A spoken voice: the room sinks between the words, nothing is cut.", {
        "threshold_db": -44, "hysteresis_db": 6, "depth_db": 16, "attack_ms": 3, "hold_ms": 250,
        "release_ms": 320, "lookahead_ms": 4}),
    ("Boom without the click", "A slow opening leaves the body of a bass drum alone.", {
        "threshold_db": -26, "depth_db": 80, "attack_ms": 18, "hold_ms": 30, "release_ms": 160}),
    ("Short and dry", "Cuts the tail of a hit; two milliseconds of hold against ticks.", {
        "threshold_db": -24, "hysteresis_db": 8, "depth_db": 40, "attack_ms": 0.05, "hold_ms": 2,
        "release_ms": 25, "lookahead_ms": 1}),
]  # fmt: skip
_LEVELLER: list[tuple[str, str, dict[str, Any]]] = [
    ("One speaker, one level", "Spoken word that wanders: before any compressor.", {
        "target_db": -22, "rise_db_s": 3, "fall_db_s": 8, "max_gain_db": 10, "max_cut_db": 10,
        "floor_db": -45}),
    ("Verse meets chorus", "A singer who steps back: slow enough not to be heard working.", {
        "target_db": -20, "rise_db_s": 0.8, "fall_db_s": 1.5, "max_gain_db": 5, "max_cut_db": 5,
        "mean_ms": 1500}),
]  # fmt: skip
_CURVE: list[tuple[str, str, dict[str, Any]]] = [
    ("Two hands", "A wandering voice: quiet words come up, loud ones down.", {
        "points": [[-80, -80], [-54, -54], [-40, -34], [-28, -26], [-16, -19], [0, -12]],
        "smooth": True, "attack_ms": 12, "release_ms": 200, "makeup_db": 2}),
    ("Floor and roof", "Bleed goes down below, peaks above: gate and compressor in one bend.", {
        "points": [[-70, -95], [-48, -52], [-40, -40], [-18, -18], [0, -12]],
        "smooth": True, "attack_ms": 4, "release_ms": 140}),
    ("Shy things forward", "Brings up what is quiet, for room and detail.", {
        "points": [[-90, -90], [-60, -58], [-45, -37], [-30, -26], [-15, -15], [0, 0]],
        "smooth": True, "detector": "rms", "rms_ms": 20, "attack_ms": 20, "release_ms": 300}),
    ("Only the middle", "Tightens a bass, while ghosts and accents keep their height.", {
        "points": [[-60, -60], [-30, -30], [-14, -22], [-6, -12], [0, -5]],
        "smooth": True, "attack_ms": 25, "release_ms": 160, "makeup_db": 3}),
]  # fmt: skip
_LIMITER: list[tuple[str, str, dict[str, Any]]] = [
    ("Last in line", "The main bus: nothing between the samples passes one decibel below full.", {
        "ceiling_db": -1, "character": "invisible", "lookahead_ms": 5, "release_ms": 80,
        "release_mode": "adaptive"}),
    ("Loud and short", "Drums that have to hit: late, quick, a little rounded ahead of the wall.", {
        "drive_db": 4, "ceiling_db": -1, "character": "quick", "lookahead_ms": 2, "release_ms": 25,
        "round": 0.35}),
    ("Let the bass lean", "Dance mixes: the lows push the whole, clicks on top return at once.", {
        "drive_db": 3, "ceiling_db": -1, "character": "heavy", "lookahead_ms": 5,
        "release_ms": 140}),
    ("Peaks off a voice", "Plosives and shouts before a compressor, which then works evenly.", {
        "ceiling_db": -8, "character": "invisible", "lookahead_ms": 3, "release_ms": 40,
        "release_mode": "adaptive"}),
]  # fmt: skip
_TRANSIENT: list[tuple[str, str, dict[str, Any]]] = [
    ("More stick", "A drum that hides: its first moment comes forward, peaks stay.", {
        "attack_db": 8, "sustain_db": -2, "attack_ms": 12, "keep_peaks": True}),
    ("Less room", "Takes the tail off a drum in a live room, without a gate's edges.", {
        "sustain_db": -9, "sustain_ms": 250}),
    ("Softer pick", "A string whose pick clicks: only above 2 kHz, only the first moment.", {
        "attack_db": -9, "attack_ms": 8, "attack_low_hz": 2000, "range_acts": "signal"}),
    ("Longer notes", "Brings up what follows the pluck, for a bass line that should carry.", {
        "sustain_db": 5, "sustain_ms": 600, "sustain_high_hz": 800}),
    ("Glue out of it", "Loops that fight the drums: attacks down, bodies up.", {
        "attack_db": -6, "sustain_db": 3, "attack_ms": 25}),
]  # fmt: skip
_DEESSER: list[tuple[str, str, dict[str, Any]]] = [
    ("Lead voice", "Sharp s and sh on words of any loudness; the rest of the voice untouched.", {
        "frequency_hz": 6000, "slope": "24", "threshold_db": -11, "ratio": 4,
        "max_reduction_db": 9}),
    ("Whistling s", "One narrow whistle and the sharpness above it.", {
        "frequency_hz": 8500, "shape": "above", "threshold_db": -14, "ratio": 5,
        "max_reduction_db": 8, "second_hz": 5200, "second_width_oct": 0.4}),
    ("Bow and fret", "Scratches of strings, whenever they stick out of the note.", {
        "frequency_hz": 3800, "shape": "band", "width_oct": 1.6, "slope": "12",
        "threshold_db": -9, "ratio": 3, "max_reduction_db": 6, "attack_ms": 3,
        "release_ms": 90}),
    ("Choir of s", "A bus of many voices: the whole steps back a little with every s.", {
        "frequency_hz": 6500, "action": "wide", "threshold_db": -10, "ratio": 3,
        "max_reduction_db": 4}),
]  # fmt: skip
_TAMER: list[tuple[str, str, dict[str, Any]]] = [
    ("What the room adds", "Booms and rings of a room on any track: scan a busy passage first.", {
        "amount": 0.8, "speed_ms": 60, "most_db": 9}),
    ("Only the whistle", "One sharp place of a cymbal, reed or string, quickly and alone.", {
        "amount": 1, "speed_ms": 15, "most_db": 12, "low_hz": 1500}),
    ("Voice in a box", "A voice recorded too near to walls: mud and box, slowly and a little.", {
        "amount": 0.6, "speed_ms": 150, "most_db": 6, "low_hz": 120, "high_hz": 1500}),
    ("Calm the bus", "Several players who ring alike: the middle and the sides, hardly heard.", {
        "amount": 0.5, "speed_ms": 100, "most_db": 4, "stereo": "mid-side"}),
]  # fmt: skip
_CLIPPER: list[tuple[str, str, dict[str, Any]]] = [
    ("Shave the drum", "Six decibels of peak off a drum, before anything has to follow it.", {
        "ceiling_db": -6, "shape": 0.8, "quality": "high", "hold_ceiling": True}),
    ("Round shoulders", "A bus that is pushed: bends early and softly instead of cutting.", {
        "drive_db": 5, "ceiling_db": -3, "shape": 0.2, "output_db": -2}),
    ("Lows go round", "Clips the crack of a drum from 150 Hz on; the boom below stays whole.", {
        "drive_db": 4, "ceiling_db": -6, "shape": 0.7, "range_low_hz": 150}),
    ("Broken on purpose", "A crushed copy to blend under the clean one, folds and all.", {
        "drive_db": 24, "ceiling_db": -9, "shape": 1, "quality": "plain"}),
]  # fmt: skip
_SATURATOR: list[tuple[str, str, dict[str, Any]]] = [
    ("Warm wood", "A thin fiddle or voice: second harmonics fill it in, peaks hardly change.", {
        "drive_db": 10, "harmonics": 0.1, "makeup": "loudness"}),
    ("Bus paint", "Every hit a little denser; as loud as before, so that only the tone counts.", {
        "drive_db": 6, "harmonics": 0.6, "makeup": "loudness", "quality": "high"}),
    ("Growl", "A low string that small loudspeakers should carry: odd, and leaning to one side.", {
        "drive_db": 20, "harmonics": 0.9, "asymmetry": 0.35, "makeup": "loudness"}),
    ("Lows first", "More of the lows goes into the bend; behind it they are taken back.", {
        "drive_db": 8, "harmonics": 0.4, "makeup": "loudness",
        "emphasis": [{"type": "low-shelf", "hz": 200, "gain_db": 6}]}),
    ("Torn paper", "For the wet side of a blend: as much as there is, folds included.", {
        "drive_db": 34, "harmonics": 1, "quality": "plain", "output_db": -6}),
]  # fmt: skip
_TONE: list[tuple[str, str, dict[str, Any]]] = [
    ("Clear the mud", "A bus that is thick in the low middle: a shallow dip, in linear phase.", {
        "phase": "linear", "bands": [
            {"type": "low-cut", "hz": 22, "slope": "24"},
            {"type": "bell", "hz": 265, "gain_db": -2.5, "q": 0.9}]}),
    ("Thin the stand", "A close microphone on a stand: rumble away, a little air.", {
        "bands": [{"type": "low-cut", "hz": 85, "slope": "18"},
                  {"type": "high-shelf", "hz": 9000, "gain_db": 2.5}]}),
    ("Bow that gives way", "A fiddle that bites now and then: only the loud strokes are dulled.", {
        "bands": [{"type": "bell", "hz": 3200, "q": 1.4, "move_db": -6, "threshold_db": -34,
                   "attack_ms": 4, "release_ms": 90}]}),
    ("Room for a voice", "The sides step back where a voice lives in the middle.", {
        "bands": [{"type": "bell", "hz": 2200, "gain_db": -2, "q": 0.7, "channel": "mid"},
                  {"type": "high-shelf", "hz": 6000, "gain_db": 1.5, "channel": "side"}]}),
    ("Kitchen shelf", "What a small loudspeaker leaves of it: to listen through, not to print.", {
        "bands": [{"type": "low-cut", "hz": 200, "slope": "12"},
                  {"type": "high-cut", "hz": 11000, "slope": "12"}]}),
    ("Hum", "Mains hum and its next two harmonics, with what is around them left alone.", {
        "bands": [{"type": "notch", "hz": hz, "q": 18} for hz in (50, 100, 150)]}),
]  # fmt: skip
_ENHANCER: list[tuple[str, str, dict[str, Any]]] = [
    ("Bass for a kitchen shelf", "Small loudspeakers carry 80 to 270 Hz: they hear the bass.", {
        "low_hz": 40, "high_hz": 90, "order": "both", "amount_db": -6, "drive_db": 6}),
    ("Heard, not felt", "A low string: harmonics of 140 to 200 Hz.", {
        "low_hz": 140, "high_hz": 200, "order": "even", "amount_db": -9, "drive_db": 3}),
    ("Rosin", "A bowed sound without edge: odd harmonics of its upper middle.", {
        "low_hz": 1500, "high_hz": 4000, "order": "odd", "amount_db": -20, "quality": "high"}),
    ("Only the shadow", "The lowest octave gives way to its harmonics.", {
        "low_hz": 30, "high_hz": 70, "amount_db": 0, "keep_source": False}),
]  # fmt: skip
_ROOM: list[tuple[str, str, dict[str, Any]]] = [
    ("Boathouse", "Planks and water: short and dark, to put a dry track in its place.", {
        "size": 1.2, "decay_s": 0.5, "damp_hz": 4500}),
    ("Cupboard", "Hardly a room: thickens a thin hit.", {
        "size": 0.4, "decay_s": 0.15, "damp_hz": 9000}),
    ("To be ducked", "A longer tail that something keyed from its source holds down.", {
        "size": 1.7, "decay_s": 1.4, "predelay_ms": 18, "low_cut_hz": 200}),
]  # fmt: skip
_WIDTH: list[tuple[str, str, dict[str, Any]]] = [
    ("Lows in the middle", "A bus whose bass wanders: no sides below 120 Hz.", {
        "mono_below_hz": 120}),
    ("Step aside", "A little wider above, so that a voice has the middle to itself.", {
        "width": 1.3, "mono_below_hz": 150}),
    ("Room for one", "A mono sound laid out; what both sides add up to stays as it is.", {
        "spread": 0.6, "mono_below_hz": 200}),
]  # fmt: skip
_GRIT: list[tuple[str, str, dict[str, Any]]] = [
    ("Toy box", "Few samples, few bits; blend a little of it under a drum.", {
        "bits": 6, "rate_hz": 6000}),
    ("Worn line", "Dull and grainy, for the wet side of a voice.", {
        "bits": 9, "rate_hz": 9000, "smooth": 0.8}),
]  # fmt: skip
_TRIM: list[tuple[str, str, dict[str, Any]]] = [
    ("Headroom", "Six decibels down before something that wants room.", {"gain_db": -6}),
    ("Turned round", "The other polarity, for a microphone on the far side.", {"invert": True}),
]
STAGES: dict[str, list[tuple[str, str, dict[str, Any]]]] = {
    "compressor": _COMPRESSOR,
    "ducker": _DUCKER,
    "expander": _EXPANDER,
    "gate": _GATE,
    "leveller": _LEVELLER,
    "curve": _CURVE,
    "limiter": _LIMITER,
    "transient": _TRANSIENT,
    "deesser": _DEESSER,
    "tamer": _TAMER,
    "clipper": _CLIPPER,
    "saturator": _SATURATOR,
    "tone": _TONE,
    "enhancer": _ENHANCER,
    "room": _ROOM,
    "width": _WIDTH,
    "grit": _GRIT,
    "trim": _TRIM,
}
"""Name, when and why, parameters, by the kind of processor."""
TAGS = {
    "Even hand": "voice level",
    "Let the stick through": "drums punch level",
    "Flat as planks": "drums parallel level",
    "Four off the bottom": "bass level",
    "One roof": "bus level",
    "Breathing room": "room effect",
    "Speaker's table": "speech level",
    "Out of the stick's way": "drums keyed level",
    "Pumping floor": "keyed effect",
    "Echo in the gaps": "room keyed clean-up",
    "Softer than a gate": "drums clean-up",
    "Room away": "voice clean-up",
    "Hits forward": "drums punch",
    "Only the drum": "drums clean-up",
    "Pauses down": "speech clean-up",
    "Boom without the click": "drums bass effect",
    "Short and dry": "drums effect",
    "One speaker, one level": "speech level",
    "Verse meets chorus": "voice level",
    "Two hands": "voice level",
    "Floor and roof": "drums clean-up level",
    "Shy things forward": "room level",
    "Only the middle": "bass level",
    "Last in line": "bus loudness",
    "Loud and short": "drums loudness",
    "Let the bass lean": "bus loudness",
    "Peaks off a voice": "voice level",
    "More stick": "drums punch",
    "Less room": "drums clean-up",
    "Softer pick": "strings clean-up",
    "Longer notes": "bass level",
    "Glue out of it": "drums level",
    "Lead voice": "voice clean-up",
    "What the room adds": "room clean-up",
    "Only the whistle": "strings clean-up",
    "Voice in a box": "voice clean-up",
    "Calm the bus": "bus clean-up",
    "Whistling s": "voice clean-up",
    "Bow and fret": "strings clean-up",
    "Choir of s": "voice bus clean-up",
    "Shave the drum": "drums loudness",
    "Round shoulders": "bus loudness",
    "Lows go round": "drums punch",
    "Broken on purpose": "drums parallel effect",
    "Warm wood": "strings voice tone",
    "Bus paint": "bus tone",
    "Growl": "bass tone",
    "Lows first": "bass tone",
    "Torn paper": "parallel effect",
    "Clear the mud": "bus tone clean-up",
    "Thin the stand": "strings tone clean-up",
    "Bow that gives way": "strings clean-up",
    "Room for a voice": "bus width tone",
    "Kitchen shelf": "bus effect",
    "Hum": "clean-up",
    "Bass for a kitchen shelf": "bass tone",
    "Heard, not felt": "bass tone",
    "Rosin": "strings tone",
    "Only the shadow": "bass effect",
    "Boathouse": "room space",
    "Cupboard": "drums space",
    "To be ducked": "room space keyed",
    "Lows in the middle": "bus width",
    "Step aside": "bus width",
    "Room for one": "width space",
    "Toy box": "drums parallel effect",
    "Worn line": "voice effect",
    "Headroom": "level",
    "Turned round": "clean-up",
}
"""What each is for."""
