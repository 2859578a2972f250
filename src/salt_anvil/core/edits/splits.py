"""Edits of splits: one gesture each for what would else be a row of steps."""

from itertools import pairwise
from typing import Any, Literal

from pydantic import Field

from salt_anvil.core.edits.base import (
    Chain,
    changed_at,
    dump,
    figure,
    free,
    fresh_copy,
    renumbered,
    replaced,
    said_place,
    slug,
    title,
    with_chain,
)
from salt_anvil.core.errors import SettingError
from salt_anvil.core.session import (
    Branch,
    Element,
    Id,
    Model,
    Session,
    Split,
    Strip,
    branches,
    checked,
)
from salt_anvil.core.session_index import SessionIndex

By = Literal["copies", "bands", "mid-side", "left-right"]
NAMES = {
    "copies": ["dry", "wet"], "mid-side": ["mid", "sides"], "left-right": ["left", "right"],
}  # fmt: skip
BAND_NAMES = {2: ["low", "high"], 3: ["low", "mid", "high"],
              4: ["low", "low mid", "high mid", "high"],
              5: ["low", "low mid", "mid", "high mid", "high"]}  # fmt: skip
CORNERS = {2: [200.0], 3: [200.0, 2000.0], 4: [120.0, 700.0, 5000.0],
           5: [80.0, 250.0, 2000.0, 6000.0]}  # fmt: skip
"""Usual corners; three bands at 200 Hz and 2 kHz: common practice, no source."""


class AddSplit(Model):
    """A split: empty at a place, or around stages that stand side by side.

    Around stages: copies leave the first branch dry and put the stages on the second, joined
    steadily ("blend this"); other splits put a copy of the stages on every branch.
    """

    type: Literal["add_split"] = "add_split"
    by: By
    place: Id | None = None
    index: int = Field(0, ge=0)
    around: list[Id] = Field(default_factory=list)
    bands: int = Field(3, ge=2, le=5)

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        place, chain, inner, at = self._spot(session)
        strip, _ = SessionIndex(session).chain(place)
        taken = SessionIndex(session).ids
        split = self._made(free(f"{strip.id}-split", taken), taken, inner)
        rest = [e for e in chain if e not in inner]
        done = changed_at(session, place, lambda c: [*rest[:at], split, *rest[at:]])
        if self.by == "copies" and inner:
            return done, f"{strip.name}: {' and '.join(title(e) for e in inner)} blended"
        return done, f"{strip.name}: split into {_said(split)}"

    def _spot(self, session: Session) -> tuple[str, Chain, Chain, int]:
        """Return the place, its chain, the stages taken in, and where the split goes."""
        if not self.around:
            if self.place is None:
                raise SettingError("a split needs a place, or stages to stand around")
            strip, branch = SessionIndex(session).chain(self.place)
            return self.place, (branch or strip).chain, [], self.index
        place, chain = SessionIndex(session).home(self.around[0])
        at = [i for i, e in enumerate(chain) if e.id in self.around]
        if len(at) != len(set(self.around)) or any(b - a != 1 for a, b in pairwise(at)):
            raise SettingError("the stages to split must stand side by side on one stave")
        return place, chain, [chain[i] for i in at], at[0]

    def _made(self, split_id: str, taken: set[str], inner: Chain) -> Split:
        taken.add(split_id)
        names = BAND_NAMES[self.bands] if self.by == "bands" else NAMES[self.by]
        parts = []
        for index, name in enumerate(names):
            branch_id = free(f"{split_id}-{slug(name)}", taken)
            taken.add(branch_id)
            chain: Chain = []
            last = index == len(names) - 1
            if inner and (self.by != "copies" or last):
                # The stages themselves go on the last branch; copies of them on the others.
                chain = inner if last else fresh_copy(inner, branch_id, taken)
            parts.append({"id": branch_id, "name": name, "chain": chain})
        data: dict[str, Any] = {"id": split_id, "by": self.by, "branches": parts}
        if self.by == "bands":
            data["crossovers_hz"] = CORNERS[self.bands]
        if self.by == "copies":
            steady = {"law": "steady", "position": 0.5}
            data["join"] = steady if inner else {"law": "linear", "position": 0.5}
        return checked(Split, data)


class RemoveSplit(Model):
    """Take a split away and keep its stages in order."""

    type: Literal["remove_split"] = "remove_split"
    split: Id

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip, split = _split(session, self.split)
        stages = [e for b in split.branches for e in b.chain]
        chain = replaced(strip.chain, split.id, lambda e: stages)
        words = f"{strip.name}: split into {_said(split)} taken away, its stages kept"
        return with_chain(session, strip, chain), words


class SetSplit(Model):
    """A split's switch, mix, corners, slope, phase or join."""

    type: Literal["set_split"] = "set_split"
    split: Id
    on: bool | None = None
    mix: float | None = None
    crossovers_hz: list[float] | None = None
    slope: Literal[24, 48] | None = None
    phase: Literal["minimum", "linear"] | None = None
    law: Literal["sum", "linear", "equal-power", "steady"] | None = None
    position: float | None = None

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip, old = _split(session, self.split)
        change = self.model_dump(
            include={"on", "mix", "crossovers_hz", "slope", "phase"}, exclude_none=True
        )
        join = self.model_dump(include={"law", "position"}, exclude_none=True)
        change["join"] = dump(old.join) | join
        new = checked(Split, dump(old) | change)
        done = _with(session, strip, new)
        return done, f"{said_place(strip, old)} {self._said()}"

    def _said(self) -> str:
        words = []
        if self.on is not None:
            words.append("on" if self.on else "off")
        if self.mix is not None:
            words.append(f"mix {100 * self.mix:.0f} %")
        if self.crossovers_hz is not None:
            words.append("at " + ", ".join(f"{figure(hz)} Hz" for hz in self.crossovers_hz))
        if self.slope is not None:
            words.append(f"{self.slope} dB per octave")
        if self.phase is not None:
            words.append(f"{self.phase} phase")
        if self.law is not None:
            words.append(f"joined {self.law}")
        if self.position is not None:
            words.append(f"at {figure(self.position)}")
        return ", ".join(words) or "unchanged"


class SetBranch(Model):
    """A branch's name, switch, solo or gain."""

    type: Literal["set_branch"] = "set_branch"
    branch: Id
    name: str | None = None
    on: bool | None = None
    solo: bool | None = None
    gain_db: float | None = None

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip, split, old = _branch(session, self.branch)
        change = self.model_dump(exclude={"type", "branch"}, exclude_none=True)
        new = checked(Branch, dump(old) | change)
        done = with_chain(
            session,
            strip,
            _with_branches(
                strip.chain, split, [new if b.id == new.id else b for b in split.branches]
            ),
        )
        words = []
        if self.name is not None:
            words.append(f"named {new.name}")
        if self.on is not None:
            words.append("on" if new.on else "off")
        if self.solo is not None:
            words.append("soloed" if new.solo else "not soloed")
        if self.gain_db is not None:
            words.append(f"gain {figure(new.gain_db)} dB")
        return done, f"{strip.name}, {old.name}: {', '.join(words)}"


class AddBranch(Model):
    """Another copy, or another band above the given branch."""

    type: Literal["add_branch"] = "add_branch"
    split: Id
    hz: float | None = None

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done; hz: the new corner of a band split."""
        strip, split = _split(session, self.split)
        if split.by not in ("copies", "bands"):
            raise SettingError(f"a split by {split.by} has two branches")
        count = len(split.branches) + 1
        name = free(f"{split.id}-{count}", SessionIndex(session).ids)
        corners = sorted({*split.crossovers_hz, self.hz or _widest(split.crossovers_hz)})
        at = len(split.branches)
        if split.by == "bands":
            at = corners.index(self.hz or _widest(split.crossovers_hz)) + 1
        new = checked(
            Branch, {"id": name, "name": f"{'band' if split.by == 'bands' else 'copy'} {count}"}
        )
        parts = [*split.branches[:at], new, *split.branches[at:]]
        change: dict[str, Any] = {"branches": parts}
        if split.by == "bands":
            change["crossovers_hz"] = corners
        elif split.join.law != "sum":
            change["join"] = {"law": "sum"}
        fresh = checked(Split, _fields(split) | change)
        done = _with(session, strip, fresh)
        return done, f"{said_place(strip, split)}: {new.name} added"


class RemoveBranch(Model):
    """Take a copy or a band away; a band goes to its lower neighbour."""

    type: Literal["remove_branch"] = "remove_branch"
    branch: Id

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        strip, split, old = _branch(session, self.branch)
        if len(split.branches) < 3:
            raise SettingError("a split needs two branches; take the split away instead")
        at = [b.id for b in split.branches].index(old.id)
        parts = [b for b in split.branches if b.id != old.id]
        corners = list(split.crossovers_hz)
        if corners:
            corners.pop(max(at - 1, 0))
        fresh = checked(Split, _fields(split) | {"branches": parts, "crossovers_hz": corners})
        done = _with(session, strip, fresh)
        return done, f"{said_place(strip, split)}: {old.name} taken away"


class CopyToSiblings(Model):
    """Copy a stage to the other branches of its split, in place of their first of its kind.

    to: to this branch alone.
    """

    type: Literal["copy_to_siblings"] = "copy_to_siblings"
    stage: Id
    to: Id | None = None

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        home, _ = SessionIndex(session).home(self.stage)
        strip, stage = SessionIndex(session).element(self.stage)
        if home == strip.id:
            raise SettingError(f"{title(stage)} stands on no branch")
        _, split, _ = _branch(session, home)
        others = [b for b in split.branches if b.id != home and self.to in (None, b.id)]
        if not others:
            raise SettingError(f"{self.to} is no other branch of this split")
        taken = SessionIndex(session).ids
        parts = []
        for branch in split.branches:
            if branch in others:
                copy = fresh_copy([stage], branch.id, taken)[0]
                same = next((e for e in branch.chain if e.kind == stage.kind), None)
                chain = [copy if e is same else e for e in branch.chain]
                branch = branch.model_copy(
                    update={"chain": chain if same else [*branch.chain, copy]}
                )
            parts.append(branch)
        done = with_chain(session, strip, _with_branches(strip.chain, split, parts))
        where = "the other branches" if self.to is None else others[0].name
        return done, f"{said_place(strip, stage)} copied to {where}"


def _split(session: Session, split_id: str) -> tuple[Strip, Split]:
    strip, found = SessionIndex(session).element(split_id)
    if not isinstance(found, Split):
        raise SettingError(f"{split_id} is no split")
    return strip, found


def _branch(session: Session, branch_id: str) -> tuple[Strip, Split, Branch]:
    strip, found = SessionIndex(session).chain(branch_id)
    if found is None:
        raise SettingError(f"{branch_id} is no branch")
    for element in _splits(strip.chain):
        if any(b.id == branch_id for b in element.branches):
            return strip, element, found
    raise SettingError(f"{branch_id} is no branch")


def _splits(chain: Chain) -> list[Split]:
    found = [e for e in chain if isinstance(e, Split)]
    return found + [s for b in branches(chain) for s in b.chain if isinstance(s, Split)]


def _with_branches(chain: Chain, split: Split, parts: list[Branch]) -> Chain:
    new: Element = split.model_copy(update={"branches": parts})
    return replaced(chain, split.id, lambda e: [new])


def _with(session: Session, strip: Strip, split: Split) -> Session:
    old = SessionIndex(session).element(split.id)[1]
    if isinstance(old, Split):
        corners = (old.crossovers_hz, split.crossovers_hz)
        session = renumbered(session, split.id, "crossovers_hz", *corners)
    return with_chain(session, strip, replaced(strip.chain, split.id, lambda e: [split]))


def _fields(split: Split) -> dict[str, Any]:
    return {name: getattr(split, name) for name in Split.model_fields}


def _said(split: Split) -> str:
    words = {"mid-side": "mid and sides", "left-right": "left and right"}
    return words.get(split.by, f"{len(split.branches)} {split.by}")


def _widest(corners: list[float]) -> float:
    """Return a corner in the middle of the widest band, by octaves."""
    edges = [20.0, *corners, 20000.0]
    low, high = max(pairwise(edges), key=lambda pair: pair[1] / pair[0])
    return float(round((low * high) ** 0.5))
