"""The command line."""

import argparse
import json
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from salt_anvil.core.errors import FileError, SaltAnvilError
from salt_anvil.kernels import cache as kernel_cache

if TYPE_CHECKING:
    from salt_anvil.core.processors.base import Control


def main(arguments: list[str] | None = None) -> int:
    """Run the command line and return the exit code."""
    # The cores are shared out among processes and threads of our own: OpenBLAS only spins on them.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    options = _parser().parse_args(arguments)
    try:
        return int(options.run(options) or 0)
    except SaltAnvilError as error:
        print(f"salt-anvil: {error}", file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        return 130


Commands = Any  # what argparse gives for sub-commands has no public name


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="salt-anvil", description="Dynamics and tone for tracks")
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    for add in (
        _add_serve,
        _add_process,
        _add_compare,
        _add_aim,
        _add_scan,
        _add_gate,
        _add_print,
        _add_proof,
        _add_bundle,
        _add_lab,
        _add_others,
    ):
        add(commands)
    return parser


def _add_serve(commands: Commands) -> None:
    serve = commands.add_parser("serve", help="serve the application to this machine's browser")
    serve.add_argument("--data", type=Path, default=Path("data"), help="data folder")
    serve.add_argument("--host", default="127.0.0.1")
    serve.add_argument("--port", type=int, default=8787)
    serve.add_argument("--demo", action="store_true", help="make the demo session first")
    serve.set_defaults(run=_serve)


def _add_process(commands: Commands) -> None:
    process = commands.add_parser("process", help="run a file through a recipe")
    process.add_argument("sources", type=Path, metavar="IN", nargs="+")
    process.add_argument("target", type=Path, metavar="OUT", help="a folder, of several files")
    process.add_argument("--recipe", type=Path, required=True)
    process.add_argument("--key", action="append", default=[], metavar="[NAME=]FILE")
    process.add_argument("--report", type=Path, help="write the figures here as JSON")
    process.add_argument("--width", choices=["16", "24", "32f"], help="sample format of OUT")
    process.add_argument("--no-dither", action="store_true")
    process.set_defaults(run=_process)


def _add_compare(commands: Commands) -> None:
    compare = commands.add_parser("compare", help="a file through several recipes, side by side")
    compare.add_argument("source", type=Path, metavar="FILE")
    compare.add_argument("--recipe", type=Path, action="append", required=True)
    compare.add_argument("--key", action="append", default=[], metavar="[NAME=]FILE")
    compare.add_argument(
        "--reference", type=Path, action="append", default=[], metavar="FILE", help="beside it"
    )
    compare.add_argument("--out", type=Path, help="write each here, all equally loud (WAV, float)")
    compare.add_argument("--json", action="store_true")
    compare.set_defaults(run=_compare)


def _add_aim(commands: Commands) -> None:
    aim = commands.add_parser("aim", help="find the value of a control that gives what is wanted")
    aim.add_argument("what", metavar="FILE|SESSION", help="a file, or a session's number or name")
    aim.add_argument("stage", help="its name in the recipe or the session")
    aim.add_argument("control", help="a parameter, or mix")
    aim.add_argument("--recipe", type=Path, help="what FILE is run through")
    aim.add_argument("--key", action="append", default=[], metavar="[NAME=]FILE")
    aim.add_argument("--data", type=Path, default=Path("data"))
    wish = aim.add_mutually_exclusive_group(required=True)
    wish.add_argument("--reduction", type=float, metavar="DB", help="of the stage while it works")
    wish.add_argument("--loudness", type=float, metavar="LUFS", help="where the chain ends")
    wish.add_argument("--true-peak", type=float, metavar="DBTP", help="where the chain ends")
    wish.add_argument("--down", type=float, metavar="DB", help="peaks lower behind the stage")
    aim.add_argument(
        "--keep-loudness", action="store_true", help="with --down: its make-up is moved as well"
    )
    aim.add_argument(
        "--percentile", type=float, default=95.0, metavar="%%", help="of the reduction"
    )
    aim.add_argument("--section", help="over this section of the session")
    aim.add_argument("--from", dest="begin", type=float, default=0.0, metavar="S")
    aim.add_argument("--to", dest="end", type=float, metavar="S")
    aim.add_argument("--json", action="store_true")
    aim.set_defaults(run=_aim)


def _add_scan(commands: Commands) -> None:
    scan = commands.add_parser("scan", help="find what rings")
    scan.add_argument("what", metavar="FILE|SESSION", help="a file, or a session's number or name")
    scan.add_argument("stage", nargs="?", help="scan what comes into it; of a session: needed")
    scan.add_argument("--recipe", type=Path, help="what FILE is run through")
    scan.add_argument("--key", action="append", default=[], metavar="[NAME=]FILE")
    scan.add_argument("--data", type=Path, default=Path("data"))
    scan.add_argument("--section", help="over this section of the session")
    scan.add_argument("--from", dest="begin", type=float, default=0.0, metavar="S")
    scan.add_argument("--to", dest="end", type=float, metavar="S")
    scan.add_argument("--keep", type=Path, metavar="RECIPE", help="write a tamer set so")
    scan.add_argument("--json", action="store_true")
    scan.set_defaults(run=_scan)


def _add_gate(commands: Commands) -> None:
    gate = commands.add_parser("gate", help="what tells hits to keep from hits to refuse")
    gate.add_argument("session", help="number or name of the session")
    gate.add_argument("stage", help="a gate in it")
    gate.add_argument("--keep", type=float, action="append", required=True, metavar="S")
    gate.add_argument("--refuse", type=float, action="append", default=[], metavar="S")
    gate.add_argument("--data", type=Path, default=Path("data"))
    gate.add_argument("--json", action="store_true")
    gate.set_defaults(run=_gate)


def _add_print(commands: Commands) -> None:
    printing = commands.add_parser("print", help="print a session to files")
    printing.add_argument("session", help="number or name of the session")
    printing.add_argument("--out", type=Path, default=Path())
    printing.add_argument("--data", type=Path, default=Path("data"))
    printing.add_argument("--tracks", action="store_true", help="every track too, after its fader")
    printing.add_argument(
        "--stems", choices=["groups", "tracks"],
        help="a set that adds up, and its sum: groups: what goes to the main bus, as its buses make"
        " it; tracks: every track, all buses dry",
    )  # fmt: skip
    printing.add_argument("--strip", help="only this strip, after its chain")
    printing.add_argument("--section", help="only this section")
    printing.add_argument("--sections", action="store_true", help="each section to a file")
    printing.add_argument("--from", dest="begin", type=float, default=0.0, metavar="S")
    printing.add_argument("--to", dest="end", type=float, metavar="S")
    printing.add_argument(
        "--format", default="wav-32f", help="wav-16, bwf-24, aiff-24, flac-16, wav-32f …"
    )
    printing.add_argument(
        "--codec", metavar="NAME:KBPS", help="a listening copy instead: mp3:192, aac:256 …"
    )
    printing.add_argument("--rate", type=int, metavar="HZ", help="converted before the dither")
    printing.add_argument("--dither", default="tpdf", choices=["tpdf", "shaped", "none"])
    printing.add_argument("--no-dither", dest="dither", action="store_const", const="none")
    printing.add_argument("--fade-in", type=float, default=0.0, metavar="S")
    printing.add_argument("--fade-out", type=float, default=0.0, metavar="S")
    for name in ("title", "artist", "isrc", "comment"):
        printing.add_argument(f"--{name}", default="")
    printing.add_argument("--no-cues", action="store_true", help="no markers of the sections")
    printing.add_argument(
        "--name", metavar="PATTERN", help="of {session}, {part}, {rate}, {format}"
    )
    printing.add_argument("--over", action="store_true", help="write over files of the same name")
    printing.add_argument("--proof", action="store_true", help="prove what was printed, too")
    printing.set_defaults(run=_print)


def _add_bundle(commands: Commands) -> None:
    bundle = commands.add_parser("bundle", help="a whole session as one open file (a zip)")
    bundle.add_argument("session", help="number or name of the session")
    bundle.add_argument("target", type=Path, metavar="FILE")
    bundle.add_argument("--data", type=Path, default=Path("data"))
    bundle.add_argument("--prints", action="store_true", help="what was printed from it, too")
    bundle.add_argument("--over", action="store_true", help="write over a file of the same name")
    bundle.set_defaults(run=_bundle)
    opening = commands.add_parser("open", help="take a bundle in, as a new session")
    opening.add_argument("bundle", type=Path, metavar="FILE")
    opening.add_argument("--data", type=Path, default=Path("data"))
    opening.set_defaults(run=_open)


def _add_proof(commands: Commands) -> None:
    proof = commands.add_parser("proof", help="what happens to a mix on its ways out")
    proof.add_argument("what", metavar="FILE|SESSION", help="a file, or a session's number or name")
    proof.add_argument(
        "--codec", action="append", default=[], metavar="NAME:KBPS",
        help="mp3:128, aac:256, opus:96, vorbis:192",
    )  # fmt: skip
    proof.add_argument(
        "--rate", action="append", default=[], metavar="HZ[:BITS[:before]]",
        help="44100, 44100:16; before: dithered before conversion",
    )  # fmt: skip
    proof.add_argument("--target", metavar="NAME")
    proof.add_argument("--limit", type=float, default=0.0, metavar="DBTP", help="overs lie above")
    proof.add_argument("--ceiling", action="store_true", help="find the one that leaves no overs")
    proof.add_argument("--strip", help="of a session; the main mix if not given")
    proof.add_argument("--section", help="over this section of the session")
    proof.add_argument("--from", dest="begin", type=float, default=0.0, metavar="S")
    proof.add_argument("--to", dest="end", type=float, metavar="S")
    proof.add_argument("--data", type=Path, default=Path("data"))
    proof.add_argument("--json", action="store_true")
    proof.set_defaults(run=_proof)


def _add_lab(commands: Commands) -> None:
    lab = commands.add_parser("lab", help="what a recipe does to a known signal")
    lab.add_argument("recipe", type=Path)
    lab.add_argument(
        "measurement", help="harmonics, sweep, steps, curve, response, difference, hard-cases"
    )
    lab.add_argument("--level", type=float, default=-12.0, metavar="DBFS", help="peak")
    lab.add_argument(
        "--from", dest="begin", type=float, default=-40.0, metavar="DBFS", help="peak before a step"
    )
    lab.add_argument("--hz", type=float, default=1000.0, help="of the sine; 0: a constant")
    lab.add_argument("--rate", type=int, default=48000)
    lab.add_argument("--channel", choices=["both", "left", "sides"], default="both")
    lab.add_argument("--against", type=Path, help="another recipe, measured beside it")
    lab.add_argument(
        "--printed",
        choices=["float", "24-bit", "16-bit", "16-bit-shaped"],
        default="float",
        help="round at the end, with dither",
    )
    lab.add_argument("--csv", type=Path, help="write figures and plots here")
    lab.add_argument("--svg", type=Path, help="write a picture here")
    lab.add_argument("--json", action="store_true")
    lab.set_defaults(run=_lab)


def _add_others(commands: Commands) -> None:
    measure = commands.add_parser("measure", help="loudness, peaks, crest of files")
    measure.add_argument("files", nargs="+", type=Path, metavar="FILE")
    measure.add_argument("--json", action="store_true")
    measure.set_defaults(run=_measure)

    kinds = commands.add_parser("processors", help="the catalogue of processors")
    kinds.add_argument("--json", action="store_true")
    kinds.set_defaults(run=_processors)

    speed = commands.add_parser("speed", help="how fast everything is on this machine")
    speed.add_argument("--json", action="store_true")
    speed.add_argument("--quick", action="store_true", help="only the real-time factors")
    speed.add_argument("--against", type=Path, help="a stored run (--json) to compare with")
    speed.add_argument("--svg", type=Path, help="also draw the factors as a chart")
    speed.set_defaults(run=_speed)

    demo = commands.add_parser("demo", help="make the demo session in the data folder")
    demo.add_argument("--data", type=Path, default=Path("data"))
    demo.set_defaults(run=_demo)

    warm = commands.add_parser("compile", help="compile the kernels, once")
    warm.set_defaults(run=_compile)


def _progress(words: str) -> tuple[Callable[[float], None], Callable[[], None]]:
    """Return a function that takes the share done, and one that ends the bar."""
    if not sys.stderr.isatty():
        return lambda share: None, lambda: None
    from tqdm import tqdm

    bar = tqdm(total=100, desc=words, unit="%", bar_format="{desc}: {bar} {n:.0f} %")

    def show(share: float) -> None:
        bar.update(100 * share - bar.n)

    return show, bar.close


def _telling() -> tuple[Callable[[str], None], Callable[[], None]]:
    """Return a function that shows what is being done in one line, and one that ends the line."""
    if not sys.stderr.isatty():
        return lambda words: None, lambda: None
    from tqdm import tqdm

    bar = tqdm(bar_format="{desc}")
    return bar.set_description_str, bar.close


def _process(options: argparse.Namespace) -> int:
    from salt_anvil.files.write import format_of
    from salt_anvil.jobs.process_file import key_files, load_recipe, process_file, process_files

    sources: list[Path] = options.sources
    recipe = load_recipe(options.recipe)
    several = len(sources) > 1 or options.target.is_dir()
    keys = key_files(recipe, options.key)
    format = None if several else format_of(options.target, options.width)
    if options.target.exists() and not several and options.target.samefile(sources[0]):
        raise FileError(f"{options.target} is the input; give the output another name")
    show, end = _progress(f"{len(sources)} files" if len(sources) > 1 else sources[0].name)
    problems: list[str] = []
    report: dict[str, Any]
    try:
        dither: Literal["tpdf", "none"] = "none" if options.no_dither else "tpdf"
        measured = options.report is not None
        if format is None:
            report, problems = process_files(
                sources, options.target, recipe, keys=keys, width=options.width, dither=dither,
                measured=measured, progress=show,
            )  # fmt: skip
        else:
            report = process_file(
                sources[0], options.target, recipe, format, keys=keys, dither=dither,
                measured=measured, progress=show,
            )  # fmt: skip
    finally:
        end()
    if options.report:
        write_text(options.report, json.dumps(report, indent=2) + "\n")
    for problem in problems:
        print(f"salt-anvil: {problem}", file=sys.stderr)
    return 2 if problems else 0


def _compare(options: argparse.Namespace) -> None:
    from salt_anvil.jobs.compare_files import compare_files
    from salt_anvil.jobs.process_file import load_recipe

    recipes = [load_recipe(path) for path in options.recipe]
    show, end = _progress(options.source.name)
    try:
        found = compare_files(
            options.source, recipes, options.key, options.reference, options.out, show
        )
    finally:
        end()
    if options.json:
        print(json.dumps([row.plain() for row in found], indent=2))
        return
    print(f"{'':3} {'':28} {'plays dB':>8} {'LUFS':>7} {'dBTP':>7} {'range':>6} {'PLR':>6}")
    for row in found:
        figures = row.figures
        print(
            f"{row.slot:3} {row.name[:28]:28} {_or_dash(row.plays_db, 2):>8}"
            f" {_or_dash(figures.integrated_lufs):>7} {_or_dash(figures.true_peak_dbtp, 2):>7}"
            f" {_or_dash(figures.loudness_range_lu):>6} {_or_dash(figures.peak_to_loudness_db):>6}"
        )
        for words in row.words:
            print(f"    {words}")


def _proof(options: argparse.Namespace) -> int:
    from salt_anvil.core.delivery.proof import verdict
    from salt_anvil.core.session import checked
    from salt_anvil.jobs.proof import ProofRequest, Told
    from salt_anvil.jobs.proof_command import prove, table, target_named, ways_named

    fields = {
        "strip": options.strip,
        "ways": ways_named([*options.rate, *options.codec]),
        "target": target_named(options.target, options.data),
        "limit_dbtp": options.limit,
        "ceiling": options.ceiling,
    }
    say, end = _telling()

    def tell(told: Told) -> None:
        shares = ", ".join(f"{n} {100 * s:.0f} %" for n, s in sorted(told.shares.items()))
        say(f"{told.words}  {shares}"[:100])

    try:
        span = (options.begin, options.end)
        found = prove(
            options.what, options.data, checked(ProofRequest, fields), span, options.section, tell
        )
    finally:
        end()
    said = verdict(found)
    if options.json:
        plain = {"format": "salt-anvil/proof", "version": 1, "ready": said.ready}
        print(json.dumps(plain | found.model_dump(mode="json"), indent=2))
    else:
        print(table(found))
    return 0 if said.ready else 1


def _aim(options: argparse.Namespace) -> int:
    from salt_anvil.core.aim import Wish
    from salt_anvil.core.session import checked
    from salt_anvil.jobs.aim_command import aim_in_file, aim_in_session

    names = ("reduction", "loudness", "true_peak", "down")
    what = next(name for name in names if getattr(options, name) is not None)
    fields = {
        "what": what,
        "wanted": getattr(options, what),
        "percentile": options.percentile,
        "kept": options.keep_loudness,
    }
    target = (options.stage, options.control, checked(Wish, fields))
    show, end = _progress(f"Aiming {options.control}")
    tries = 0

    def step(value: float, got: float | None) -> None:
        nonlocal tries
        tries += 1
        show(1 - 0.8**tries)

    span = (options.begin, options.end)
    try:
        if options.recipe:
            path = Path(options.what)
            found = aim_in_file(path, options.recipe, options.key, target, span, step)
        else:
            found = aim_in_session(options.data, options.what, target, span, options.section, step)
    finally:
        end()
    if options.json:
        print(json.dumps(found.plain(), indent=2))
    elif found.problem:
        print(f"{options.control}: {found.problem}; nearest: {found.value:g}")
    else:
        kept = "" if found.makeup_db is None else f" and make-up {found.makeup_db:g}"
        print(f"{options.control} {found.value:g}{kept} gives {_or_dash(found.got, 2)}")
    return 1 if found.problem else 0


def _scan(options: argparse.Namespace) -> int:
    from salt_anvil.jobs.scan_command import scan_file, scan_in_session, tamer_recipe

    span = (options.begin, options.end)
    if Path(options.what).is_file() or options.recipe:
        path = Path(options.what)
        found = scan_file(path, options.recipe, options.key, options.stage, span)
    elif options.stage is None:
        raise FileError("say in front of which stage of the session to scan")
    else:
        found = scan_in_session(options.data, options.what, options.stage, span, options.section)
    if options.keep:
        options.keep.write_text(tamer_recipe(found.places).model_dump_json(indent=2) + "\n")
    if options.json:
        print(found.model_dump_json(indent=2))
        return 0 if found.can_tell else 1
    for place in found.found:
        moves = f", moves over {place.octaves:.2f} oct" if place.octaves else ""
        print(
            f"{place.hz:8.0f} Hz  {place.region:7} +{place.over_db:4.1f} dB over its surroundings,"
            f" {100 * place.share:3.0f} % of the time, {place.width_oct:.2f} oct wide{moves}"
        )
    print(found.words)
    if found.held:
        notes = ", ".join(f"{n.hz:.0f} Hz {100 * n.share:.0f} %" for n in found.held)
        print(f"held notes set aside (share of the time): {notes}")
    if found.changes:
        print(found.changes)
    return 0 if found.can_tell else 1


def _gate(options: argparse.Namespace) -> int:
    from salt_anvil.jobs.gating import run_gating
    from salt_anvil.jobs.print_command import find_session

    session = find_session(options.data, options.session)
    keep, refuse = (
        [round(s * session.rate) for s in marks] for marks in (options.keep, options.refuse)
    )
    found = run_gating(options.data, session.model_dump(), options.stage, keep, refuse)
    if options.json:
        print(found.model_dump_json(indent=2))
    elif found.problem:
        print(found.problem)
    else:
        print(
            f"threshold {found.threshold_db:g} dB, hysteresis {found.hysteresis_db:g} dB, key"
            f" from {_or_dash(found.low_hz, 0)} to {_or_dash(found.high_hz, 0)} Hz;"
            f" they lie {found.margin_db:.1f} dB apart"
        )
    return 1 if found.problem else 0


def _lab(options: argparse.Namespace) -> None:
    from salt_anvil.core.lab import LabOptions, Side, measure
    from salt_anvil.core.lab.drawing import svg
    from salt_anvil.core.session import checked
    from salt_anvil.jobs.process_file import load_recipe

    wanted = checked(
        LabOptions,
        {
            "measurement": options.measurement,
            "rate": options.rate,
            "level_db": options.level,
            "from_db": options.begin,
            "hz": options.hz,
            "channel": options.channel,
            "printed": options.printed.replace("-", " "),
        },
    )
    against = None
    if options.against:
        against = Side(load_recipe(options.against), "second")
    found = measure(Side(load_recipe(options.recipe), "first"), wanted, options.rate, against)
    for path, text in ((options.csv, found.csv), (options.svg, lambda: svg(found))):
        if path is not None:
            write_text(path, text())
    if options.json:
        print(json.dumps(found.plain(), indent=2))
        return
    print(f"{found.words}, {found.rate / 1000:g} kHz")
    for figure in found.figures:
        value = "none" if figure.value is None else f"{figure.value:g} {figure.unit}"
        print(f"  {figure.label:30} {value}")


def write_text(path: Path, text: str) -> None:
    """Write a file of text.

    Raises:
        FileError: it cannot be written.
    """
    try:
        path.write_text(text)
    except OSError as error:
        raise FileError(f"{path} was not written: {error.strerror}") from None


def _measure(options: argparse.Namespace) -> None:
    from salt_anvil.jobs.process_file import measure_file

    found = [measure_file(path) for path in options.files]
    if options.json:
        print(json.dumps(found, indent=2))
        return
    print(f"{'file':32} {'LUFS':>7} {'range':>6} {'dBTP':>7} {'peak':>7} {'RMS':>7} {'crest':>6}")
    for item in found:
        print(
            f"{item['name'][:32]:32} {_or_dash(item['integrated_lufs']):>7}"
            f" {_or_dash(item['loudness_range_lu']):>6} {_or_dash(item['true_peak_dbtp'], 2):>7}"
            f" {_or_dash(item['sample_peak_dbfs'], 2):>7} {_or_dash(item['rms_dbfs']):>7}"
            f" {_or_dash(item['crest_db']):>6}"
        )


def _or_dash(value: float | None, digits: int = 1) -> str:
    return "–" if value is None else f"{value:.{digits}f}"


def _processors(options: argparse.Namespace) -> None:
    from salt_anvil.core.processors import catalogue

    kinds = catalogue()
    if options.json:
        print(json.dumps([k.model_dump() for k in kinds], indent=2))
        return
    for kind in kinds:
        print(f"{kind.kind}: {kind.doc}")
        for control in kind.controls:
            _print_control(control, "  ")


def _print_control(c: "Control", indent: str) -> None:
    span = f"{c.low:g} to {c.high:g} {c.unit}" if c.low is not None else "yes or no"
    if c.choices:
        span = " | ".join(c.choices)
    if c.type == "bands":
        span = f"up to {c.most} of:"
    print(f"{indent}{c.name:18} {span:28} {c.default!s:14} {c.change:10} {c.doc}")
    for inner in c.fields:
        _print_control(inner, indent + "  ")


def _compile(options: argparse.Namespace) -> None:
    if kernel_cache.is_compiled():
        return
    from salt_anvil.kernels.compile import compile_and_note

    show, end = _progress("Compiling the kernels")
    compile_and_note(show)
    end()


def _serve(options: argparse.Namespace) -> int:
    from salt_anvil.api.port import listening
    from salt_anvil.store.database import FolderLock

    # Before the two seconds that all the rest takes to load.
    listener, held = listening(options.host, options.port), FolderLock(options.data)

    from salt_anvil.api.processes import begin_template
    from salt_anvil.api.serve import serve

    if kernel_cache.is_compiled():
        begin_template(forked=True)

    return serve(held, options.host, listener, demo=options.demo)


def _print(options: argparse.Namespace) -> int:
    from salt_anvil.core.session import checked
    from salt_anvil.jobs.print_command import print_session
    from salt_anvil.jobs.print_worker import PrintOptions

    fields = {
        "strip": options.strip,
        "format": options.codec.replace(":", "-") if options.codec else options.format,
        "rate": options.rate,
        "dither": options.dither,
        "fade_in_s": options.fade_in,
        "fade_out_s": options.fade_out,
        "cues": not options.no_cues,
        **{name: getattr(options, name) for name in ("title", "artist", "isrc", "comment")},
        **({"name": options.name} if options.name else {}),
    }
    show, end = _progress("Printing")
    try:
        written = print_session(
            options.data,
            options.session,
            options.out,
            checked(PrintOptions, fields),
            tracks=options.tracks,
            set_of=options.stems,
            section=options.section,
            every_section=options.sections,
            begin_s=options.begin,
            end_s=options.end,
            over=options.over,
            progress=show,
        )
    finally:
        end()
    for path in written:
        print(path)
    return _proved(written) if options.proof else 0


def _bundle(options: argparse.Namespace) -> None:
    from salt_anvil.jobs.bundle_command import bundle_session

    show, end = _progress("Writing the bundle")
    try:
        bundle_session(
            options.data,
            options.session,
            options.target,
            prints=options.prints,
            over=options.over,
            progress=show,
        )
    finally:
        end()
    print(options.target)


def _open(options: argparse.Namespace) -> None:
    from salt_anvil.jobs.bundle_command import open_bundle

    show, end = _progress("Taking the recordings in")
    try:
        revision = open_bundle(options.bundle, options.data, show)
    finally:
        end()
    print(f"{revision.session_id} {revision.model.name}")


def _proved(paths: list[Path]) -> int:
    from salt_anvil.core.delivery.proof import verdict
    from salt_anvil.jobs.proof import ProofRequest
    from salt_anvil.jobs.proof_command import prove, table

    worst = 0
    for path in paths:
        found = prove(str(path), Path(), ProofRequest(), (0.0, None), None, lambda told: None)
        print(table(found))
        worst = max(worst, 0 if verdict(found).ready else 1)
    return worst


def _speed(options: argparse.Namespace) -> None:
    from salt_anvil.speed.compared import against, chart, stored
    from salt_anvil.speed.report import measure_speed, table

    before = stored(options.against) if options.against else None
    say, end = _telling()
    try:
        found: dict[str, Any] = measure_speed(
            quick=options.quick, tell=lambda words: say(f"Measuring: {words}")
        )
    finally:
        end()
    print(json.dumps(found, indent=2) if options.json else table(found))
    if before is not None:
        print("\n".join(against(found, before)), file=sys.stderr if options.json else sys.stdout)
    if options.svg:
        options.svg.write_text(chart(found))


def _demo(options: argparse.Namespace) -> None:
    from salt_anvil.demo.install import install_demo

    show, end = _progress("Making the demo session")
    try:
        said = install_demo(options.data, show)
    finally:
        end()
    print(said)
