"""What all edits share: finding a chain, changing it, words for what was done."""

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from salt_anvil.core.processors import processor
from salt_anvil.core.processors.base import Control
from salt_anvil.core.session import (
    Automation,
    Element,
    Model,
    Move,
    Session,
    Settings,
    Split,
    Stage,
    Strip,
    branches,
    checked,
    elements,
)
from salt_anvil.core.session_index import SessionIndex

Chain = list[Element]
Items = Sequence[Any]


def dump(model: Model) -> dict[str, Any]:
    """Return a model as plain data."""
    return model.model_dump()


def rebuilt(session: Session, **change: Any) -> Session:
    """Return the session with fields replaced, validated as a whole."""
    fields = {name: getattr(session, name) for name in Session.model_fields}
    return checked(Session, fields | change)


def with_strip(session: Session, new: Strip) -> Session:
    """Return the session with one strip replaced."""
    return rebuilt(session, strips=[new if s.id == new.id else s for s in session.strips])


def with_chain(session: Session, strip: Strip, chain: Chain) -> Session:
    """Return the session with one strip's chain replaced; what moved a lost stage is dropped."""
    done = with_strip(session, strip.model_copy(update={"chain": chain}))
    return pruned(anchored(done, SessionIndex(session)))


def anchored(session: Session, before: SessionIndex) -> Session:
    """Return the session with its stretches between those of their neighbours that are left."""
    index = SessionIndex(session)

    def left(settings: Settings) -> Settings:
        extent = settings.extent
        if extent.kind != "stretch" or index.owner(extent.owner) is None:
            return settings
        old, new = ([e.id for e in chain_of(i, extent.owner)] for i in (before, index))
        change: dict[str, str | None] = {}
        if extent.after not in (None, *new):
            kept = [e for e in old[: _place(old, extent.after, 0)] if e in new]
            change["after"] = kept[-1] if kept else None
        if extent.before not in (None, *new):
            kept = [e for e in old[_place(old, extent.before, len(old)) :] if e in new]
            change["before"] = kept[0] if kept else None
        if not change:
            return settings
        return settings.model_copy(update={"extent": extent.model_copy(update=change)})

    found = [left(s) for s in session.settings]
    return session if found == session.settings else rebuilt(session, settings=found)


def _place(ids: list[str], name: str | None, otherwise: int) -> int:
    return ids.index(name) if name in ids else otherwise


def chain_of(index: SessionIndex, place: str) -> Chain:
    """Return the chain of a strip or branch; empty where there is none any more."""
    if place not in index.strips and place not in index.branches:
        return []
    strip, branch = index.chain(place)
    return (branch or strip).chain


def _with_known_settings(session: Session, known: set[str]) -> Session:
    """Return the session without settings of what is neither there nor held anywhere."""

    def is_held(owner: str, apart: Settings) -> bool:
        return any(
            part.id == owner
            for s in session.settings
            if s is not apart
            for setting in s.held.values()
            for chain in [setting.strip.chain if setting.strip else setting.chain]
            for part in (*elements(chain), *branches(chain))
        )

    found = [s for s in session.settings if s.extent.owner in known or is_held(s.extent.owner, s)]
    return session if found == session.settings else rebuilt(session, settings=found)


def pruned(session: Session) -> Session:
    """Return the session without automation, lever moves and settings of what is gone."""
    known = SessionIndex(session).ids
    session = _with_known_settings(session, known)
    automation = [a for a in session.automation if a.owner in known]
    levers = [
        lever.model_copy(update={"moves": [m for m in lever.moves if m.owner in known]})
        for lever in session.levers
    ]
    if automation == session.automation and levers == session.levers:
        return session
    return rebuilt(session, automation=automation, levers=levers)


def renumbered(session: Session, owner: str, name: str, old: Items, new: Items) -> Session:
    """Return the session with what moves the items of a list moving them at their new places."""
    if len(old) == len(new):
        return session
    places = _places(list(old), list(new))

    def moved(control: str) -> str | None:
        first, *rest = control.split(".")
        if first != name or not rest:
            return control
        place = places.get(int(rest[0]))
        return None if place is None else ".".join([first, str(place), *rest[1:]])

    def kept(items: Sequence[Automation | Move]) -> list[Any]:
        found = [(i, moved(i.control) if i.owner == owner else i.control) for i in items]
        return [i.model_copy(update={"control": to}) for i, to in found if to is not None]

    levers = [lever.model_copy(update={"moves": kept(lever.moves)}) for lever in session.levers]
    return rebuilt(session, automation=kept(session.automation), levers=levers)


def _places(old: list[Any], new: list[Any]) -> dict[int, int]:
    """Return where the items of a list are after some came or went."""
    same = 0
    while same < min(len(old), len(new)) and old[same] == new[same]:
        same += 1
    away = len(old) - len(new)
    places = {i: i for i in range(same)}
    return places | {i: i - away for i in range(same + max(away, 0), len(old))}


def replaced(chain: Chain, element_id: str, put: Callable[[Element], Chain]) -> Chain:
    """Return a chain, nested ones too, with one element replaced by what `put` returns."""
    found: Chain = []
    for element in chain:
        if element.id == element_id:
            found += put(element)
        elif isinstance(element, Split):
            found.append(_inside(element, lambda c: replaced(c, element_id, put)))
        else:
            found.append(element)
    return found


def _inside(split: Split, change: Callable[[Chain], Chain]) -> Split:
    parts = [b.model_copy(update={"chain": change(b.chain)}) for b in split.branches]
    return split.model_copy(update={"branches": parts})


def changed_at(session: Session, place: str, change: Callable[[Chain], Chain]) -> Session:
    """Return the session with the chain of a strip or branch changed.

    Raises:
        SettingError: there is no such strip or branch.
    """
    strip, branch = SessionIndex(session).chain(place)
    if branch is None:
        return with_chain(session, strip, change(strip.chain))

    def in_branch(chain: Chain) -> Chain:
        found: Chain = []
        for element in chain:
            if isinstance(element, Split):
                parts = [
                    b.model_copy(
                        update={"chain": change(b.chain) if b.id == place else in_branch(b.chain)}
                    )
                    for b in element.branches
                ]
                element = element.model_copy(update={"branches": parts})
            found.append(element)
        return found

    return with_chain(session, strip, in_branch(strip.chain))


def fresh_copy(
    chain: Iterable[Element], prefix: str, taken: set[str], names: dict[str, str] | None = None
) -> Chain:
    """Return copies of elements under ids of their own; keys among them follow.

    taken: ids in use; the new ones are added. names: old ids to new ones, to be filled.
    """
    names = {} if names is None else names
    return [_rekeyed(e, names) for e in [_renamed(e, prefix, taken, names) for e in chain]]


def _renamed(element: Element, prefix: str, taken: set[str], names: dict[str, str]) -> Element:
    new = free(f"{prefix}-{element.kind}", taken)
    taken.add(new)
    names[element.id] = new
    if isinstance(element, Stage):
        return element.model_copy(update={"id": new})
    parts = []
    for branch in element.branches:
        name = free(f"{new}-{slug(branch.name)}", taken)
        taken.add(name)
        names[branch.id] = name
        inner: Chain = [_renamed(e, prefix, taken, names) for e in branch.chain]
        parts.append(branch.model_copy(update={"id": name, "chain": inner}))
    return element.model_copy(update={"id": new, "branches": parts})


def reachable(chain: Chain, session: Session) -> Chain:
    """Return elements; what listens to nothing among them or in the session hears its own input."""
    taken = SessionIndex(session).ids
    taken |= {e.id for e in elements(chain)} | {b.id for b in branches(chain)}
    sources = {f"strip:{s.id}" for s in session.strips}
    sources |= {f"{kind}:{name}" for kind in ("stage", "branch") for name in taken}

    def one(element: Element) -> Element:
        if isinstance(element, Split):
            return _inside(element, lambda inner: [one(e) for e in inner])
        if element.key.source == "own" or element.key.source in sources:
            return element
        key = element.key.model_copy(update={"source": "own"})
        return element.model_copy(update={"key": key})

    return [one(element) for element in chain]


def _rekeyed(element: Element, names: dict[str, str]) -> Element:
    if isinstance(element, Split):
        return _inside(element, lambda chain: [_rekeyed(e, names) for e in chain])
    kind, _, name = element.key.source.partition(":")
    if kind in ("stage", "branch") and name in names:
        key = element.key.model_copy(update={"source": f"{kind}:{names[name]}"})
        return element.model_copy(update={"key": key})
    return element


# Words -----------------------------------------------------------------------------------------


def title(element: Element) -> str:
    """Return what an element is, in lower case."""
    if isinstance(element, Split):
        words = {"copies": "blend", "bands": f"{len(element.branches)} bands"}
        return words.get(element.by, element.by)
    return processor(element.kind).title.lower()


def said_place(strip: Strip, element: Element) -> str:
    """Return an element and its strip in words."""
    return f"{strip.name}: {title(element)}"


def figure(value: Any) -> str:
    """Return a value as it is written in what was done."""
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, float | int):
        return f"{value:.4g}".replace("-", "−")
    if isinstance(value, tuple):
        return str(len(value))
    return "open" if value is None else str(value)


def said_value(control: Control, value: Any) -> str:
    """Return the value of a control as the panel shows it: with its unit, shares in per cent."""
    if isinstance(value, bool) or not isinstance(value, float | int):
        return figure(value)
    if control.unit == "" and control.low == 0 and control.high == 1:
        return f"{100 * value:.0f} %"
    if control.unit == "ms" and abs(value) >= 1000:
        return f"{figure(value / 1000)} s"
    if control.unit == "Hz" and value >= 1000:
        return f"{figure(value / 1000)} kHz"
    return f"{figure(value)} {control.unit}".strip()


def slug(name: str) -> str:
    """Return a name as an id."""
    found = "".join(c if c.isalnum() and c.isascii() else "-" for c in name.lower()).strip("-")
    return found[:40] or "strip"


def free(wanted: str, taken: set[str]) -> str:
    """Return an id that is not taken."""
    wanted = wanted[:56]
    if wanted not in taken:
        return wanted
    number = 2
    while f"{wanted}-{number}" in taken:
        number += 1
    return f"{wanted}-{number}"
