"""Scans of what comes into a stage: in a session, in a recipe that a file is run through."""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.strip_pass import mended
from salt_anvil.core.audio import Sound
from salt_anvil.core.edits import SetParams, apply_edits
from salt_anvil.core.errors import SettingError, SoundError
from salt_anvil.core.processors.tamer import Place, TamerParams
from salt_anvil.core.resonances.places import merged
from salt_anvil.core.resonances.scan import HeldNote, Resonance, Scan, scan
from salt_anvil.core.resonances.spectra import GRID_HZ, HIGH_HZ, LOW_HZ
from salt_anvil.core.session import Session, Stage, checked, elements
from salt_anvil.core.session_index import SessionIndex
from salt_anvil.files.sequence import Sequences
from salt_anvil.jobs.print_worker import Cancelled
from salt_anvil.jobs.stretch import Means, Stretch, means_of

LONGEST_S = 60
"""Of a longer passage the loudest minute is looked at."""


class ScanAnswer(BaseModel):
    """What a scan gives.

    places: of the tamer after it, with what was set by hand. changes: since the scan before, in
    words. new: Hz of the places that are new. hz, level_db, around_db: the spectrum that was
    looked at and its surroundings. from_s, seconds: which part was looked at.
    """

    found: list[Resonance]
    held: list[HeldNote]
    can_tell: bool
    words: str
    changes: str
    places: list[Place]
    new: list[float]
    from_s: float
    seconds: float
    hz: list[float]
    level_db: list[float]
    around_db: list[float]


def run_scan(
    data: Path, model: Any, stage: str, begin: int, end: int, flag: Path | None = None
) -> ScanAnswer:
    """Scan what comes into a stage of a session of a data folder; when a flag is gone, stop.

    Raises:
        CoreError, FileError: it cannot be done. Cancelled: it was stopped.
    """
    session, cache = checked(Session, model), StripCache(data / "cache")

    def go_on() -> None:
        if flag is not None and not flag.exists():
            raise Cancelled

    go_on()
    means = means_of(data, cache, go_on)
    answer = mended(cache, lambda: scanned(session, stage, begin, end, means))
    go_on()
    return answer


def with_scans(session: Session, source: Sequences) -> tuple[Session, dict[str, Any]]:
    """Return the session with every tamer scanned whose list is empty, one after the other.

    What is scanned is held: the same file gives the same places. What cannot be scanned, being
    short or silent, has nothing to tame. Also returns what a report says of each scan.
    """
    found: dict[str, Any] = {}
    chain = [e for strip in session.strips for e in elements(strip.chain)]
    for stage in chain:
        if not isinstance(stage, Stage) or not is_tamer(stage) or not stage.on:
            continue
        params = stage.params
        if isinstance(params, TamerParams) and not params.places:
            try:
                answer = scanned(session, stage.id, 0, session.frames(), Means(lambda: source))
            except SoundError as error:
                found[stage.id] = {"words": str(error), "places": []}
                continue
            found[stage.id] = _told(answer)
            edit = SetParams(
                stage=stage.id, params={"places": [p.model_dump() for p in answer.places]}
            )
            session = apply_edits(session, [edit])[0]
    return session, found


def _told(answer: ScanAnswer) -> dict[str, Any]:
    """Return what a report says of a scan: words, places, held notes; no spectrum."""
    return answer.model_dump(exclude={"hz", "level_db", "around_db", "changes", "new"})


def is_tamer(element: Any) -> bool:
    """Say whether an element of a chain is a tamer."""
    return isinstance(element, Stage) and element.kind == "tamer"


def scanned(session: Session, stage: str, begin: int, end: int, means: Means) -> ScanAnswer:
    """Scan what comes into a stage over frames [begin, end).

    Raises:
        CoreError: there is no such stage, or its input cannot be scanned.
    """
    _, element = SessionIndex(session).element(stage)
    if not isinstance(element, Stage):
        raise SettingError("a scan needs a stage; this is a split")
    end = min(end, session.frames())
    longest = LONGEST_S * session.rate
    if end - begin > longest:
        begin = _loudest(session, stage, begin, end, means)
        end = begin + longest
    stretch = Stretch(session, stage, begin, end, means)
    sound = np.concatenate(list(_input(stretch, session, stage)))
    params = element.params
    low, high = LOW_HZ, HIGH_HZ
    before: tuple[Place, ...] = ()
    if isinstance(params, TamerParams):
        low, high, before = params.low_hz, params.high_hz, params.places
    return _answer(scan(sound, stretch.rate, low, high), before, begin / stretch.rate)


def _answer(found: Scan, before: tuple[Place, ...], from_s: float) -> ScanAnswer:
    after = merged(before, found.found)
    return ScanAnswer(
        found=list(found.found),
        held=list(found.held),
        can_tell=found.can_tell,
        words=found.words,
        changes=after.words,
        places=list(after.places),
        new=list(after.new),
        from_s=from_s,
        seconds=found.seconds,
        hz=GRID_HZ.tolist(),
        level_db=found.level_db.tolist(),
        around_db=found.around_db.tolist(),
    )


def _input(stretch: Stretch, session: Session, stage: str) -> Iterator[Sound]:
    """Give what comes into a stage, block by block."""
    for block, inside in stretch.run(session):
        yield block.taps[stage][0][inside]


def _loudest(session: Session, stage: str, begin: int, end: int, means: Means) -> int:
    """Return the frame at which the loudest part begins that is short enough.

    Only a figure a second is kept, so that a file of any length needs the same memory.
    """
    rate, at = session.rate, 0
    powers = np.zeros(-(-(end - begin) // rate))
    for sound in _input(Stretch(session, stage, begin, end, means), session, stage):
        seconds = (at + np.arange(len(sound))) // rate
        np.add.at(powers, seconds, np.square(sound).sum(axis=1))
        at += len(sound)
    total = np.concatenate([[0.0], np.cumsum(powers)])
    loudest = int(np.argmax(total[LONGEST_S:] - total[:-LONGEST_S]))
    return min(begin + loudest * rate, end - LONGEST_S * rate)
