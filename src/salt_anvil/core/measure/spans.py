"""Named passages of a song, and what of rows and cells lies in them."""

from dataclasses import dataclass

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.measure.rows import Rows, hop
from salt_anvil.core.session import Session


@dataclass(frozen=True)
class Span:
    """A named part of the song, frames [begin, end)."""

    name: str
    begin: int
    end: int


def section_spans(session: Session) -> list[Span]:
    """Return a session's sections as frames; those that have none within the song are left out."""
    found = [
        Span(name, round(begin * session.rate), min(round(end * session.rate), session.frames()))
        for name, begin, end in session.section_spans()
    ]
    return [s for s in found if s.begin < s.end]


def rows_in(rows: Rows, rate: int, span: Span) -> Rows:
    """Return the rows of a passage, one at least."""
    step = hop(rate)
    return rows[span.begin // step : max(-(-span.end // step), span.begin // step + 1)]


def cells_in(cells: Sound, span: Span) -> Sound:
    """Return the cells of a passage."""
    return cells[span.begin // GRID : -(-span.end // GRID)]
