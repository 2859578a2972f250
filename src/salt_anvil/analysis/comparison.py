"""What is set beside each other: before the chain, and the settings A to D of an extent."""

from collections.abc import Callable
from dataclasses import dataclass, replace

from salt_anvil.analysis.pictures import Viewer
from salt_anvil.core.differences import setting_differences
from salt_anvil.core.edits.settings import (
    setting_in_force,
    settings_of,
    stand_in,
    with_setting,
)
from salt_anvil.core.errors import SaltAnvilError
from salt_anvil.core.measure.ledger import Ledger
from salt_anvil.core.measure.matching import equal_loudness
from salt_anvil.core.measure.rows import Figures
from salt_anvil.core.session import Extent, Session, Slot


@dataclass(frozen=True)
class Row:
    """Something that can be heard.

    slot: "in", A to D, or with a try "stands" and "tried". words: in what it differs from the
    setting it is compared with. plays_db: its gain at the same loudness, at most 0. figures: None
    while it is not measured. ranges_db: change of the four ranges against what goes in, the change
    of loudness taken out. louder_by: the loudest section against the quietest.
    """

    slot: str
    name: str
    words: list[str]
    figures: Figures | None
    ranges_db: list[float | None]
    louder_by: float | None
    problem: str | None = None
    plays_db: float | None = None


@dataclass(frozen=True)
class Comparison:
    """The rows of an extent over a passage, and which setting is chosen.

    lowered_db: by so much all go down further, lest a true peak pass -1 dBTP.
    """

    chosen: Slot
    rows: list[Row]
    done: float
    lowered_db: float = 0.0


def variants(session: Session, extent: Extent) -> dict[Slot, Session | str]:
    """Return the session with each held setting in force, or why it cannot be.

    Raises:
        MissingError: there is no such place.
    """
    found: dict[Slot, Session | str] = {}
    for slot, setting in settings_of(session, extent).held.items():
        try:
            found[slot] = with_setting(session, extent, setting)
        except SaltAnvilError as error:
            found[slot] = str(error)
    return found


def comparison(
    session: Session,
    extent: Extent,
    against: Slot,
    viewer_of: Callable[[Slot | None], Viewer | str],
    at: str,
    in_mix: bool,
    passage: tuple[int, int],
) -> Comparison:
    """Return what can be heard of an extent side by side.

    against: the setting that words compare with. viewer_of: gives the viewer of a held setting,
    or of what is in force, or why there is none. at: the place that is listened to. in_mix: what
    comes out is the whole strip, not that place alone. passage: frames [begin, end).

    Raises:
        MissingError: there is no such place.
    """
    settings = settings_of(session, extent)
    strip, _ = stand_in(session, extent)
    in_force = setting_in_force(session, extent)
    held = {**settings.held, settings.chosen: in_force}
    base = held.get(against, in_force)
    rows: list[Row] = []
    done = 1.0
    for slot in settings.letters:
        viewer = viewer_of(None if slot == settings.chosen else slot)
        ledger, problem = None, viewer if isinstance(viewer, str) else None
        if isinstance(viewer, Viewer):
            ledger, share = viewer.ledger(strip.id, "chain" if in_mix else at, *passage)
            done = min(done, share)
            ledger = ledger if share >= 1 else None
            if slot == settings.chosen:
                before, _ = viewer.ledger(strip.id, at, *passage)
                rows.insert(0, _before(before if ledger else None))
        words = [] if slot == against else setting_differences(held[slot], base, session)
        rows.append(_row(slot, settings.names.get(slot, ""), words, ledger, problem))
    return _matched(Comparison(settings.chosen, rows, done), in_mix)


def comparison_of_try(
    session: Session,
    extent: Extent,
    viewers: tuple[Viewer, Viewer | str],
    in_mix: bool,
    passage: tuple[int, int],
) -> Comparison:
    """Return what stands and what is tried side by side, where the chain of the strip ends.

    viewers: of what stands, and of what is tried, or why it cannot be.

    Raises:
        MissingError: there is no such place.
    """
    strip, _ = stand_in(session, extent)
    rows: list[Row] = []
    done = 1.0
    for slot, viewer in zip(("stands", "tried"), viewers, strict=True):
        ledger = None
        if isinstance(viewer, Viewer):
            ledger, share = viewer.ledger(strip.id, "chain", *passage)
            done = min(done, share)
            ledger = ledger if share >= 1 else None
        if not rows:
            rows.append(_before(ledger))
        rows.append(_row(slot, "", [], ledger, viewer if isinstance(viewer, str) else None))
    return _matched(Comparison(settings_of(session, extent).chosen, rows, done), in_mix)


def _before(ledger: Ledger | None) -> Row:
    before = ledger.contrast.before if ledger and ledger.contrast else None
    return Row("in", "", [], ledger.before if ledger else None, [None] * 4, before)


def _row(slot: str, name: str, words: list[str], ledger: Ledger | None, problem: str | None) -> Row:
    after = ledger.contrast.after if ledger and ledger.contrast else None
    ranges: list[float | None] = ledger.ranges_db if ledger else [None] * 4
    return Row(slot, name, words, ledger.after if ledger else None, ranges, after, problem)


def _matched(found: Comparison, in_mix: bool) -> Comparison:
    # In the mix, a strip's own peak is not what is heard, and its level is left at that.
    plays, lowered = equal_loudness([r.figures for r in found.rows], peaks=not in_mix)
    rows = [replace(row, plays_db=gain) for row, gain in zip(found.rows, plays, strict=True)]
    return replace(found, rows=rows, lowered_db=lowered)
