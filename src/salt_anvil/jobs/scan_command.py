"""`salt-anvil scan`: in a session, or in a file, as it is or on its way through a recipe."""

from pathlib import Path

from salt_anvil.core.errors import FileError
from salt_anvil.core.processors.tamer import Place
from salt_anvil.core.recipe import Recipe, read_recipe
from salt_anvil.core.session import elements
from salt_anvil.files.sequence import Sequences
from salt_anvil.jobs.aim_command import Span, frames_of, span_in
from salt_anvil.jobs.print_command import find_session
from salt_anvil.jobs.process_file import file_session, key_files, load_recipe
from salt_anvil.jobs.scan import ScanAnswer, is_tamer, run_scan, scanned
from salt_anvil.jobs.stretch import Means


def scan_in_session(
    data: Path, wanted: str, stage: str, span: Span, section: str | None
) -> ScanAnswer:
    """Scan in a session given by number or name.

    Raises:
        FileError, CoreError: it cannot be found, or it cannot be done.
    """
    session = find_session(data, wanted)
    begin, end = frames_of(session, span_in(session, span, section))
    return run_scan(data, session.model_dump(), stage, begin, end)


def scan_file(
    path: Path, recipe: Path | None, keys: list[str], stage: str | None, span: Span
) -> ScanAnswer:
    """Scan a file, or what comes into a stage of a recipe that it is run through.

    Raises:
        FileError, CoreError: something cannot be read, or it cannot be done.
    """
    wanted = load_recipe(recipe) if recipe else tamer_recipe([])
    if stage is None:
        stage = next((e.id for e in elements(wanted.chain) if is_tamer(e)), None)
        if stage is None:
            raise FileError("the recipe has no tamer; say in front of which stage to scan")
    paths, session = file_session(path, wanted, key_files(wanted, keys))
    begin, end = frames_of(session, span)
    source = Sequences(paths, session.rate)
    try:
        return scanned(session, stage, begin, end, Means(lambda: source))
    finally:
        source.close()


def tamer_recipe(places: list[Place]) -> Recipe:
    """Return a recipe of one tamer with these places."""
    params = {"places": [p.model_dump() for p in places]}
    chain = [{"kind": "tamer", "params": params}]
    return read_recipe({"name": "Tamer", "chain": chain})
