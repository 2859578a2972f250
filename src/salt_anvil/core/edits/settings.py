"""Settings A to D of anything: held, chosen, copied, named."""

from typing import Any, Literal

from pydantic import Field

from salt_anvil.core.edits.base import (
    Chain,
    chain_of,
    changed_at,
    fresh_copy,
    pruned,
    reachable,
    rebuilt,
    replaced,
    title,
    with_chain,
)
from salt_anvil.core.errors import MissingError, SettingError
from salt_anvil.core.guessing import by_guessing
from salt_anvil.core.session import (
    Automation,
    Extent,
    Heard,
    LeverMove,
    Model,
    Move,
    Session,
    Setting,
    Settings,
    Slot,
    Strip,
    Trial,
    branches,
    checked,
    elements,
)
from salt_anvil.core.session_index import SessionIndex

TRIALS = 200
"""So many blind tests are kept with a session."""
TAKEN_OVER = ("trim_db", "invert", "fader_db", "pan", "sends", "join")
"""What belongs to the setting of a whole strip beside its chain; not its name, ways and audio."""


def settings_of(session: Session, extent: Extent) -> Settings:
    """Return the settings of an extent; A alone where none were made.

    Raises:
        MissingError: there is no such place.
    """
    stand_in(session, extent)
    found = next((s for s in session.settings if s.extent == extent), None)
    return found or Settings(extent=extent)


def stand_in(session: Session, extent: Extent) -> tuple[Strip, Chain]:
    """Return the strip of an extent, and the elements that stand in it.

    Raises:
        MissingError: there is no such place.
        SettingError: the neighbours of a stretch do not stand in this order.
    """
    index = SessionIndex(session)
    if extent.kind == "element":
        strip, element = index.element(extent.owner)
        return strip, [element]
    strip, branch = index.chain(extent.owner)
    if extent.kind == "strip" and branch is not None:
        raise MissingError(f"“{extent.owner}” is a branch, not a strip")
    chain = (branch or strip).chain
    if extent.kind != "stretch":
        return strip, chain
    begin, end = _between(chain, extent)
    return strip, chain[begin:end]


def _between(chain: Chain, extent: Extent) -> tuple[int, int]:
    ids = [e.id for e in chain]
    for name in (extent.after, extent.before):
        if name is not None and name not in ids:
            raise MissingError(f"there is no stage “{name}” on this stave")
    begin = 0 if extent.after is None else ids.index(extent.after) + 1
    end = len(ids) if extent.before is None else ids.index(extent.before)
    if begin > end:
        raise SettingError("the stages around this stretch have changed places")
    return begin, end


def setting_in_force(session: Session, extent: Extent) -> Setting:
    """Return what stands in an extent, with what moves it."""
    strip, chain = stand_in(session, extent)
    owners = _owners(chain)
    if extent.kind == "strip":
        owners.add(strip.id)
    moves = [
        LeverMove(lever=lever.id, move=m)
        for lever in session.levers
        for m in lever.moves
        if m.owner in owners
    ]
    return Setting(
        chain=[] if extent.kind == "strip" else chain,
        strip=strip if extent.kind == "strip" else None,
        automation=[a for a in session.automation if a.owner in owners],
        moves=moves,
    )


def with_setting(session: Session, extent: Extent, setting: Setting) -> Session:
    """Return the session with something else standing in an extent, and moved as it was then."""
    strip, old = stand_in(session, extent)
    new = setting.strip.chain if setting.strip else setting.chain
    names: dict[str, str] = {}
    others = SessionIndex(session).ids - _owners(old)
    if others & _owners(new):
        # Something of it has been moved elsewhere meanwhile.
        new = fresh_copy(new, strip.id, others | _owners(old) | _owners(new), names)
        if extent.kind == "element":
            new = [new[0].model_copy(update={"id": extent.owner})]
            names[extent.owner] = extent.owner
    new = reachable(new, session)
    owners = _owners(old)
    if setting.strip is not None:
        owners.add(strip.id)
        change = {name: getattr(setting.strip, name) for name in TAKEN_OVER}
        change["sends"] = [s for s in setting.strip.sends if _is_bus(session, s.to)]
        strip = strip.model_copy(update=change)
    lifted = _unmoved(session, owners)
    if extent.kind == "element":
        done = with_chain(lifted, strip, replaced(strip.chain, extent.owner, lambda e: new))
    elif setting.strip is not None:
        done = with_chain(lifted, strip, new)
    elif extent.kind == "chain":
        done = changed_at(lifted, extent.owner, lambda chain: new)
    else:
        begin, end = _between(chain_of(SessionIndex(session), extent.owner), extent)
        done = changed_at(lifted, extent.owner, lambda c: [*c[:begin], *new, *c[end:]])
    return _moved(done, setting, names)


def _owners(chain: Chain) -> set[str]:
    return {e.id for e in elements(chain)} | {b.id for b in branches(chain)}


def _is_bus(session: Session, name: str) -> bool:
    return any(s.id == name and s.kind == "bus" for s in session.strips)


def _unmoved(session: Session, owners: set[str]) -> Session:
    """Return the session without what moves these."""
    levers = [
        lever.model_copy(update={"moves": [m for m in lever.moves if m.owner not in owners]})
        for lever in session.levers
    ]
    automation = [a for a in session.automation if a.owner not in owners]
    return session.model_copy(update={"levers": levers, "automation": automation})


def _moved(session: Session, setting: Setting, names: dict[str, str]) -> Session:
    """Return the session with what moved a setting; names: ids that were given anew."""

    def renamed(item: Any) -> Any:
        return item.model_copy(update={"owner": names.get(item.owner, item.owner)})

    automation: list[Automation] = [renamed(a) for a in setting.automation]
    moves: dict[str, list[Move]] = {}
    for one in setting.moves:
        moves.setdefault(one.lever, []).append(renamed(one.move))
    levers = [
        lever.model_copy(update={"moves": [*lever.moves, *moves.get(lever.id, [])]})
        for lever in session.levers
    ]
    there = {(s.id, f"send:{send.to}") for s in session.strips for send in s.sends}
    automation = [
        a for a in automation if not a.control.startswith("send:") or (a.owner, a.control) in there
    ]
    return pruned(rebuilt(session, levers=levers, automation=[*session.automation, *automation]))


def _kept(session: Session, settings: Settings) -> Session:
    """Return the session with an extent's settings stored; A alone is not worth keeping."""
    rest = [s for s in session.settings if s.extent != settings.extent]
    bare = settings.chosen == "A" and not settings.held and not settings.names
    return rebuilt(session, settings=rest if bare else [*rest, settings])


def said_extent(session: Session, extent: Extent) -> str:
    """Return what an extent is in words."""
    strip, chain = stand_in(session, extent)
    if extent.kind == "element":
        return f"{strip.name}: {title(chain[0])}"
    if extent.kind == "stretch":
        return f"{strip.name}: {len(chain)} stages"
    return f"{strip.name}: {'chain' if extent.kind == 'chain' else 'strip'}"


class _OfExtent(Model):
    extent: Extent


class ChooseSettings(_OfExtent):
    """Go to another of the settings A to D; an empty one starts as a copy."""

    type: Literal["choose_settings"] = "choose_settings"
    slot: Slot

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        settings = settings_of(session, self.extent)
        words = f"{said_extent(session, self.extent)}: settings {self.slot}"
        if self.slot == settings.chosen:
            return session, words
        held = {**settings.held, settings.chosen: setting_in_force(session, self.extent)}
        wanted = held.pop(self.slot, None)
        new = settings.model_copy(update={"chosen": self.slot, "held": held})
        # Stored first: what is only held keeps its own settings.
        session = _kept(session, new)
        if wanted is not None:
            session = with_setting(session, self.extent, wanted)
        return session, words


class CopySettings(_OfExtent):
    """Copy one of the settings into another, over what it holds."""

    type: Literal["copy_settings"] = "copy_settings"
    source: Slot
    target: Slot

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        settings = settings_of(session, self.extent)
        words = f"{said_extent(session, self.extent)}: {self.source} copied into {self.target}"
        if self.source not in settings.letters:
            raise SettingError(f"there is nothing in {self.source} to copy")
        if self.source == self.target:
            return session, words
        if self.target == settings.chosen:
            return with_setting(session, self.extent, settings.held[self.source]), words
        wanted = settings.held.get(self.source) or setting_in_force(session, self.extent)
        held = {**settings.held, self.target: wanted}
        return _kept(session, settings.model_copy(update={"held": held})), words


class NameSettings(_OfExtent):
    """Give one of the settings a name, or none."""

    type: Literal["name_settings"] = "name_settings"
    slot: Slot
    name: str = Field("", max_length=80)

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        settings = settings_of(session, self.extent)
        if self.slot not in settings.letters:
            raise SettingError(f"{self.slot} is empty: there is nothing to name")
        names = {k: v for k, v in settings.names.items() if k != self.slot}
        name = self.name.strip()
        if name:
            names[self.slot] = name
        done = _kept(session, settings.model_copy(update={"names": names}))
        where = said_extent(session, self.extent)
        return done, f"{where}: {self.slot} is called {name or 'nothing'}"


class ClearSettings(_OfExtent):
    """Let one of the settings go; not the one that is chosen."""

    type: Literal["clear_settings"] = "clear_settings"
    slot: Slot

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        settings = settings_of(session, self.extent)
        if self.slot == settings.chosen:
            raise SettingError(f"{self.slot} is what is played; choose another one first")
        held = {k: v for k, v in settings.held.items() if k != self.slot}
        names = {k: v for k, v in settings.names.items() if k != self.slot}
        done = _kept(session, settings.model_copy(update={"held": held, "names": names}))
        return done, f"{said_extent(session, self.extent)}: {self.slot} cleared"


class KeepTrial(_OfExtent):
    """Keep the result of a blind test."""

    type: Literal["keep_trial"] = "keep_trial"
    kind: Literal["match", "pick"]
    choices: list[Heard]
    rounds: int
    right: int
    best: Heard | None = None
    early: bool = False
    at: float = 0

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        if self.kind == "match" and len(self.choices) != 2:
            raise SettingError("X is matched against two, not more or fewer")
        fields = self.model_dump(exclude={"type"})
        chance = by_guessing(self.right, self.rounds, len(self.choices))
        trial = checked(Trial, fields | {"chance": chance})
        trials = [*session.trials, trial][-TRIALS:]
        names = f"{', '.join(self.choices[:-1])} and {self.choices[-1]}"
        score = f"{self.right} of {self.rounds} right"
        if self.best is not None:
            score = f"{self.best} best {self.right} times of {self.rounds}"
        where = said_extent(session, self.extent)
        return rebuilt(session, trials=trials), f"{where}: {names} in a blind test, {score}"


__all__ = [
    "ChooseSettings", "ClearSettings", "CopySettings", "KeepTrial", "NameSettings", "said_extent",
    "setting_in_force", "settings_of", "stand_in", "with_setting",
]  # fmt: skip
