"""The six properties of every processor, over the registry (design/02, the contract).

1 block lengths · 2 off, mix, neutral · 3 latency · 4 extremes · 5 repeatability · 6 no clicks
"""

from typing import Any

import numpy as np
import pytest

from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import REGISTRY, Context, processor
from salt_anvil.core.processors.base import Control, Setup
from salt_anvil.core.session import Stage, checked
from tests.conftest import RATES, noise, sine
from tests.long import LONG

KINDS = sorted(REGISTRY)
# Settings under which a kind leaves every sound as it is; None: it always bends.
NEUTRAL: dict[str, dict[str, Any] | None] = {
    "trim": {}, "compressor": {"ratio": 1}, "gate": {"depth_db": 0},
    "expander": {"ratio": 1}, "ducker": {"depth_db": 0},
    "curve": {"points": [(-80, -80), (0, 0)]}, "leveller": {"max_gain_db": 0, "max_cut_db": 0},
    "limiter": {"ceiling_db": 0}, "transient": {}, "deesser": {"ratio": 1},
    "clipper": {"shape": 1}, "saturator": None, "grit": None, "width": {},
    "enhancer": {"amount_db": -60}, "room": None,
    "tamer": {"amount": 0, "places": [{"hz": 900}]},
    "tone": {"bands": [{"type": "bell"}, {"type": "notch", "on": False}]},
}  # fmt: skip
# Settings that use as much of the machinery as possible.
BUSY: dict[str, list[dict[str, Any]]] = {
    "tamer": [
        {"places": [{"hz": 300}, {"hz": 2500, "width_oct": 0.1, "over_db": 12}], "link": 0.5},
        {"places": [{"hz": 900, "depth_db": 12}], "stereo": "mid-side", "speed_ms": 5, "amount": 1},
        {"places": [{"hz": 5000}, {"hz": 70, "on": False}], "given_back_db": 1.5},
    ],
    "trim": [{"gain_db": -3, "dc_block": True, "delay_ms": 7.3, "invert": True}],
    "compressor": [
        {"threshold_db": -30, "lookahead_ms": 3.7, "restore": 0.4, "link": 0.5, "hold_ms": 9},
        {"threshold_db": -30, "topology": "feed-back", "release_mode": "auto", "detector": "rms"},
        {"threshold_db": -30, "ballistics": "branching", "stereo": "mid-side", "makeup_db": 5},
        {"threshold_db": -20, "lookahead_ms": 2, "colour": 0.7, "colour_balance": 0.3},
    ],
    "transient": [
        {"attack_db": 9, "sustain_db": -12, "link": 0.5, "keep_peaks": True},
        {
            "attack_db": -6,
            "sustain_db": 6,
            "range_acts": "signal",
            "attack_low_hz": 900,
            "sustain_low_hz": 150,
            "sustain_high_hz": 3000,
        },
    ],
    "tone": [
        {
            "bands": [
                {"type": "low-cut", "hz": 60, "slope": "18"},
                {"type": "bell", "hz": 900, "gain_db": 2, "move_db": -9, "threshold_db": -40},
                {"type": "high-shelf", "hz": 6000, "gain_db": -3, "channel": "mid"},
                {"type": "low-shelf", "hz": 200, "move_db": 6, "channel": "right"},
                {"type": "notch", "hz": 3000, "q": 4, "channel": "side"},
            ]
        },
        {
            "phase": "linear",
            "bands": [
                {"type": "bell", "hz": 300, "gain_db": -4, "channel": "side"},
                {"type": "high-cut", "hz": 9000, "slope": "6"},
                {"type": "bell", "hz": 900, "move_db": -9, "threshold_db": -40},
            ],
        },
    ],
    "enhancer": [
        {"low_hz": 100, "high_hz": 400, "amount_db": 0, "drive_db": 12},
        {"keep_source": False, "order": "odd", "quality": "best", "low_hz": 60, "high_hz": 200},
        {"quality": "plain", "order": "even"},
    ],
    "room": [
        {"size": 0.7, "decay_s": 0.3, "predelay_ms": 11},
        {"size": 1.9, "decay_s": 2, "damp_hz": 2000, "low_cut_hz": 30},
    ],
    "width": [{"width": 1.6, "spread": 0.7, "mono_below_hz": 120, "balance": -0.3}],
    "grit": [{"bits": 14, "rate_hz": 30000, "smooth": 0.5}, {"bits": 4.5}],
    "saturator": [
        {"drive_db": 3, "harmonics": 0.7, "asymmetry": 0.3, "lean_db": 2, "makeup": "loudness"},
        {
            "drive_db": 9,
            "quality": "best",
            "stereo": "mid-side",
            "harmonics": 0,
            "link": 0.5,
            "makeup": "loudness",
        },
        {
            "quality": "plain",
            "harmonics": 1,
            "output_db": -4,
            "emphasis": [{"type": "low-shelf", "hz": 300}, {"hz": 2000, "gain_db": -4}],
        },
        {"emphasis": [{"type": "high-shelf", "hz": 3000}], "undo_emphasis": False},
    ],
    "clipper": [
        {"ceiling_db": -18, "range_low_hz": 90, "outside": "removed", "dc_block": True},
        {"drive_db": 9, "quality": "best", "stereo": "mid-side", "shape": 1, "output_db": -3},
        {"drive_db": 3, "quality": "plain", "hold_ceiling": True, "shape": 0, "stereo": "side"},
    ],
    "deesser": [
        {"threshold_db": -30, "relative": False, "link": 0.5, "second_hz": 3000},
        {
            "threshold_db": -20,
            "action": "wide",
            "shape": "band",
            "stereo": "mid-side",
            "slope": "48",
            "frequency_hz": 4000,
        },
    ],
    "curve": [
        {"points": [(-60, -90), (-40, -40), (-20, -20), (0, -15)], "lookahead_ms": 3.7},
        {
            "points": [(-60, -50), (-30, -25), (-20, -24), (0, 0)],
            "smooth": True,
            "link": 0.5,
            "detector": "rms",
        },
    ],
    "limiter": [
        {"drive_db": 6, "ceiling_db": -9, "round": 0.5, "trim_db": -2, "link": 0.5},
        {"drive_db": 12, "character": "heavy", "release_mode": "adaptive", "lookahead_ms": 1.3},
        {"drive_db": 9, "character": "quick", "true_peak": False, "release_ms": 5},
    ],
    "leveller": [
        {"target_db": -24, "rise_db_s": 20, "fall_db_s": 30, "mean_ms": 60},
    ],
    "ducker": [
        {"threshold_db": -12, "lookahead_ms": 3.7, "attack_ms": 4, "hold_ms": 9},
        {"threshold_db": -20, "shape": "straight", "retrigger_ms": 5, "decay_ms": 20},
    ],
    "expander": [
        {"threshold_db": -12, "lookahead_ms": 3.7, "link": 0.5, "hold_ms": 9, "ratio": 3},
        {"threshold_db": -30, "direction": "up", "detector": "rms", "range_db": 9},
    ],
    "gate": [
        {"threshold_db": -20, "lookahead_ms": 3.7, "link": 0.5, "hold_ms": 2, "release_ms": 15},
        {"threshold_db": -12, "hysteresis_db": 0, "depth_db": 24, "attack_ms": 0.3, "hold_ms": 0},
    ],
}
PART = 8192
"""Frames at a time where their number does not matter (see test_1_block_lengths_do_not_matter)."""
WIDE = [(c, rate) for c in (1, 2) for rate in RATES] if LONG else [(1, 192000), (2, 44100)]
BUSY_CASES = [(kind, index) for kind in KINDS for index in range(len(BUSY[kind]))]


def stage(kind: str, params: dict[str, Any] | None = None, **more: Any) -> Stage:
    return checked(Stage, {"id": "x", "kind": kind, "params": params or {}, **more})


def run(
    unit: Unit, sound: np.ndarray, parts: list[int] | None = None, start: int = 0
) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    out, cells, at = [], {}, 0
    for part in parts or [PART] * (len(sound) // PART) + [len(sound) % PART]:
        if part:
            passed = unit.process(sound[at : at + part], start + at)
            out.append(passed.out)
            for name, rows in passed.report.cells.items():
                cells.setdefault(name, []).append(rows)
        at += part
    return np.concatenate(out), {n: np.concatenate(rows) for n, rows in cells.items()}


def aligned(unit: Unit, sound: np.ndarray) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """Return what `run` does, in the time of the sound, whose last frame goes on at its end."""
    whole = np.concatenate([sound, np.repeat(sound[-1:], unit.latency, axis=0)])
    out, cells = run(unit, whole)
    return out[unit.latency :], cells


def settings_at_the_ends(control: Control) -> list[Any]:
    if control.type == "number":
        ends = (control.low, control.high)
        return list(ends)
    if control.type == "points":
        low, high = control.low or 0.0, control.high
        return [
            ((low, low / 2), (0, -20)),
            ((-40, low), (-6, -6), (high, -6)),
            ((low, low), (0, 0)),
        ]
    if control.type == "bands":
        types = next((f.choices for f in control.fields if f.name == "type"), [])
        if not types:
            return [[], *[[ends] for ends in _band_ends(control)]]
        return [[], *[[{"type": t, **ends}] for t in types for ends in _band_ends(control)]]
    return control.choices if control.type == "choice" else [False, True]


def _band_ends(control: Control) -> list[dict[str, Any]]:
    """Each number of a band at its ends, the others far from rest."""
    far = {"gain_db": 12, "move_db": -12, "threshold_db": -60, "slope": "48", "over_db": 18}
    far = {name: value for name, value in far.items() if name in {f.name for f in control.fields}}
    found = []
    for inner in control.fields:
        found += [far | {inner.name: value} for value in settings_at_the_ends(inner)]
    return found


def test_every_kind_has_its_cases() -> None:
    assert set(NEUTRAL) == set(BUSY) == set(KINDS)


@pytest.mark.parametrize(("kind", "index"), BUSY_CASES)
def test_0_what_was_found_once_is_found_anew(kind: str, index: int, music: np.ndarray) -> None:
    """A step goes on with its settings, state and reports, and no longer than these stand."""
    item, context = stage(kind, BUSY[kind][index]), Context(48000, 2, 96)
    blocks = [music[at : at + 1024] for at in range(0, 5120, 1024)]
    alone = Unit(item, context)
    wanted = [alone.process(b, 1024 * at).out for at, b in enumerate(blocks)]
    unit = Unit(item, context)
    assert (unit.process(blocks[0], 0).out == wanted[0]).all()
    twin = unit.clone()
    unit.tell(False)
    for at in (1, 2):
        passed = unit.process(blocks[at], 1024 * at)
        assert (passed.out == wanted[at]).all()
        assert not passed.report.cells
    assert (twin.process(blocks[1], 1024).out == wanted[1]).all()
    kept = unit.state()
    unit.process(blocks[0], 3072)
    unit.restore(kept)
    unit.tell(True)
    passed = unit.process(blocks[3], 3072)
    assert (passed.out == wanted[3]).all()
    assert passed.report.cells or kind in ("trim", "width", "grit", "room", "saturator", "enhancer")


@pytest.mark.parametrize(("kind", "index"), BUSY_CASES)
def test_1_block_lengths_do_not_matter(kind: str, index: int, music: np.ndarray) -> None:
    context = Context(48000, 2, 96, observe=True)
    sound, item = music[:12000], stage(kind, BUSY[kind][index])
    whole, reported = run(Unit(item, context), sound, start=37)
    generator = np.random.default_rng(index)
    for begin, most in ((11000, 3), (0, 100), (0, 5000)):
        parts = [begin]
        while sum(parts) < len(sound):
            parts.append(int(min(generator.integers(1, most + 1), len(sound) - sum(parts))))
        out, cells = run(Unit(item, context), sound, parts, start=37)
        assert np.abs(out - whole).max() < 1e-12
        for name in reported:
            assert reported[name].shape[1] == context.channels, name
            assert np.abs(cells[name] - reported[name]).max() < 1e-12


@pytest.mark.parametrize(("kind", "index"), BUSY_CASES)
def test_2_off_and_dry_are_the_delayed_input(kind: str, index: int) -> None:
    sound = noise(8192)
    for change in ({"on": False}, {"mix": 0.0}):
        unit = Unit(stage(kind, BUSY[kind][index], **change), Context(48000, 2, 96))
        out, _ = run(unit, sound)
        late = unit.latency
        assert (out[late:] == sound[: len(sound) - late]).all()


@pytest.mark.parametrize(("kind", "index"), BUSY_CASES)
def test_2_wet_is_the_processor_to_the_bit_and_half_is_the_mean(kind: str, index: int) -> None:
    sound, context = noise(8192), Context(48000, 2, 96)
    outs = {
        m: run(Unit(stage(kind, BUSY[kind][index], mix=m), context), sound)[0] for m in (0, 0.5, 1)
    }
    item = processor(kind)
    params = stage(kind, BUSY[kind][index]).params
    unit = Unit(stage(kind, BUSY[kind][index]), context)
    bare, state = [], item.prepare(params, context)
    for at in range(0, 8192, 1024):
        block = sound[at : at + 1024]
        ramp = unit._glide.over(at, 1024)
        bare.append(item.step(Setup(params, context, ramp, state))(block, block, at)[0])
    assert (outs[1] == np.concatenate(bare)).all()
    assert np.abs(outs[0.5] - 0.5 * (outs[0] + outs[1])).max() < 1e-15


@pytest.mark.parametrize("kind", [k for k in KINDS if NEUTRAL[k] is not None])
@pytest.mark.parametrize("mix", [0.25, 0.5, 0.75, 1.0])
def test_2_neutral_settings_change_nothing(kind: str, mix: float) -> None:
    sound = noise(8192)
    unit = Unit(stage(kind, NEUTRAL[kind], mix=mix), Context(48000, 2, 96))
    out, _ = run(unit, sound)
    late = unit.latency
    assert np.abs(out[late:] - sound[: len(sound) - late]).max() < 1e-9


# The room's answer comes when its walls are reached; it is not late, and stands to its dry sound.
LATENCY_CASES = [(kind, index) for kind, index in BUSY_CASES if kind != "room"]


@pytest.mark.parametrize(("kind", "index"), LATENCY_CASES)
@pytest.mark.parametrize("rate", RATES)
def test_3_stated_latency_is_measured(kind: str, index: int, rate: int) -> None:
    # What delays on purpose, or may leave the one sample of the pulse out.
    plain = {"trim": {"delay_ms": 0, "dc_block": False}, "grit": {"rate_hz": None, "smooth": 0}}
    params = BUSY[kind][index] | plain.get(kind, {})
    unit = Unit(stage(kind, params), Context(rate, 1, 96))
    pulse = np.zeros((rate // 10 + unit.latency, 1))
    pulse[50] = 0.5
    out, _ = run(unit, pulse)
    assert np.abs(out).argmax() - 50 == unit.latency


@pytest.mark.parametrize(("kind", "index"), BUSY_CASES)
def test_4_what_float32_does_not_hold_stays_finite(kind: str, index: int) -> None:
    sound = 1e40 * noise(3000)
    assert np.isfinite(
        run(Unit(stage(kind, BUSY[kind][index]), Context(48000, 2, 96)), sound)[0]
    ).all()


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize(("channels", "rate"), WIDE)
def test_4_extremes_stay_finite(kind: str, channels: int, rate: int) -> None:
    frames = 1500
    bad = noise(frames, channels)
    bad[100], bad[700] = np.nan, np.inf
    sounds = [
        np.zeros((frames, channels)),
        np.ones((frames, channels)),
        np.sign(sine(1000, frames / rate, rate, channels=channels) + 1e-9),
        np.full((frames, channels), 1e-310),
        bad,
    ]
    for control in processor(kind).describe().controls:
        for value in settings_at_the_ends(control):
            try:
                unit = Unit(stage(kind, {control.name: value}), Context(rate, channels, 96))
            except SettingError:
                continue  # a range upside down
            at = 0
            for sound in sounds:
                out, _ = run(unit, sound, [1, frames - 1], at)
                at += frames
                assert np.isfinite(out).all(), control.name
            state = unit.state()
            assert all(np.isfinite(a).all() for a in state.values()), control.name
            assert unit.nonfinite == 2 * channels


@pytest.mark.parametrize("kind", KINDS)
def test_4_no_state_becomes_subnormal(kind: str) -> None:
    """Long after it became loud, and long after it became silent: they slow a recursion down."""
    unit = Unit(stage(kind, {}), Context(48000, 1, 96))
    loud = np.sign(noise(8192, 1)) * 0.5
    at = 0
    for sound, count in ((loud * 1e-4, 1), (loud, 90), (np.zeros_like(loud), 90)):
        for _ in range(count):
            unit.process(sound, at)
            at += len(sound)
        state = {name: a[np.isfinite(a)] for name, a in unit.state().items()}
        small = [n for n, a in state.items() if ((a != 0) & (np.abs(a) < 1e-300)).any()]
        assert small == []


@pytest.mark.parametrize(("kind", "index"), BUSY_CASES)
def test_5_same_again_and_from_bytes(kind: str, index: int, music: np.ndarray) -> None:
    context, item = Context(48000, 2, 96), stage(kind, BUSY[kind][index])
    first, second = Unit(item, context), Unit(item, context)
    a, _ = run(first, music[:30720])
    b, _ = run(second, music[:30720])
    assert (a == b).all()
    third = Unit(item, context)
    third.restore(type(first.state()).from_bytes(first.state().to_bytes()))
    on, _ = run(first, music[30720:], start=30720)
    again, _ = run(third, music[30720:], start=30720)
    assert (on == again).all()


@pytest.mark.parametrize("kind", [k for k in KINDS if k != "grit"])  # steps are what it makes
def test_6_moving_a_control_makes_no_click(kind: str) -> None:
    """Above 6 kHz, a moved control leaves next to nothing of a 200 Hz tone.

    What bends the wave (the limiter's `round`) has harmonics there: those of the settled wave.
    """
    sound = sine(200, 0.5, level_db=-12)
    window = np.hanning(1024)[:, None]
    for control in processor(kind).describe().controls:
        if control.change == "structural":
            continue
        start = BUSY[kind][0] | {"topology": "feed-forward"}
        start = {k: v for k, v in start.items() if k in type(stage(kind).params).model_fields}
        if kind == "compressor":
            start["lookahead_ms"] = 0
        for value in settings_at_the_ends(control):
            unit = Unit(stage(kind, start), Context(48000, 2, 96))
            target = stage(kind, start | {control.name: value})
            try:
                processor(kind).controls(target.params, unit.context)
            except SettingError:
                continue  # a range upside down
            out = []
            for at in range(0, 23552, 1024):
                if at == 10240:
                    unit.change(target, unit.context)
                out.append(unit.process(sound[at : at + 1024], at).out)
            whole = np.concatenate(out)
            moved, settled = (
                max(
                    np.abs(np.fft.rfft(part[s : s + 1024] * window, axis=0))[128:].max() / 512
                    for s in range(0, len(part) - 1024, 256)
                )
                for part in (whole[9728:13824], whole[18432:])
            )
            # The tone stands at -12 dBFS: -86 dBFS is 74 dB below it, where a gain stepped
            # every 64 frames leaves -55 dBFS.
            most = max(10 ** (-86 / 20), 1.5 * settled)
            assert moved < most, f"{control.name} to {value}: {20 * np.log10(moved):.1f} dB"
