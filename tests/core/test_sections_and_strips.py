"""Sections made, moved and taken away; strips moved, duplicated, marked; stages pasted."""

import pytest

from salt_anvil.core.edits import (
    AddSection,
    DuplicateStrip,
    MoveStrip,
    PasteElements,
    RemoveSection,
    SetLane,
    SetSection,
    SetStrip,
)
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import CoreError, SettingError
from salt_anvil.core.session import Session, Stage
from tests.sessions import FRAMES, small_session

SONG = FRAMES / 48000


def spans(session: Session) -> list[tuple[str, float, float]]:
    return [(n, round(b, 3), round(e, 3)) for n, b, e in session.section_spans()]


def made(*parts: tuple[float, float | None, str | None]) -> Session:
    session = small_session()
    for start, end, name in parts:
        session, _ = AddSection(start_s=start, end_s=end, name=name).apply(session)
    return session


def test_a_section_without_an_end_lasts_to_the_next_one() -> None:
    session = made((0.5, None, "Verse"), (2.0, None, "Reel"))
    assert spans(session) == [("Verse", 0.5, 2.0), ("Reel", 2.0, round(SONG, 3))]


def test_names_are_given_and_never_twice_the_same() -> None:
    session = made((0, 1, None), (1, 2, None), (2, 3, "Part 1"))
    assert [n for n, _, _ in spans(session)] == ["Part 1", "Part 2", "Part 1 2"]
    with pytest.raises(SettingError, match="already"):
        SetSection(section=0, name="Part 2").apply(session)


def test_what_a_new_section_covers_makes_room_and_is_named() -> None:
    session = made((0, 1, "a"), (1, 2, "b"), (2, 3, "c"))
    session, words = AddSection(start_s=0.5, end_s=2.5, name="new").apply(session)
    assert spans(session) == [("a", 0, 0.5), ("new", 0.5, 2.5), ("c", 2.5, 3)]
    assert words == "Section new added; shorter now: a, c; covered: b"


def test_edges_move_and_the_rest_follows() -> None:
    session = made((0, 1, "a"), (1, 2, "b"))
    session, _ = SetSection(section=0, end_s=1.5).apply(session)
    assert spans(session) == [("a", 0, 1.5), ("b", 1.5, 2)]
    session, words = SetSection(section=1, start_s=1.8).apply(session)
    assert spans(session) == [("a", 0, 1.5), ("b", 1.8, 2)]
    assert words == "Section b moved"
    session, _ = RemoveSection(section=0).apply(session)
    assert spans(session) == [("b", 1.8, 2)]


@pytest.mark.parametrize(
    ("start", "end", "words"), [(1.0, 0.5, "before it begins"), (99.0, None, "behind the end")]
)
def test_impossible_edges_are_refused(start: float, end: float | None, words: str) -> None:
    with pytest.raises(SettingError, match=words):
        AddSection(start_s=start, end_s=end).apply(small_session())


def test_strips_change_places() -> None:
    session, _ = MoveStrip(strip="c", before="a").apply(small_session())
    assert [s.id for s in session.strips] == ["c", "a", "b", "bus", "main"]
    session, _ = MoveStrip(strip="c").apply(session)
    assert [s.id for s in session.strips] == ["a", "b", "bus", "main", "c"]
    make_plan(session)


def test_a_duplicate_has_everything_under_ids_of_its_own() -> None:
    session, _ = SetLane(
        owner="a1", control="threshold_db", points=[{"at_s": 0, "value": -20}]
    ).apply(small_session())
    session, _ = DuplicateStrip(strip="a").apply(session)
    copy = session.strips[1]
    assert (copy.name, copy.output, copy.pan) == ("A 2", "bus", 0.3)
    assert copy.chain[0].id != "a1"
    assert [a.owner for a in session.automation] == ["a1", copy.chain[0].id]
    make_plan(session)
    with pytest.raises(CoreError, match="only one main bus"):
        DuplicateStrip(strip="main").apply(session)


def test_a_mark_is_a_letter() -> None:
    session, words = SetStrip(strip="a", field="mark", value="K").apply(small_session())
    assert session.strip("a").mark == "K"
    assert words == "A marked K"
    with pytest.raises(SettingError, match="mark"):
        SetStrip(strip="a", field="mark", value="two").apply(session)


def test_what_is_pasted_listens_to_what_is_here() -> None:
    session = small_session()
    gate = {"id": "g", "kind": "gate", "key": {"source": "stage:c1"}}
    lost = {"id": "h", "kind": "gate", "key": {"source": "strip:elsewhere"}}
    session, words = PasteElements(place="b", index=0, elements=[gate, lost]).apply(session)
    first, second = session.strip("b").chain[:2]
    assert isinstance(first, Stage)
    assert isinstance(second, Stage)
    assert first.key.source == "stage:c1"
    assert second.key.source == "own"
    assert words == "B: 2 stages pasted"
    make_plan(session)
    with pytest.raises(SettingError, match="harp"):
        PasteElements(place="b", index=0, elements=[{"id": "x", "kind": "harp"}]).apply(session)
