"""What sounds different between two engines concerns only what a session has."""

from salt_anvil.core.engine_version import BEFORE, CHANGES, ENGINE, changes_since
from salt_anvil.core.processors import REGISTRY
from tests.core.engine.test_keys import session_of, track
from tests.core.engine.test_ways import MAIN, lane
from tests.routing import split, stage


def test_changes_name_kinds_that_there_are_and_rise() -> None:
    known = {*REGISTRY, "split", "automation"}
    assert all(set(change.kinds) <= known for change in CHANGES)
    assert [c.since for c in CHANGES] == sorted(c.since for c in CHANGES)
    assert CHANGES[0].since > BEFORE
    assert CHANGES[-1].since == ENGINE


def test_only_what_a_session_has_is_told() -> None:
    plain = session_of([track("a", stage("ducker")), MAIN])
    assert changes_since(BEFORE, ENGINE, plain) == []
    nested = split("copies", [stage("room")], [stage("limiter")])
    rich = session_of([track("a", nested), MAIN], automation=[lane("a", "pan", (0, 0), (1, 1))])
    said = changes_since(2, 3, rich)
    assert [line.split(": ")[1] for line in said] == ["limiter", "limiter", "split", "room",
                                                      "automation"]  # fmt: skip
    assert changes_since(ENGINE, ENGINE, rich) == []
    assert not any("engine 3" in line for line in changes_since(1, 2, rich))
