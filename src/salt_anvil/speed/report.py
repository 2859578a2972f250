"""`salt-anvil speed`: how fast everything is on this machine. Medians; nothing here is a test."""

import platform
import statistics
import time
from collections.abc import Callable, Iterator
from functools import partial
from itertools import cycle
from typing import Any

import numpy as np

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.dsp import dynamics as d
from salt_anvil.core.dsp.control_ramp import ControlRamp
from salt_anvil.core.dsp.delay import no_wait
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.strip import AT_ONCE, StripRunner
from salt_anvil.core.measure.rows import RowMeter
from salt_anvil.core.processors import Context
from salt_anvil.core.processors.compressor import Compressor
from salt_anvil.core.recipe import Recipe, plan_recipe, read_recipe
from salt_anvil.demo import install
from salt_anvil.jobs.render import THREADS, blocks
from salt_anvil.live.player import AT_ONCE as LIVE_AT_ONCE
from salt_anvil.speed import beside

RATE, SECONDS, ROUNDS, PIECE = 48000, 11, 7, AT_ONCE
Row = dict[str, dict[str, float]]
"""A factor of the kernel alone, live and in print."""
COMPRESSOR: dict[str, dict[str, Any]] = {
    "as it comes (peak, linked)": {},
    "rms": {"detector": "rms"},
    "branching": {"ballistics": "branching"},
    "feed-back": {"topology": "feed-back"},
    "link 50 %": {"link": 0.5},
    "restore 30 %": {"restore": 0.3},
    "automatic release": {"release_mode": "auto"},
    "look-ahead 5 ms": {"lookahead_ms": 5},
    "mid-side": {"stereo": "mid-side"},
}

DYNAMICS: dict[str, tuple[str, dict[str, Any]]] = {
    "gate": ("gate", {"threshold_db": -20}),
    "expander": ("expander", {"threshold_db": -20}),
    "curve": ("curve", {}),
    "curve, smooth, rms": ("curve", {"smooth": True, "detector": "rms"}),
    "leveller": ("leveller", {}),
    "limiter": ("limiter", {}),
    "limiter, 12 dB over": ("limiter", {"drive_db": 12}),
    "ducker": ("ducker", {"threshold_db": -20}),
    "transient": ("transient", {"attack_db": 6, "sustain_db": -6}),
    "transient, ranges acting": ("transient", {
        "attack_db": 6, "sustain_db": -6, "attack_low_hz": 900, "sustain_low_hz": 100,
        "range_acts": "signal", "keep_peaks": True}),
    "de-esser": ("deesser", {}),
    **{f"clipper {quality}, 12 dB over": ("clipper", {"quality": quality, "drive_db": 12})
       for quality in ("plain", "good", "high", "best")},
    **{f"clipper {quality}, peaks only": ("clipper", {"quality": quality, "shape": 1,
                                                      "ceiling_db": -2})
       for quality in ("plain", "good", "high", "best")},
    **{f"saturator {quality}": ("saturator", {"quality": quality})
       for quality in ("plain", "good", "high", "best")},
    "saturator good, make-up": ("saturator", {"makeup": "loudness"}),
    "compressor, colour": ("compressor", {"colour": 0.5}),
    "saturator good, emphasis": ("saturator", {"emphasis": [{"type": "low-shelf", "hz": 200}]}),
    "tone, 4 bands": ("tone", {"bands": [{"hz": 200 * i, "gain_db": 3} for i in range(1, 5)]}),
    "tone, 12 bands": ("tone", {"bands": [{"hz": 200 * i, "gain_db": 3} for i in range(1, 13)]}),
    "tone, 4 moving": ("tone", {"bands": [{"hz": 200 * i, "move_db": -9} for i in range(1, 5)]}),
    "tamer, 4 places": ("tamer", {"places": [{"hz": 300 * i} for i in range(1, 5)]}),
    "tone, 4 bands, linear": ("tone", {"phase": "linear", "bands": [
        {"hz": 200 * i, "gain_db": 3} for i in range(1, 5)]}),
    **{f"enhancer {quality}": ("enhancer", {"quality": quality})
       for quality in ("plain", "good", "high", "best")},
    "room": ("room", {}),
    "width": ("width", {"width": 1.5, "spread": 0.5, "mono_below_hz": 100}),
    "grit": ("grit", {"rate_hz": 12000}),
    "de-esser, two ranges": ("deesser", {"second_hz": 3000}),
}  # fmt: skip


def _noise(channels: int = 2) -> Sound:
    return (
        np.random.default_rng(1).standard_normal((RATE * SECONDS // BLOCK * BLOCK, channels)) * 0.2
    )


def _factor(run: Callable[[], Iterator[None]]) -> dict[str, float]:
    """Return seconds of sound per second of computing: the median, and the fastest tenth's least.

    run: yields after every PIECE blocks, as many as are computed at once. Where the core is shared
    with others, the fastest tenth is nearest to it alone.
    """
    for _ in run():
        pass  # Kernels are loaded, or compiled.
    times = []
    for _ in range(ROUNDS):
        pieces = run()
        start = time.perf_counter()
        for _ in pieces:
            now = time.perf_counter()
            times.append(now - start)
            start = now
    sound = PIECE * BLOCK / RATE
    return {
        "median": sound / statistics.median(times),
        "best": sound / statistics.quantiles(times, n=10)[0],
    }


def _repeated(step: Callable[[], object]) -> Iterator[None]:
    for _ in range(SECONDS * RATE // BLOCK // PIECE):
        for _ in range(PIECE):
            step()
        yield


def _kernel(params: dict[str, Any]) -> dict[str, float]:
    """The compressor's two kernels alone, block by block."""
    from salt_anvil.core.processors.compressor import _flags

    item = Compressor()
    settings = item.Params(**params)
    context = Context(RATE, 2)
    ramp = ControlRamp(item.controls(settings, context)).over(0, BLOCK)
    state = item.prepare(settings, context)["detector"]
    flags = _flags(settings)
    out, reduction, unheard = np.empty((BLOCK, 2)), np.empty((BLOCK, 2)), np.empty((0, 2))
    makeup = np.zeros(len(ramp.value))
    blocks = cycle(_noise().reshape(-1, BLOCK, 2))

    def step() -> None:
        block = next(blocks)
        d.reduce_into(reduction, unheard, block, unheard, 0, ramp.value, ramp.step, flags, state)
        d.gain_into(out, block, reduction, 0, makeup, makeup, no_wait(block))

    return _factor(lambda: _repeated(step))


def _engine(kind: str, params: dict[str, Any]) -> Row:
    """A strip with one stage through the engine."""
    return _chain(read_recipe({"chain": [{"kind": kind, "params": params}]}))


def _chain(recipe: Recipe) -> Row:
    """Block by block, as in play, and with all that comes foreseen, as in printing."""
    return {"live": _run(recipe, ahead=False), "print": _run(recipe, ahead=True)}


def _run(recipe: Recipe, *, ahead: bool) -> dict[str, float]:
    sound = _noise()
    blocks = sound.reshape(-1, BLOCK, 2)
    plan = plan_recipe(recipe, RATE, 2, len(sound))

    def read(j: int, count: int) -> Sound:
        return blocks.take(range(j, j + count), axis=0, mode="wrap").reshape(-1, 2)

    def run() -> Iterator[None]:
        runner = StripRunner(plan, read)
        runner.until = len(sound) // BLOCK if ahead else 0
        return _repeated(runner.block)

    return _factor(run)


def _split(by: str, **more: Any) -> Row:
    """A strip with one split, with nothing or a compressor on its branches."""
    chain = [{"kind": "compressor"}] if more.pop("busy", False) else []
    count = more.pop("count", 2)
    branches = [{"name": f"b{i}", "chain": chain} for i in range(count)]
    recipe = read_recipe({"chain": [{"kind": "split", "by": by, "branches": branches} | more]})
    return _chain(recipe)


SPLITS: dict[str, dict[str, Any]] = {
    "two copies": {"by": "copies"},
    "mid and sides": {"by": "mid-side"},
    "3 bands, 24 dB": {"by": "bands", "count": 3, "crossovers_hz": [200, 2000]},
    "3 bands, linear phase": {"by": "bands", "count": 3, "crossovers_hz": [200, 2000],
                              "phase": "linear"},
    "5 bands, 48 dB": {"by": "bands", "count": 5, "slope": 48,
                       "crossovers_hz": [80, 250, 2000, 6000]},
    "3 bands, a compressor each": {"by": "bands", "count": 3, "crossovers_hz": [200, 2000],
                                   "busy": True},
}  # fmt: skip


def _demo() -> dict[str, Any]:
    """The demo session's strips and stages over noise."""
    names = [name.lower().replace(" ", "-") for name, *_ in install.TRACKS]
    media = {
        n: (n, 2 if n in ("shaker", "squeezebox", "voice-room") else 1, RATE * 60) for n in names
    }
    session = install.session_model(media)
    sounds = {1: _noise(1), 2: _noise(2)}
    channels = {n: media[n][1] for n in names}

    def source(audio: str, start: int, frames: int) -> Sound:
        sound = sounds[channels[audio]]
        at = start % (len(sound) - BLOCK)
        return sound[at : at + frames]

    plan = make_plan(session)

    def live(together: int) -> Iterator[None]:
        mixer = Mixer(plan, source)

        def step() -> None:
            if mixer.position % together == 0:
                mixer.foresee(mixer.position + together)
            mixer.block()

        return _repeated(step)

    def printed(threads: int) -> Iterator[None]:
        made = blocks(plan, source, 0, plan.frames, strip=plan.main, threads=threads)
        return _repeated(lambda: next(made))

    return {
        "strips": len(plan.strips),
        "stages": sum(len(s.stages) for s in plan.strips),
        "live": _factor(lambda: live(1)),
        "live, pieces": _factor(lambda: live(LIVE_AT_ONCE)),
        "print": _factor(lambda: printed(1)),
        "print, all cores": _factor(lambda: printed(THREADS)),
    }


def _meter() -> dict[str, float]:
    pieces = cycle(_noise().reshape(-1, BLOCK, 2))
    meter = RowMeter(RATE, 2)
    return _factor(lambda: _repeated(lambda: meter.feed(next(pieces))))


def measure_speed(
    *, quick: bool = False, tell: Callable[[str], None] = lambda words: None
) -> dict[str, Any]:
    """Return real-time factors (seconds of sound per second of one core), and the server's figures.

    quick: only the factors. tell: told what is measured now.
    """
    from salt_anvil.speed.server import measure_server
    from salt_anvil.speed.size import measure_size

    def told(words: str, measure: Callable[[], Any]) -> Any:
        tell(words)
        return measure()

    def compressor(params: dict[str, Any]) -> Row:
        return {"kernel": _kernel(params), **_engine("compressor", params)}

    server: dict[str, Any] = {}
    if not quick:
        server = {
            "beside": told("beside another program", beside.measure_beside),
            "server": told("the server", measure_server),
            "size": told("many strips", measure_size),
        }
    return server | {
        "machine": f"{platform.machine()}, Python {platform.python_version()}",
        "rate": RATE,
        "compressor": {
            name: told(f"compressor, {name}", partial(compressor, params))
            for name, params in COMPRESSOR.items()
        },
        "trim": told("trim", partial(_engine, "trim", {"gain_db": -3})),
        "dynamics": {
            name: told(name, partial(_engine, kind, params))
            for name, (kind, params) in DYNAMICS.items()
        },
        "split": {name: told(name, partial(_split, **form)) for name, form in SPLITS.items()},
        "meter": told("meter", _meter),
        "demo": told("demo", _demo),
    }


def table(found: dict[str, Any]) -> str:
    """Return the figures as text."""
    demo = found["demo"]
    lines = [
        f"Seconds of sound per second of one core, stereo, {found['rate']} Hz: the median, and in"
        " brackets",
        "what the fastest tenth of the pieces reach, the nearest to a core that nobody else uses",
        f"({found['machine']})",
        "",
        " ".join([f"{'compressor':32}", *(f"{name:>13}" for name in COLUMNS)]),
        *(_line(f"  {name}", row) for name, row in found["compressor"].items()),
        *(_line(kind, row) for kind, row in found["dynamics"].items()),
        "splits",
        *(_line(f"  {name}", row) for name, row in found["split"].items()),
        _line("trim", found["trim"]),
        _line("meter (loudness, true peak)", {"kernel": found["meter"]}),
        "",
        f"demo session, {demo['strips']} strips, {demo['stages']} stages:"
        f" live {demo['live']['median']:.1f} ({demo['live']['best']:.1f}),"
        f" {LIVE_AT_ONCE} blocks in one go"
        f" {demo['live, pieces']['median']:.1f} ({demo['live, pieces']['best']:.1f}),"
        f" print {demo['print']['median']:.1f} ({demo['print']['best']:.1f}),"
        f" with {THREADS} cores {demo['print, all cores']['median']:.1f}"
        f" ({demo['print, all cores']['best']:.1f})",
    ]
    lines += beside.lines(found.get("beside", {}))
    if "server" in found:
        server = found["server"]
        lines += [
            f"start until ready: cold (kernels compiled) {server['cold_start_s']:.1f} s,"
            f" warm {server['warm_start_s']:.2f} s",
            f"control change to sound: {server['control_to_sound_ms']:.0f} ms",
            "private memory of all processes, 8 strips:"
            f" {server['private_mb_8_strips_1_min']:.0f} MB with 1 min,"
            f" {server['private_mb_8_strips_5_min']:.0f} MB with 5 min",
        ]
    if "size" in found:
        size = found["size"]
        lines += ["", f"{'strips':32} {'8':>8} {'48':>8} {'ratio':>8}"]
        for key, words in SIZE_WORDS.items():
            small, large, ratio = (size[n][key] for n in ("8", "48", "ratio"))
            lines.append(f"  {words:30} {small:8.2f} {large:8.2f} {ratio:8.2f}")
        busy = size["busy"]
        lines.append(
            f"64 strips of four stages, nothing computed yet: {busy['missed_at_first_ms']:.0f} ms"
            f" missed in the first four seconds, {busy['missed_ms']:.0f} ms while a strip is"
            f" edited; control to sound {busy['control_to_sound_ms']:.0f} ms,"
            f" {busy['ahead_ms']:.0f} ms ahead"
        )
    return "\n".join(lines)


COLUMNS = ("kernel", "live", "print")


def _line(name: str, row: Row) -> str:
    cells = [_cell(row[key]) if key in row else "" for key in COLUMNS]
    return " ".join([f"{name:32}", *(f"{cell:>13}" for cell in cells)]).rstrip()


def _cell(factor: dict[str, float]) -> str:
    return f"{factor['median']:.0f} ({factor['best']:.0f})"


SIZE_WORDS = {
    "load_percent": "processor in play, %",
    "edit_stored_ms": "edit stored, ms",
    "edit_to_sound_ms": "control to sound, ms",
    "edit_to_ledger_s": "edit to its ledger, s",
    "edit_to_main_ledger_s": "edit to the main bus's, s",
    "private_mb": "private memory, MB",
}
