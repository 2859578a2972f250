"""Edits of automation and levers."""

from typing import Literal

from pydantic import Field

from salt_anvil.core.edits.base import figure, free, rebuilt, slug
from salt_anvil.core.engine.automation import Lane, Scale, scale_of
from salt_anvil.core.errors import MissingError, SettingError
from salt_anvil.core.processors.within import value_within
from salt_anvil.core.session import (
    Automation,
    Id,
    Lever,
    Model,
    Move,
    Name,
    Point,
    Session,
    Split,
    Stage,
    checked,
)
from salt_anvil.core.session_index import SessionIndex

JOIN_S = 0.02
"""What is written over a stretch meets what stood there within this time."""


class SetLane(Model):
    """All break points of a control; none take the automation away."""

    type: Literal["set_lane"] = "set_lane"
    owner: Id
    control: Name
    points: list[Point] = Field(default_factory=list)

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        words = _words(session, self.owner, self.control)
        if not self.points:
            return _with(session, self.owner, self.control, []), f"{words}: automation taken away"
        points = sorted(self.points, key=lambda p: p.at_s)
        _check(session, self.owner, self.control, points)
        return _with(session, self.owner, self.control, points), f"{words}: automation"


class WriteLane(Model):
    """What a hand did from one time to another, in place of what stood there."""

    type: Literal["write_lane"] = "write_lane"
    owner: Id
    control: Name
    points: list[Point] = Field(min_length=1)

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        points = sorted(self.points, key=lambda p: p.at_s)
        scale = _check(session, self.owner, self.control, points)
        old = _points(session, self.owner, self.control)
        merged = _over(scale, old, points, _value(session, self.owner, self.control))
        words = _words(session, self.owner, self.control)
        return _with(session, self.owner, self.control, merged), f"{words}: automation written"


class SetInSection(Model):
    """One value for one section of the song; before and after it stays as it is."""

    type: Literal["set_in_section"] = "set_in_section"
    owner: Id
    control: Name
    section: Name
    value: float

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        begin, end = _section(session, self.section)
        scale = scale_of(_owner(session, self.owner), self.control)
        points = [Point(at_s=begin, value=self.value, shape="stepped"),
                  Point(at_s=end, value=self.value, shape="stepped")]  # fmt: skip
        _check(session, self.owner, self.control, points)
        old = _points(session, self.owner, self.control)
        rest = _value(session, self.owner, self.control)
        if old:
            lane = Lane(scale, tuple(old))
            before, after = lane.at(max(begin - 1e-9, 0)), lane.at(end)
        else:
            before = after = rest
        merged = [p for p in old if p.at_s < begin]
        if begin > 0 and not merged:
            merged.append(Point(at_s=0, value=before, shape="stepped"))
        elif merged and merged[-1].shape != "stepped":
            # A straight line that ran into the section ends at its edge.
            merged.append(Point(at_s=begin, value=before, shape="stepped"))
        merged.append(points[0])
        if not any(p.at_s == end for p in old):
            merged.append(Point(at_s=end, value=after, shape=_shape_at(old, end)))
        merged += [p for p in old if p.at_s >= end]
        words = _words(session, self.owner, self.control)
        return (
            _with(session, self.owner, self.control, merged),
            f"{words} in {self.section}: {figure(self.value)}",
        )


class AddLever(Model):
    """A new lever."""

    type: Literal["add_lever"] = "add_lever"
    name: Name

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        lever = Lever(
            id=free(f"lever-{slug(self.name)}", SessionIndex(session).ids), name=self.name
        )
        return rebuilt(session, levers=[*session.levers, lever]), f"Lever {self.name} added"


class SetLever(Model):
    """A lever's value, name, or what it moves."""

    type: Literal["set_lever"] = "set_lever"
    lever: Id
    value: float | None = None
    name: Name | None = None
    moves: list[Move] | None = None

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        old = _lever(session, self.lever)
        change = self.model_dump(exclude={"type", "lever"}, exclude_none=True)
        new = checked(Lever, old.model_dump() | change)
        words = f"Lever {new.name}"
        if self.value is not None:
            words += f" {100 * new.value:.0f} %"
        if self.moves is not None:
            words += f" moves {len(new.moves)} controls"
        levers = [new if lever.id == new.id else lever for lever in session.levers]
        return rebuilt(session, levers=levers), words


class RemoveLever(Model):
    """Take a lever away; what it moved goes back to its own setting."""

    type: Literal["remove_lever"] = "remove_lever"
    lever: Id

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        old = _lever(session, self.lever)
        levers = [lever for lever in session.levers if lever.id != old.id]
        kept = [a for a in session.automation if a.owner != old.id]
        return rebuilt(session, levers=levers, automation=kept), f"Lever {old.name} taken away"


def _lever(session: Session, lever_id: str) -> Lever:
    for lever in session.levers:
        if lever.id == lever_id:
            return lever
    raise MissingError(f"there is no lever “{lever_id}”")


def _owner(session: Session, owner: str) -> object:
    found = SessionIndex(session).owner(owner)
    if found is None:
        raise MissingError(f"there is no strip or stage “{owner}”")
    return found


def _check(session: Session, owner: str, control: str, points: list[Point]) -> Scale:
    scale = scale_of(_owner(session, owner), control)
    for point in points:
        if not scale.low <= point.value <= scale.high:
            raise SettingError(
                f"{scale.label.lower()} {point.value:g} is out of range"
                f" ({scale.low:g} to {scale.high:g})"
            )
    return scale


def _value(session: Session, owner: str, control: str) -> float:
    """Return where a control stands without automation, as a number."""
    found = _owner(session, owner)
    scale = scale_of(found, control)
    if control.startswith("send:"):
        to = control.removeprefix("send:")
        sends = getattr(found, "sends", [])
        return float(next(s.gain_db for s in sends if s.to == to))
    if control == "position":
        return float(found.join.position)  # type: ignore[attr-defined]
    if isinstance(found, Split) and "." in control:
        value = found.crossovers_hz[int(control.partition(".")[2])]
    elif isinstance(found, Stage) and control != "mix":
        value = value_within(found.params, control)
    else:
        value = getattr(found, control)
    if scale.words:
        return float(scale.words.index(value))
    return float(scale.low if value is None else value)


def _points(session: Session, owner: str, control: str) -> list[Point]:
    for item in session.automation:
        if (item.owner, item.control) == (owner, control):
            return list(item.points)
    return []


def _with(session: Session, owner: str, control: str, points: list[Point]) -> Session:
    rest = [a for a in session.automation if (a.owner, a.control) != (owner, control)]
    if points:
        rest.append(checked(Automation, {"owner": owner, "control": control, "points": points}))
    return rebuilt(session, automation=rest)


def _over(scale: Scale, old: list[Point], new: list[Point], rest: float) -> list[Point]:
    """Return the old points with a stretch replaced, met by short slopes at its ends."""
    begin, end = new[0].at_s, new[-1].at_s
    if old:
        lane = Lane(scale, tuple(old))
        before, after = lane.at(max(begin - JOIN_S, 0)), lane.at(end + JOIN_S)
    else:
        before = after = rest
    merged = [p for p in old if p.at_s < begin - JOIN_S]
    if begin > JOIN_S:
        merged.append(Point(at_s=begin - JOIN_S, value=before))
    merged += new
    merged.append(Point(at_s=end + JOIN_S, value=after, shape=_shape_at(old, end + JOIN_S)))
    return merged + [p for p in old if p.at_s > end + JOIN_S]


def _shape_at(points: list[Point], seconds: float) -> Literal["straight", "curved", "stepped"]:
    """Return the shape of the segment that a time lies in."""
    shape = "straight"
    for point in points:
        if point.at_s <= seconds:
            shape = point.shape
    return shape  # type: ignore[return-value]


def _section(session: Session, name: str) -> tuple[float, float]:
    for known, begin, end in session.section_spans():
        if known == name:
            return begin, end
    raise MissingError(f"there is no section “{name}”")


def _words(session: Session, owner: str, control: str) -> str:
    found = _owner(session, owner)
    label = scale_of(found, control).label.lower()
    name = getattr(found, "name", None)
    if isinstance(found, Stage | Split):
        name = SessionIndex(session).element(owner)[0].name
    return f"{name}, {label}"
