"""Edits of the song's sections: each keeps them in order and says what became of the neighbours."""

from typing import Literal

from pydantic import Field

from salt_anvil.core.edits.base import rebuilt
from salt_anvil.core.errors import MissingError, SettingError
from salt_anvil.core.session import Model, Name, Section, Session

LEAST_S = 0.01
"""A section is at least this long."""
Seconds = float


class AddSection(Model):
    """A new section; without an end it lasts to the next one. What it covers makes room."""

    type: Literal["add_section"] = "add_section"
    start_s: Seconds = Field(ge=0)
    end_s: Seconds | None = Field(None, gt=0)
    name: Name | None = None

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        names = {s.name for s in session.sections}
        name = self.name or _free_name("Part", names, len(names) + 1)
        if name in names:
            name = _free_name(name, names, 2)
        new = Section(name=name, start_s=self.start_s, end_s=self.end_s)
        done, said = _placed(session, list(session.sections), new)
        return done, f"Section {name} added{said}"


class SetSection(Model):
    """A section's name or edges; a start moves its beginning, an end where it stops."""

    type: Literal["set_section"] = "set_section"
    section: int = Field(ge=0)
    name: Name | None = None
    start_s: Seconds | None = Field(None, ge=0)
    end_s: Seconds | None = Field(None, gt=0)

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        old = _section(session, self.section)
        rest = [s for s in session.sections if s is not old]
        if self.name is not None and any(s.name == self.name for s in rest):
            raise SettingError(f"there is a section {self.name} already")
        change = self.model_dump(include={"name", "start_s", "end_s"}, exclude_none=True)
        new = old.model_copy(update=change)
        if self.name is not None and len(change) == 1:
            sections = [new if s is old else s for s in session.sections]
            return rebuilt(session, sections=sections), f"Section {old.name} named {new.name}"
        done, said = _placed(session, rest, new)
        return done, f"Section {new.name} moved{said}"


class RemoveSection(Model):
    """Take a section away; the one before it goes on where it did so."""

    type: Literal["remove_section"] = "remove_section"
    section: int = Field(ge=0)

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        old = _section(session, self.section)
        sections = [s for s in session.sections if s is not old]
        return rebuilt(session, sections=sections), f"Section {old.name} taken away"


def _section(session: Session, index: int) -> Section:
    if index >= len(session.sections):
        raise MissingError(f"there is no section number {index + 1}")
    return session.sections[index]


def _free_name(stem: str, names: set[str], number: int) -> str:
    while f"{stem} {number}" in names:
        number += 1
    return f"{stem} {number}"


def _placed(session: Session, rest: list[Section], new: Section) -> tuple[Session, str]:
    """Return the session with a section put among the others, and who was shortened by it."""
    song = session.frames() / session.rate
    if song and new.start_s > song - LEAST_S:
        raise SettingError(f"{new.name} begins behind the end of the song, {song:.2f} s")
    if new.end_s is not None and new.end_s < new.start_s + LEAST_S:
        raise SettingError(
            f"{new.name} would end at {new.end_s:g} s, before it begins at {new.start_s:g} s"
        )
    kept, shorter, gone = [], [], []
    for other in rest:
        end = new.end_s if new.end_s is not None else new.start_s + LEAST_S
        if other.start_s < new.start_s:
            if other.end_s is not None and other.end_s > new.start_s:
                shorter.append(other.name)
                other = other.model_copy(update={"end_s": new.start_s})
        elif other.start_s < end:
            stops = other.end_s
            if stops is not None and stops < end + LEAST_S:
                gone.append(other.name)
                continue
            if stops is None and _next_start(rest, other, song) < end + LEAST_S:
                gone.append(other.name)
                continue
            shorter.append(other.name)
            other = other.model_copy(update={"start_s": end})
        kept.append(other)
    sections = sorted([*kept, new], key=lambda s: s.start_s)
    said = f"; shorter now: {', '.join(shorter)}" if shorter else ""
    said += f"; covered: {', '.join(gone)}" if gone else ""
    return rebuilt(session, sections=sections), said


def _next_start(sections: list[Section], this: Section, song: float) -> float:
    return min((s.start_s for s in sections if s.start_s > this.start_s), default=max(song, 1e9))
