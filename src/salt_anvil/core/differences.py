"""What differs between two settings or two states of a session, in the words of the panel."""

from collections.abc import Mapping
from typing import Any

from salt_anvil.core.edits.base import figure, said_value, title
from salt_anvil.core.processors import processor
from salt_anvil.core.processors.base import Control
from salt_anvil.core.session import (
    Automation,
    Element,
    Key,
    Session,
    Setting,
    Split,
    Stage,
    Strip,
    elements,
    owners_controls,
)
from salt_anvil.core.session_index import SessionIndex

Names = Mapping[str, str]
"""What a key's source is called."""


def setting_differences(new: Setting, base: Setting, session: Session) -> list[str]:
    """Return in what a setting differs from another of the same extent."""
    names = _source_names(session)
    if new.strip is not None and base.strip is not None:
        found = _strip_differences(new.strip, base.strip, names)
        chains = (new.strip.chain, base.strip.chain)
    else:
        found = []
        chains = (new.chain, base.chain)
    found += chain_differences(*chains, names)
    index = {e.id: title(e) for chain in chains for e in elements(chain)}
    return found + _movement_differences(new.automation, base.automation, index)


def session_differences(new: Session, base: Session) -> list[str]:
    """Return in what a session differs from an earlier or later state of it."""
    found = _song_differences(new, base)
    names = _source_names(base) | _source_names(new)
    before = {s.id: s for s in base.strips}
    after = {s.id for s in new.strips}
    found += [f"no strip {s.name}" for s in base.strips if s.id not in after]
    for strip in new.strips:
        old = before.get(strip.id)
        if old is None:
            found.append(f"strip {strip.name}")
            continue
        own = [] if old.name == strip.name else [f"called so instead of “{old.name}”"]
        own += _route_differences(strip, old, new, base)
        own += _strip_differences(strip, old, names)
        own += chain_differences(strip.chain, old.chain, names)
        found += [f"{strip.name}: {words}" for words in own]
    found += _lever_differences(new, base)
    return found + _movement_differences(new.automation, base.automation, _titles(base, new))


def _titles(*sessions: Session) -> dict[str, str]:
    """Return what everything that can move is called."""
    found: dict[str, str] = {}
    for session in sessions:
        index = SessionIndex(session)
        found |= {name: title(e) for name, e in index.elements.items()}
        found |= {s.id: s.name for s in session.strips}
        found |= {b.id: b.name for b in index.branches.values()}
        found |= {lever.id: lever.name for lever in session.levers}
    return found


def _song_differences(new: Session, base: Session) -> list[str]:
    found = []
    if new.name != base.name:
        found.append(f"called “{new.name}” instead of “{base.name}”")
    if new.bpm != base.bpm:
        tempo = [figure(s.bpm) if s.bpm else "no tempo" for s in (new, base)]
        found.append(f"{tempo[0]} instead of {tempo[1]} bpm")
    spans = [[(n, round(a, 3), round(b, 3)) for n, a, b in s.section_spans()] for s in (new, base)]
    if spans[0] != spans[1]:
        found.append("other sections")
    return found


def chain_differences(
    new: list[Element], base: list[Element], names: Names | None = None
) -> list[str]:
    """Return in what a chain differs from another: what it has, has not, has otherwise."""
    names = names or {}
    before, after = {e.id: e for e in base}, {e.id: e for e in new}
    found = [f"no {title(e)}" for e in base if e.id not in after]
    kept = [e.id for e in base if e.id in after]
    order = [e.id for e in new if e.id in before]
    moved = _moved(order, kept)
    for index, element in enumerate(new):
        old = before.get(element.id)
        place = f"after {title(new[index - 1])}" if index else "first"
        if old is None or old.kind != element.kind:
            found.append(f"{title(element)} {place}{_heading(element)}")
            continue
        if element.id in moved:
            found.append(f"{title(element)} {place} instead")
        own = _element_differences(element, old, names)
        if own:
            found.append(f"{title(element)}: {', '.join(own)}")
        if isinstance(element, Split) and isinstance(old, Split):
            found += _branch_chains(element, old, names)
    return found


def _moved(order: list[str], kept: list[str]) -> set[str]:
    """Return what changed places: the least that, taken out, leaves the same order."""
    size = len(order)
    best = [[0] * (size + 1) for _ in range(size + 1)]
    for i in reversed(range(size)):
        for j in reversed(range(size)):
            same = order[i] == kept[j]
            best[i][j] = best[i + 1][j + 1] + 1 if same else max(best[i + 1][j], best[i][j + 1])
    i = j = 0
    found = set()
    while i < size:
        if j < size and order[i] == kept[j]:
            i, j = i + 1, j + 1
        elif j < size and best[i][j + 1] >= best[i + 1][j]:
            j += 1
        else:
            found.add(order[i])
            i += 1
    return found


def _heading(element: Element) -> str:
    """Return the figure that a stage is known by, if it has one."""
    if isinstance(element, Split):
        return ""
    for control in processor(element.kind).describe().controls:
        if control.name in ("threshold_db", "ceiling_db", "gain_db", "drive_db"):
            value = getattr(element.params, control.name)
            return f", {control.label.lower()} {said_value(control, value)}"
    return ""


def _element_differences(new: Element, old: Element, names: Names) -> list[str]:
    found = []
    if new.on != old.on:
        found.append("on" if new.on else "off")
    if isinstance(new, Stage) and isinstance(old, Stage):
        for control in processor(new.kind).describe().controls:
            values = getattr(new.params, control.name), getattr(old.params, control.name)
            found += _control(control, *values)
        found += _key_differences(new.key, old.key, names)
    elif isinstance(new, Split) and isinstance(old, Split):
        found += _split_differences(new, old)
    mix = owners_controls()["stage"]["mix"]
    return found + _control(mix, new.mix, old.mix)


def _control(control: Control, new: Any, old: Any) -> list[str]:
    if new == old:
        return []
    label = control.label.lower()
    if isinstance(new, tuple | list):
        count, before = len(new), len(old)
        return [f"{label}: {count} instead of {before}" if count != before else f"other {label}"]
    return [f"{label} {said_value(control, new)} instead of {said_value(control, old)}"]


def _key_differences(new: Key, old: Key, names: Names) -> list[str]:
    found = []
    if (new.source, new.tap) != (old.source, old.tap):
        found.append(f"key {_source(new, names)} instead of {_source(old, names)}")
    ranges = [(k.low_hz, k.high_hz) for k in (new, old)]
    if ranges[0] != ranges[1]:
        said = [f"{_hz(low)} to {_hz(high)}" for low, high in ranges]
        found.append(f"key from {said[0]} instead of {said[1]}")
    return found


def _source(key: Key, names: Names) -> str:
    where = "own" if key.source == "own" else names.get(key.source, key.source.partition(":")[2])
    return f"{where} before its chain" if key.source != "own" and key.tap == "in" else where


def _hz(value: float | None) -> str:
    return "open" if value is None else f"{figure(value)} Hz"


def _split_differences(new: Split, old: Split) -> list[str]:
    found = []
    if new.by != old.by:
        found.append(f"by {new.by} instead of {old.by}")
    if new.crossovers_hz != old.crossovers_hz:
        said = [", ".join(figure(hz) for hz in s.crossovers_hz) or "none" for s in (new, old)]
        found.append(f"crossovers {said[0]} instead of {said[1]} Hz")
    if new.slope != old.slope:
        found.append(f"slope {new.slope} instead of {old.slope} dB an octave")
    if new.phase != old.phase:
        found.append(f"{new.phase} phase instead of {old.phase}")
    if new.join.law != old.join.law:
        found.append(f"join {new.join.law} instead of {old.join.law}")
    position = owners_controls()["split"]["position"]
    found += _control(position, new.join.position, old.join.position)
    before = {b.id: b for b in old.branches}
    gain = owners_controls()["branch"]["gain_db"]
    for branch in new.branches:
        was = before.get(branch.id)
        if was is None:
            found.append(f"branch {branch.name}")
            continue
        own = _control(gain, branch.gain_db, was.gain_db)
        if branch.on != was.on:
            own.append("on" if branch.on else "off")
        if branch.solo != was.solo:
            own.append("solo" if branch.solo else "no solo")
        found += [f"{branch.name} {words}" for words in own]
    there = {b.id for b in new.branches}
    return found + [f"no branch {b.name}" for b in old.branches if b.id not in there]


def _branch_chains(new: Split, old: Split, names: Names) -> list[str]:
    before = {b.id: b for b in old.branches}
    found = []
    for branch in new.branches:
        was = before.get(branch.id)
        own = chain_differences(branch.chain, was.chain if was else [], names)
        found += [f"{branch.name}: {words}" for words in own]
    return found


def _strip_differences(new: Strip, old: Strip, names: Names) -> list[str]:
    controls = owners_controls()
    found = []
    for name in ("trim_db", "fader_db", "pan"):
        found += _control(controls["strip"][name], getattr(new, name), getattr(old, name))
    if new.invert != old.invert:
        found.append("turned over" if new.invert else "not turned over")
    if new.join.law != old.join.law:
        found.append(f"join {new.join.law} instead of {old.join.law}")
    found += _control(controls["strip"]["position"], new.join.position, old.join.position)
    before = {s.to: s for s in old.sends}
    for send in new.sends:
        was = before.get(send.to)
        where = names.get(f"strip:{send.to}", send.to)
        if was is None:
            found.append(f"send to {where}")
            continue
        own = _control(controls["send"]["gain_db"], send.gain_db, was.gain_db)
        if send.pre_fader != was.pre_fader:
            own.append("before the fader" if send.pre_fader else "after the fader")
        if send.on != was.on:
            own.append("on" if send.on else "off")
        found += [f"{words} to {where}" for words in own]
    there = {s.to for s in new.sends}
    return found + [
        f"no send to {names.get(f'strip:{to}', to)}" for to in before if to not in there
    ]


def _route_differences(new: Strip, old: Strip, after: Session, before: Session) -> list[str]:
    found = []
    for name, words in (("mute", "muted"), ("solo", "soloed")):
        if getattr(new, name) != getattr(old, name):
            found.append(words if getattr(new, name) else f"not {words}")
    if new.output != old.output:
        outputs = [
            next((s.name for s in session.strips if s.id == strip.output), "the main bus")
            for strip, session in ((new, after), (old, before))
        ]
        found.append(f"goes to {outputs[0]} instead of {outputs[1]}")
    if new.audio != old.audio:
        found.append("another recording")
    return found


def _lever_differences(new: Session, base: Session) -> list[str]:
    before = {lever.id: lever for lever in base.levers}
    value = owners_controls()["lever"]["value"]
    found = []
    for lever in new.levers:
        old = before.get(lever.id)
        if old is None:
            found.append(f"lever {lever.name}")
            continue
        own = _control(value, lever.value, old.value)
        if lever.moves != old.moves:
            own.append("moves other controls, or otherwise")
        found += [f"{lever.name}: {words}" for words in own]
    there = {lever.id for lever in new.levers}
    return found + [f"no lever {old.name}" for old in base.levers if old.id not in there]


def _movement_differences(
    new: list[Automation], base: list[Automation], titles: Mapping[str, str]
) -> list[str]:
    """Return which controls move, do not, or move otherwise, where their owner is in both."""
    after, before = ({(a.owner, a.control): a.points for a in side} for side in (new, base))
    found = []
    for owner, control in {**before, **after}:
        points = after.get((owner, control)), before.get((owner, control))
        if points[0] == points[1]:
            continue
        words = "moves otherwise" if None not in points else "moves"
        words = "does not move" if points[0] is None else words
        where = titles.get(owner, "")
        found.append(f"{where} {_label(control)} {words}".strip())
    return found


def _label(control: str) -> str:
    return control.partition(":")[0].removesuffix("_db").removesuffix("_ms").replace("_", " ")


def _source_names(session: Session) -> dict[str, str]:
    index = SessionIndex(session)
    names = {f"strip:{s.id}": s.name for s in session.strips}
    names |= {f"branch:{name}": b.name for name, b in index.branches.items()}
    return names | {f"stage:{name}": title(e) for name, e in index.elements.items()}
