"""Random sessions and random edits of them, for the tests of reuse."""

from typing import Any

import numpy as np

from salt_anvil.core import edits as e
from salt_anvil.core.engine.automation import scale_of
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import CoreError
from salt_anvil.core.processors import REGISTRY
from salt_anvil.core.session import Session, Split, Stage, branches, checked, elements
from salt_anvil.core.session_index import SessionIndex
from tests.conftest import noise
from tests.routing import reader

RATE = 48000
FRAMES = 12_000
SOUNDS = {f"s{i}": noise(FRAMES, 1 + i % 2, seed=100 + i) for i in range(4)}
source = reader(SOUNDS)
Random = np.random.Generator


def random_params(random: Random, kind: str) -> dict[str, Any]:
    """A few parameters anywhere in their range."""
    controls = REGISTRY[kind].describe().controls
    chosen = random.choice(len(controls), min(3, len(controls)), replace=False)
    return {controls[i].name: random_value(random, controls[i]) for i in chosen}


def random_value(random: Random, control: Any) -> Any:
    if control.type == "choice":
        return str(random.choice(control.choices))
    if control.type == "switch":
        return bool(random.integers(2))
    if control.type == "points":
        inputs = np.sort(random.choice(np.arange(-90, 10), 5, replace=False))
        return [(float(x), float(random.uniform(-90, 0))) for x in inputs]
    if control.type == "bands":
        return [
            {f.name: random_value(random, f) for f in control.fields if random.integers(2)}
            for _ in range(random.integers(0, control.most + 1))
        ]
    return float(random.uniform(control.low, control.high))


def pick(random: Random, items: list[Any]) -> Any:
    return items[random.integers(len(items))]


def random_edit(random: Random, session: Session) -> e.Edit:
    """One edit, not always one that can be done."""
    strips = session.strips
    all_stages = [x for s in strips for x in elements(s.chain) if isinstance(x, Stage)]
    splits = [x for s in strips for x in elements(s.chain) if isinstance(x, Split)]
    parts = [b for s in strips for b in branches(s.chain)]
    places = [s.id for s in strips] + [b.id for b in parts]
    place = pick(random, places)
    kind = str(pick(random, sorted(REGISTRY)))
    strip = pick(random, strips)

    def send() -> e.Edit:
        return e.SetSend(
            strip=strip.id,
            to=pick(random, strips).id,
            gain_db=float(random.uniform(-12, 0)),
            pre_fader=bool(random.integers(2)),
        )

    choices: list[Any] = [
        lambda: e.AddStage(place=place, index=0, kind=kind, params=random_params(random, kind)),
        lambda: e.AddSplit(
            by=pick(random, ["copies", "bands", "mid-side", "left-right"]),
            place=place, bands=int(random.integers(2, 6)),
        ),
        lambda: e.SetStrip(strip=strip.id, field=pick(random, ["fader_db", "trim_db"]),
                           value=float(random.uniform(-20, 6))),
        lambda: e.SetStrip(strip=strip.id, field=pick(random, ["mute", "solo", "invert"]),
                           value=bool(random.integers(2))),
        lambda: e.SetStrip(strip=strip.id, field="output",
                           value=pick(random, [None, *(s.id for s in strips)])),
        *3 * [send],
        lambda: e.SetBusJoin(strip=strip.id, position=float(random.uniform()),
                             law=pick(random, ["sum", "linear", "steady"])),
        lambda: random_lane(random, session),
    ]  # fmt: skip
    if all_stages:
        stage = pick(random, all_stages)
        choices += [
            lambda: e.SetParams(stage=stage.id, params=random_params(random, stage.kind)),
            lambda: e.SetStage(
                stage=stage.id, on=bool(random.integers(2)), mix=float(random.uniform())
            ),
            lambda: e.MoveStage(stage=stage.id, place=place, index=0),
            lambda: e.RemoveStage(stage=stage.id),
            lambda: e.CopyToSiblings(stage=stage.id),
            *3 * [lambda: e.AddSplit(by=pick(random, ["copies", "bands"]), around=[stage.id])],
        ]
    ears = [x for x in all_stages if REGISTRY[x.kind].has_sidechain]
    if ears:
        listening = pick(random, ears)
        choices += 5 * [
            lambda: e.SetStage(stage=listening.id, key=random_key(random, session)),
        ]
    if splits:
        split = pick(random, splits)
        choices += [
            lambda: e.SetSplit(
                split=split.id,
                on=bool(random.integers(2)),
                mix=float(random.uniform()),
                position=float(random.uniform()),
                law=pick(random, ["sum", "linear", "equal-power", "steady"]),
            ),
            lambda: e.SetSplit(
                split=split.id,
                phase=pick(random, ["minimum", "linear"]),
                slope=pick(random, [24, 48]),
            ),
            lambda: e.SetBranch(
                branch=pick(random, parts).id,
                gain_db=float(random.uniform(-9, 3)),
                solo=bool(random.integers(5) == 0),
                on=bool(random.integers(4)),
            ),
            lambda: e.RemoveSplit(split=split.id),
            lambda: e.AddBranch(split=split.id),
            lambda: e.RemoveBranch(branch=pick(random, parts).id),
        ]
    return pick(random, choices)()


def random_play_edit(random: Random, session: Session) -> e.Edit:
    """One edit of any kind there is, strips that come and go included."""
    strips = session.strips
    strip = pick(random, strips)
    stages = [x for s in strips for x in elements(s.chain) if isinstance(x, Stage)]
    sends = [(s.id, x.to) for s in strips for x in s.sends]
    sections = [{"name": f"S{i}", "start_s": 0.05 * i} for i in range(random.integers(0, 4))]
    audio = f"s{random.integers(len(SOUNDS))}"
    track = {"name": "New", "kind": "track", "audio": audio,
             "channels": SOUNDS[audio].shape[1],
             "frames": pick(random, [FRAMES, FRAMES // 3, 2 * FRAMES])}  # fmt: skip
    recipe = {"format": "salt-anvil/recipe", "version": 1, "name": "R", "chain": [
        {"id": "g", "kind": "gate"}, {"id": "c", "kind": "compressor"}]}  # fmt: skip
    choices: list[Any] = [
        lambda: e.AddStrip(strip={"name": "Empty", "kind": "bus"}),
        lambda: e.AddStrip(strip=track),
        lambda: e.RemoveStrip(strip=strip.id),
        lambda: e.SetSession(name="Other", sections=sections),
        lambda: e.SetSession(bpm=pick(random, ["none", 60.0, 133.0])),
        lambda: e.SetStrip(strip=strip.id, field="name", value="Named"),
        lambda: e.SetStrip(strip=strip.id, field="pan", value=float(random.uniform(-1, 1))),
        lambda: e.AddLever(name="L2"),
        lambda: e.MoveStrip(strip=strip.id, before=pick(random, [None, strips[0].id])),
        lambda: e.DuplicateStrip(strip=strip.id),
        lambda: e.AddSection(start_s=float(random.uniform(0, 0.2)), end_s=0.22),
        lambda: e.SetSection(section=0, end_s=float(random.uniform(0.01, 0.2))),
        lambda: e.RemoveSection(section=0),
        lambda: e.PasteElements(place=strip.id, index=0, elements=[
            x.model_dump() for x in pick(random, strips).chain] or [{"id": "q", "kind": "trim"}]),
        lambda: e.ApplyRecipe(extent=random_extent(random, session), recipe=recipe),
        lambda: e.WriteLane(owner=strip.id, control="fader_db", points=[
            {"at_s": 0.01, "value": -6.0}, {"at_s": 0.1, "value": 0.0}]),
    ]  # fmt: skip
    if session.levers:
        lever = pick(random, session.levers)
        choices += [
            lambda: e.SetLever(lever=lever.id, value=float(random.uniform())),
            lambda: e.SetLever(
                lever=lever.id,
                moves=[{"owner": strip.id, "control": "fader_db", "low": -20, "high": 0}],
            ),
            lambda: e.RemoveLever(lever=lever.id),
        ]
    if stages:
        letter = lambda: pick(random, list("ABCD"))  # noqa: E731
        place = random_extent(random, session)
        choices += [lambda: e.ChooseSettings(extent=place, slot=letter())] * 3
        choices += [lambda: e.CopySettings(extent=place, source=letter(), target=letter())]
    if sends:
        one = pick(random, sends)
        choices.append(lambda: e.RemoveSend(strip=one[0], to=one[1]))
    if session.sections:
        choices.append(
            lambda: e.SetInSection(
                owner=strip.id,
                control="fader_db",
                value=-3.0,
                section=pick(random, session.sections).name,
            )
        )
    if random.integers(2):
        return random_edit(random, session)
    return pick(random, choices)()


def random_extent(random: Random, session: Session) -> dict[str, Any]:
    """A place that can have settings, as the page would name it."""
    known = [s.extent.model_dump() for s in session.settings]
    if known and random.integers(2):
        return pick(random, known)
    strip = pick(random, [s for s in session.strips if s.chain] or session.strips)
    kind = pick(random, ["element", "stretch", "chain", "strip"])
    if kind == "element" and strip.chain:
        return {"kind": kind, "owner": pick(random, elements(strip.chain)).id}
    if kind == "stretch":
        ids = [None, *(x.id for x in strip.chain), None]
        begin = int(random.integers(len(ids) - 1))
        end = int(random.integers(begin + 1, len(ids)))
        return {"kind": kind, "owner": strip.id, "after": ids[begin], "before": ids[end]}
    return {"kind": "strip" if kind == "strip" else "chain", "owner": strip.id}


def random_key(random: Random, session: Session) -> dict[str, Any]:
    sources = ["own", *(f"strip:{s.id}" for s in session.strips)]
    for other in session.strips:
        sources += [f"stage:{x.id}" for x in elements(other.chain)]
        sources += [f"branch:{b.id}" for b in branches(other.chain)]
    key: dict[str, Any] = {"source": pick(random, sources), "tap": pick(random, ["in", "out"])}
    if random.integers(2):
        key["low_hz"] = float(random.uniform(20, 2000))
    return key


def random_lane(random: Random, session: Session) -> e.Edit:
    index = SessionIndex(session)
    owner = pick(random, sorted(index.ids - index.levers.keys()))
    stage = index.owner(owner)
    names = ["fader_db", "pan", "trim_db", "mix", "position", "gain_db"]
    if isinstance(stage, Stage):
        names = ["mix", *type(stage.params).model_fields]
    name = str(pick(random, names))
    scale = scale_of(stage, name)
    times = np.sort(random.uniform(0, FRAMES / RATE, random.integers(1, 5)))
    return e.SetLane(
        owner=owner,
        control=name,
        points=[
            {
                "at_s": float(t),
                "value": float(random.uniform(scale.low, scale.high)),
                "shape": pick(random, ["straight", "curved", "stepped"]),
            }
            for t in times
        ],
    )


def edited(random: Random, session: Session, count: int) -> Session:
    """Return the session after `count` random edits that could be done."""
    done = 0
    for _ in range(8 * count):
        if done == count:
            break
        try:
            changed, _ = random_edit(random, session).apply(session)
            make_plan(changed)
        except CoreError:
            continue
        session, done = changed, done + 1
    return session


def random_session(random: Random) -> Session:
    count = int(random.integers(2, 5))
    strips: list[dict[str, Any]] = [
        {
            "id": f"t{i}",
            "name": f"T{i}",
            "kind": "track",
            "audio": f"s{i}",
            "channels": SOUNDS[f"s{i}"].shape[1],
            "frames": FRAMES,
            "chain": [{"id": f"c{i}", "kind": "compressor", "params": {"threshold_db": -30}}],
        }
        for i in range(count)
    ]
    strips += [{"id": f"g{i}", "name": f"G{i}", "kind": "bus"} for i in range(2)]
    strips.append({"id": "main", "name": "Main", "kind": "main"})
    levers = [{"id": "l", "name": "L", "value": 0.5, "moves": [
        {"owner": "t0", "control": "fader_db", "low": -12, "high": 0}]}]  # fmt: skip
    session = checked(
        Session, {"name": "Random", "rate": RATE, "bpm": 96, "strips": strips, "levers": levers}
    )
    return edited(random, session, int(random.integers(4, 14)))
