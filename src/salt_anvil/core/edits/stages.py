"""Edits of stages: on a strip's chain or a branch's, with their settings and keys."""

from typing import Any, Literal

from pydantic import Field

from salt_anvil.core.edits.base import (
    changed_at,
    dump,
    free,
    fresh_copy,
    reachable,
    renumbered,
    replaced,
    said_place,
    said_value,
    title,
    with_chain,
)
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import processor
from salt_anvil.core.session import (
    Element,
    Id,
    Key,
    Model,
    Session,
    Split,
    Stage,
    Strip,
    checked,
)
from salt_anvil.core.session_index import SessionIndex


class AddStage(Model):
    """A new stage on the chain of a strip or of a branch."""

    type: Literal["add_stage"] = "add_stage"
    place: Id
    index: int = Field(ge=0)
    kind: str
    params: dict[str, Any] = Field(default_factory=dict)

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip, branch = SessionIndex(session).chain(self.place)
        words = processor(self.kind).title.lower()
        stage_id = free(f"{strip.id}-{self.kind}", SessionIndex(session).ids)
        stage = checked(Stage, {"id": stage_id, "kind": self.kind, "params": self.params})
        at = self.index
        done = changed_at(session, self.place, lambda c: [*c[:at], stage, *c[at:]])
        where = f" on {branch.name}" if branch else ""
        return done, f"{strip.name}: {words} added{where}"


class RemoveStage(Model):
    """Take a stage, or a split with all that is on it, away."""

    type: Literal["remove_stage"] = "remove_stage"
    stage: Id

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip, stage = SessionIndex(session).element(self.stage)
        chain = replaced(strip.chain, stage.id, lambda e: [])
        return with_chain(session, strip, chain), f"{said_place(strip, stage)} taken away"


class MoveStage(Model):
    """Put a stage elsewhere: another place of its chain, a branch, or another strip."""

    type: Literal["move_stage"] = "move_stage"
    stage: Id
    place: Id
    index: int = Field(ge=0)

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        source, stage = SessionIndex(session).element(self.stage)
        home, _ = SessionIndex(session).home(self.stage)
        if isinstance(stage, Split) and self.place in _branch_ids(stage):
            raise SettingError(f"{title(stage)} cannot be moved into itself")
        without = source.model_copy(
            update={"chain": replaced(source.chain, stage.id, lambda e: [])}
        )
        # Not with_chain: the stage's automation waits for it to be put down again.
        strips = [without if s.id == source.id else s for s in session.strips]
        lifted = session.model_copy(update={"strips": strips})
        at = self.index
        done = changed_at(lifted, self.place, lambda c: [*c[:at], stage, *c[at:]])
        strip, branch = SessionIndex(done).chain(self.place)
        where = "" if self.place == home else f" to {branch.name if branch else strip.name}"
        return done, f"{said_place(source, stage)} moved{where}"


class PasteElements(Model):
    """Stages and splits that were copied, of this session or another, under ids of their own.

    A key that leads to what is not here becomes the stage's own input.
    """

    type: Literal["paste_elements"] = "paste_elements"
    place: Id
    index: int = Field(ge=0)
    elements: list[dict[str, Any]] = Field(min_length=1, max_length=64)

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip, _ = SessionIndex(session).chain(self.place)
        given = checked(Pasted, {"chain": self.elements}).chain
        taken = SessionIndex(session).ids
        chain = fresh_copy(reachable(given, session), strip.id, taken)
        at = self.index
        done = changed_at(session, self.place, lambda c: [*c[:at], *chain, *c[at:]])
        what = title(chain[0]) if len(chain) == 1 else f"{len(chain)} stages"
        return done, f"{strip.name}: {what} pasted"


class Pasted(Model):
    """What is on the clipboard."""

    chain: list[Element]


class SetStage(Model):
    """A stage's switch, mix or key."""

    type: Literal["set_stage"] = "set_stage"
    stage: Id
    on: bool | None = None
    mix: float | None = None
    key: Key | None = None
    silenced_cautions: list[str] | None = None

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip, old = SessionIndex(session).element(self.stage)
        change = self.model_dump(exclude={"type", "stage"}, exclude_none=True)
        new = checked(type(old), dump(old) | change)
        words = []
        if self.on is not None:
            words.append("on" if self.on else "off")
        if self.mix is not None:
            words.append(f"mix {100 * self.mix:.0f} %")
        if self.key is not None:
            words.append("key changed")
        if self.silenced_cautions is not None:
            words.append("caution silenced")
        return _with(session, strip, new), f"{said_place(strip, old)} {', '.join(words)}"


class SetParams(Model):
    """Parameters of a stage: one that was moved, or several at once (a recipe)."""

    type: Literal["set_params"] = "set_params"
    stage: Id
    params: dict[str, Any]
    whole: bool = False
    words: str | None = Field(None, max_length=120)

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done; `whole` sets the rest to defaults.

        What was measured of the sound stays.
        """
        strip, old = SessionIndex(session).element(self.stage)
        stage = _processor_stage(old)
        start = stage.params.model_dump()
        if self.whole:
            start = {n: start[n] for n in processor(stage.kind).measured_of_the_sound}
        new = checked(Stage, dump(stage) | {"params": start | self.params})
        for control in processor(stage.kind).describe().controls:
            if control.type in ("bands", "points"):
                lists = (getattr(s.params, control.name) for s in (stage, new))
                session = renumbered(session, stage.id, control.name, *lists)
        return _with(
            session, strip, new
        ), f"{said_place(strip, old)}: {self.words or self._said(new)}"

    def _said(self, stage: Stage) -> str:
        controls = {c.name: c for c in processor(stage.kind).describe().controls}
        parts = []
        for name in self.params:
            control = controls[name]
            value = getattr(stage.params, name)
            parts.append(f"{control.label.lower()} {said_value(control, value)}")
        return ", ".join(parts)


def _with(session: Session, strip: Strip, new: Element) -> Session:
    return with_chain(session, strip, replaced(strip.chain, new.id, lambda e: [new]))


def _processor_stage(element: Element) -> Stage:
    if isinstance(element, Split):
        raise SettingError(f"{element.id} is a split, not a processor")
    return element


def _branch_ids(split: Split) -> set[str]:
    found = set()
    for branch in split.branches:
        found.add(branch.id)
        for element in branch.chain:
            if isinstance(element, Split):
                found |= _branch_ids(element)
    return found
