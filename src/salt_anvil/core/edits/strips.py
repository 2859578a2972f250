"""Edits of the song and its strips: levels, ways, sends."""

from typing import Any, Literal

from salt_anvil.core.edits.base import (
    dump,
    figure,
    free,
    fresh_copy,
    pruned,
    rebuilt,
    slug,
    with_strip,
)
from salt_anvil.core.errors import SettingError
from salt_anvil.core.session import Id, Join, Model, Section, Send, Session, Strip, checked
from salt_anvil.core.session_index import SessionIndex

StripField = Literal[
    "name", "trim_db", "invert", "fader_db", "pan", "mute", "solo", "output", "mark"
]


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
        new = checked(Strip, dump(old) | {self.field: self.value})
        said = {
            "name": f"{old.name} named {new.name}",
            "mute": f"{old.name} {'muted' if new.mute else 'not muted'}",
            "solo": f"{old.name} {'soloed' if new.solo else 'not soloed'}",
            "invert": f"{old.name}: polarity {'turned' if new.invert else 'as recorded'}",
            "output": f"{old.name} to {new.output}",
            "mark": f"{old.name} marked {new.mark}" if new.mark else f"{old.name}: no mark",
        }
        label = self.field.removesuffix("_db")
        return with_strip(session, new), said.get(
            self.field, f"{old.name}: {label} {figure(self.value)}"
        )


class AddStrip(Model):
    """A new strip; its id is made here."""

    type: Literal["add_strip"] = "add_strip"
    strip: dict[str, Any]

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        taken = SessionIndex(session).ids
        name = str(self.strip.get("name", "Strip"))
        fresh = {**self.strip, "id": free(slug(name), taken)}
        strip = checked(Strip, fresh)
        at = len(session.strips)
        if strip.kind == "track":
            tracks = [i for i, s in enumerate(session.strips) if s.kind == "track"]
            at = tracks[-1] + 1 if tracks else 0
        strips = [*session.strips[:at], strip, *session.strips[at:]]
        return rebuilt(session, strips=strips), f"{strip.name} added"


class MoveStrip(Model):
    """Put a strip in another place of the list: before the strip `before`, or last."""

    type: Literal["move_strip"] = "move_strip"
    strip: Id
    before: Id | None = None

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        moved = session.strip(self.strip)
        rest = [s for s in session.strips if s.id != moved.id]
        at = len(rest)
        if self.before is not None and self.before != moved.id:
            at = rest.index(session.strip(self.before))
        strips = [*rest[:at], moved, *rest[at:]]
        return rebuilt(session, strips=strips), f"{moved.name} moved in the list"


class DuplicateStrip(Model):
    """A second strip like this one, beside it: its chain, levels, ways and automation."""

    type: Literal["duplicate_strip"] = "duplicate_strip"
    strip: Id

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        old = session.strip(self.strip)
        if old.kind == "main":
            raise SettingError("there is only one main bus")
        taken = SessionIndex(session).ids
        names = {s.name for s in session.strips}
        number = 2
        while f"{old.name[:76]} {number}" in names:
            number += 1
        name = f"{old.name[:76]} {number}"
        new_id = free(slug(name), taken)
        ids = {old.id: new_id}
        chain = fresh_copy(old.chain, new_id, taken | {new_id}, ids)
        strip = old.model_copy(update={"id": new_id, "name": name, "chain": chain, "solo": False})
        at = session.strips.index(old) + 1
        strips = [*session.strips[:at], strip, *session.strips[at:]]
        copies = [
            a.model_copy(update={"owner": ids[a.owner]})
            for a in session.automation
            if a.owner in ids
        ]
        automation = [*session.automation, *copies]
        return rebuilt(session, strips=strips, automation=automation), f"{old.name} duplicated"


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
            s.model_copy(
                update={
                    "output": None if s.output == gone.id else s.output,
                    "sends": [send for send in s.sends if send.to != gone.id],
                }
            )
            for s in session.strips
            if s.id != gone.id
        ]
        # Automation of a send that is gone, and of the strip itself, goes with it.
        kept = [
            a for a in session.automation if a.owner != gone.id and a.control != f"send:{gone.id}"
        ]
        levers = [
            lever.model_copy(
                update={"moves": [m for m in lever.moves if m.control != f"send:{gone.id}"]}
            )
            for lever in session.levers
        ]
        without = session.model_copy(update={"strips": strips, "automation": kept})
        without = without.model_copy(update={"levers": levers})
        return rebuilt(pruned(without)), f"{gone.name} taken away"


class SetSend(Model):
    """A send of a strip: made if it is not there."""

    type: Literal["set_send"] = "set_send"
    strip: Id
    to: Id
    gain_db: float | None = None
    pre_fader: bool | None = None
    on: bool | None = None

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip, target = session.strip(self.strip), session.strip(self.to)
        old = next((s for s in strip.sends if s.to == self.to), Send(to=self.to))
        change = self.model_dump(exclude={"type", "strip", "to"}, exclude_none=True)
        new = checked(Send, dump(old) | change)
        rest = [s for s in strip.sends if s.to != self.to]
        sends = [new if s.to == self.to else s for s in strip.sends]
        if len(rest) == len(strip.sends):
            sends = [*rest, new]
        words = f"{strip.name} to {target.name}: send"
        if self.gain_db is not None:
            words += f" {figure(self.gain_db)} dB"
        if self.pre_fader is not None:
            words += " before the fader" if self.pre_fader else " after the fader"
        if self.on is not None:
            words += " on" if self.on else " off"
        return with_strip(session, strip.model_copy(update={"sends": sends})), words


class RemoveSend(Model):
    """Take a send away."""

    type: Literal["remove_send"] = "remove_send"
    strip: Id
    to: Id

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip = session.strip(self.strip)
        sends = [s for s in strip.sends if s.to != self.to]
        control = f"send:{self.to}"
        kept = [a for a in session.automation if (a.owner, a.control) != (self.strip, control)]
        new = strip.model_copy(update={"sends": sends})
        done = with_strip(session.model_copy(update={"automation": kept}), new)
        return done, f"{strip.name}: send to {session.strip(self.to).name} taken away"


class SetBusJoin(Model):
    """How a bus puts its two inputs together."""

    type: Literal["set_bus_join"] = "set_bus_join"
    strip: Id
    law: Literal["sum", "linear", "equal-power", "steady"] | None = None
    position: float | None = None

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip = session.strip(self.strip)
        change = self.model_dump(include={"law", "position"}, exclude_none=True)
        join = checked(Join, dump(strip.join) | change)
        words = f"{strip.name}: join {join.law} at {figure(join.position)}"
        return with_strip(session, strip.model_copy(update={"join": join})), words
