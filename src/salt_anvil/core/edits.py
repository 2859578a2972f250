"""Edits: each one gesture's change to a session, with what was done in words."""

from typing import Annotated, Any, Literal

from pydantic import Field

from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import processor
from salt_anvil.core.session import (
    Element,
    Id,
    Key,
    Model,
    Section,
    Session,
    Slot,
    Split,
    Stage,
    Strip,
    checked,
    elements,
    find_stage,
)

StripField = Literal[
    "name", "trim_db", "invert", "fader_db", "pan", "mute", "solo", "output"
]  # fmt: skip


class SetSession(Model):
    """Name, tempo or sections of the song."""

    type: Literal["set_session"] = "set_session"
    name: str | None = None
    bpm: float | Literal["none"] | None = None
    sections: list[Section] | None = None

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        change: dict[str, Any] = {}
        words = []
        if self.name is not None:
            change["name"] = self.name
            words.append(f"Session named {self.name}")
        if self.bpm is not None:
            change["bpm"] = None if self.bpm == "none" else self.bpm
            words.append("No tempo" if self.bpm == "none" else f"Tempo {self.bpm:g} bpm")
        if self.sections is not None:
            change["sections"] = self.sections
            words.append("Sections changed")
        return rebuilt(session, **change), ", ".join(words) or "Nothing changed"


class SetStrip(Model):
    """One field of a strip."""

    type: Literal["set_strip"] = "set_strip"
    strip: Id
    field: StripField
    value: float | bool | str | None

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        old = session.strip(self.strip)
        new = checked(Strip, _dump(old) | {self.field: self.value})
        said = {
            "name": f"{old.name} named {new.name}",
            "mute": f"{old.name} {'muted' if new.mute else 'not muted'}",
            "solo": f"{old.name} {'soloed' if new.solo else 'not soloed'}",
            "invert": f"{old.name}: polarity {'turned' if new.invert else 'as recorded'}",
            "output": f"{old.name} to {new.output}",
        }
        label = self.field.removesuffix("_db")
        return _with_strip(session, new), said.get(
            self.field, f"{old.name}: {label} {_figure(self.value)}"
        )


class AddStrip(Model):
    """A new strip; its id is made here."""

    type: Literal["add_strip"] = "add_strip"
    strip: dict[str, Any]

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        taken = {s.id for s in session.strips}
        name = str(self.strip.get("name", "Strip"))
        fresh = {**self.strip, "id": _free(_slug(name), taken)}
        strip = checked(Strip, fresh)
        at = len(session.strips)
        if strip.kind == "track":
            tracks = [i for i, s in enumerate(session.strips) if s.kind == "track"]
            at = tracks[-1] + 1 if tracks else 0
        strips = [*session.strips[:at], strip, *session.strips[at:]]
        return rebuilt(session, strips=strips), f"{strip.name} added"


class RemoveStrip(Model):
    """Take a strip away; what it fed goes to the main bus."""

    type: Literal["remove_strip"] = "remove_strip"
    strip: Id

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        gone = session.strip(self.strip)
        if gone.kind == "main":
            raise SettingError("the main bus cannot be taken away")
        strips = [
            s.model_copy(update={"output": None}) if s.output == gone.id else s
            for s in session.strips
            if s.id != gone.id
        ]
        return rebuilt(session, strips=strips), f"{gone.name} taken away"


class AddStage(Model):
    """A new stage on a strip's chain."""

    type: Literal["add_stage"] = "add_stage"
    strip: Id
    index: int = Field(ge=0)
    kind: str
    params: dict[str, Any] = Field(default_factory=dict)

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip = session.strip(self.strip)
        title = processor(self.kind).title
        taken = {e.id for s in session.strips for e in elements(s.chain)}
        stage_id = _free(f"{strip.id}-{self.kind}", taken)
        stage = checked(Stage, {"id": stage_id, "kind": self.kind, "params": self.params})
        chain = [*strip.chain[: self.index], stage, *strip.chain[self.index :]]
        return _with_chain(session, strip, chain), f"{strip.name}: {title.lower()} added"


class RemoveStage(Model):
    """Take a stage away."""

    type: Literal["remove_stage"] = "remove_stage"
    stage: Id

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip, stage = find_stage(session, self.stage)
        chain = [e for e in strip.chain if e.id != stage.id]
        return _with_chain(session, strip, chain), f"{_place(strip, stage)} taken away"


class MoveStage(Model):
    """Put a stage elsewhere: another place of its chain, or another strip's."""

    type: Literal["move_stage"] = "move_stage"
    stage: Id
    strip: Id
    index: int = Field(ge=0)

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        source, stage = find_stage(session, self.stage)
        rest = [e for e in source.chain if e.id != stage.id]
        without = _with_chain(session, source, rest)
        target = without.strip(self.strip)
        chain = [*target.chain[: self.index], stage, *target.chain[self.index :]]
        where = "" if target.id == source.id else f" to {target.name}"
        return _with_chain(without, target, chain), f"{_place(source, stage)} moved{where}"


class SetStage(Model):
    """A stage's switch, mix or key."""

    type: Literal["set_stage"] = "set_stage"
    stage: Id
    on: bool | None = None
    mix: float | None = None
    key: Key | None = None
    meant: list[str] | None = None

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip, old = find_stage(session, self.stage)
        change = self.model_dump(exclude={"type", "stage"}, exclude_none=True)
        new = checked(type(old), _dump(old) | change)
        words = []
        if self.on is not None:
            words.append("on" if self.on else "off")
        if self.mix is not None:
            words.append(f"mix {100 * self.mix:.0f} %")
        if self.key is not None:
            words.append("key changed")
        if self.meant is not None:
            words.append("caution silenced")
        return _with_stage(session, strip, new), f"{_place(strip, old)} {', '.join(words)}"


class SetParams(Model):
    """Parameters of a stage: one that was moved, or several at once (a recipe)."""

    type: Literal["set_params"] = "set_params"
    stage: Id
    params: dict[str, Any]
    whole: bool = False
    words: str | None = Field(None, max_length=120)

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done; `whole` sets the rest to defaults."""
        strip, old = find_stage(session, self.stage)
        stage = _processor_stage(old)
        start = {} if self.whole else stage.params.model_dump()
        new = checked(Stage, _dump(stage) | {"params": start | self.params})
        return _with_stage(
            session, strip, new
        ), f"{_place(strip, old)}: {self.words or self._said(new)}"

    def _said(self, stage: Stage) -> str:
        controls = {c.name: c for c in processor(stage.kind).describe().controls}
        parts = []
        for name in self.params:
            control = controls[name]
            value = getattr(stage.params, name)
            unit = f" {control.unit}" if control.unit and value is not None else ""
            parts.append(f"{control.label.lower()} {_figure(value)}{unit}")
        return ", ".join(parts)


class ChooseSlot(Model):
    """Go to another of a stage's settings A to D; an empty one starts as a copy."""

    type: Literal["choose_slot"] = "choose_slot"
    stage: Id
    slot: Slot

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip, old = find_stage(session, self.stage)
        stage = _processor_stage(old)
        slots = {**stage.slots, stage.slot: stage.params}
        params = slots.get(self.slot, stage.params)
        new = stage.model_copy(
            update={"slot": self.slot, "params": params, "slots": {**slots, self.slot: params}}
        )
        return _with_stage(session, strip, new), f"{_place(strip, old)}: settings {self.slot}"


Edit = Annotated[
    SetSession | SetStrip | AddStrip | RemoveStrip | AddStage | RemoveStage | MoveStage
    | SetStage | SetParams | ChooseSlot,
    Field(discriminator="type"),
]  # fmt: skip


def apply_edits(session: Session, edits: list[Edit]) -> tuple[Session, str]:
    """Return the session after all edits, and what was done in words.

    Raises:
        SettingError: one of them cannot be done; then none is.
    """
    said = []
    for edit in edits:
        session, words = edit.apply(session)
        said.append(words)
    return session, "; ".join(said[:3]) + (f" and {len(said) - 3} more" if len(said) > 3 else "")


def rebuilt(session: Session, **change: Any) -> Session:
    """Return the session with fields replaced, validated as a whole."""
    fields = {name: getattr(session, name) for name in Session.model_fields}
    return checked(Session, fields | change)


def differences(stage: Stage, slot: Slot) -> list[str]:
    """Return in words what another slot's settings differ in from those in force."""
    other = stage.slots.get(slot)
    if other is None or slot == stage.slot:
        return []
    found = []
    for control in processor(stage.kind).describe().controls:
        value = getattr(other, control.name)
        if value != getattr(stage.params, control.name):
            found.append(f"{control.label.lower()} {_figure(value)}")
    return found


def _dump(model: Model) -> dict[str, Any]:
    return model.model_dump()


def _with_strip(session: Session, new: Strip) -> Session:
    return rebuilt(session, strips=[new if s.id == new.id else s for s in session.strips])


def _with_chain(session: Session, strip: Strip, chain: list[Element]) -> Session:
    return _with_strip(session, strip.model_copy(update={"chain": chain}))


def _with_stage(session: Session, strip: Strip, new: Stage | Split) -> Session:
    return _with_chain(session, strip, [new if e.id == new.id else e for e in strip.chain])


def _processor_stage(element: Stage | Split) -> Stage:
    if isinstance(element, Split):
        raise SettingError(f"{element.id} is a split, not a processor")
    return element


def _place(strip: Strip, element: Stage | Split) -> str:
    kind = "split" if isinstance(element, Split) else processor(element.kind).title.lower()
    return f"{strip.name}: {kind}"


def _figure(value: Any) -> str:
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, float | int):
        return f"{value:.4g}".replace("-", "−")
    return "open" if value is None else str(value)


def _slug(name: str) -> str:
    slug = "".join(c if c.isalnum() and c.isascii() else "-" for c in name.lower()).strip("-")
    return slug[:40] or "strip"


def _free(wanted: str, taken: set[str]) -> str:
    if wanted not in taken:
        return wanted
    number = 2
    while f"{wanted}-{number}" in taken:
        number += 1
    return f"{wanted}-{number}"
