"""`salt-anvil aim`: in a session of a data folder, or in a recipe that a file is run through."""

from pathlib import Path

from salt_anvil.core.aim import Aim, Aimed, Wish
from salt_anvil.core.errors import FileError
from salt_anvil.core.session import Session, checked
from salt_anvil.files.sequence import Sequences
from salt_anvil.jobs.aim import Passage, Told, run_aim
from salt_anvil.jobs.print_command import find_session
from salt_anvil.jobs.process_file import file_session, key_files, load_recipe
from salt_anvil.jobs.stretch import Means

Target = tuple[str, str, Wish]
"""Stage, control, and what is wanted of it."""
Span = tuple[float, float | None]
"""Seconds from and to; None: to the end."""


def aim_in_session(
    data: Path, wanted: str, target: Target, span: Span, section: str | None, step: Told
) -> Aimed:
    """Aim in a session given by number or name.

    Raises:
        FileError, CoreError: it cannot be found, or it cannot be done.
    """
    session = find_session(data, wanted)
    span = span_in(session, span, section)
    return run_aim(data, session.model_dump(), _aim(session, target, span), step)


def aim_in_file(
    path: Path, recipe: Path, keys: list[str], target: Target, span: Span, step: Told
) -> Aimed:
    """Aim in a recipe that a file is run through.

    Raises:
        FileError, CoreError: something cannot be read, or it cannot be done.
    """
    wanted = load_recipe(recipe)
    paths, session = file_session(path, wanted, key_files(wanted, keys))
    opened: list[Sequences] = []

    def again() -> Sequences:
        opened.append(Sequences(paths, session.rate))
        return opened[-1]

    try:
        return Passage(session, _aim(session, target, span), Means(again)).find(step)
    finally:
        for item in opened:
            item.close()


def span_in(session: Session, span: Span, section: str | None) -> Span:
    """Return the span of a section where one is named.

    Raises:
        FileError: there is none of that name.
    """
    if section is None:
        return span
    spans = {name: (begin, end) for name, begin, end in session.section_spans()}
    if section not in spans:
        known = ", ".join(spans) or "none"
        raise FileError(f"there is no section {section}; there are: {known}")
    return spans[section]


def frames_of(session: Session, span: Span) -> tuple[int, int]:
    """Return a span in frames."""
    begin, end = span
    frames = session.frames() if end is None else round(end * session.rate)
    return max(round(begin * session.rate), 0), max(frames, 1)


def _aim(session: Session, target: Target, span: Span) -> Aim:
    stage, control, wish = target
    begin, end = frames_of(session, span)
    fields = {"stage": stage, "control": control, "wish": wish, "begin": begin, "end": end}
    return checked(Aim, fields)
