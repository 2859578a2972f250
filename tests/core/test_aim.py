"""The search itself, against functions whose answer is known."""

import math

import pytest
from pydantic import ValidationError

from salt_anvil.core.aim import NEAR_DB, Aim, Wish, edit_for, find, span_of
from salt_anvil.core.edits import SetLane, apply_edits
from salt_anvil.core.errors import MissingError, SettingError
from tests.sessions import small_session


@pytest.mark.parametrize(("measure", "wanted", "value"), [
    (lambda v: -v, 4.0, -4.0),
    (lambda v: max(0.0, (-20 - v) * 0.75), 6.0, -28.0),  # nothing to be had over -20
    (lambda v: 20 * math.log10(1 + math.exp(-v / 6)), 12.0, None),
    (lambda v: (v + 30) ** 3 / 1000, 1.0, -20.0),
])  # fmt: skip
def test_what_can_be_reached_is_found(measure, wanted, value) -> None:  # type: ignore[no-untyped-def]
    found = find(measure, (-60.0, 0.0), wanted)
    assert found.problem is None
    assert found.got == pytest.approx(wanted, abs=NEAR_DB)
    assert found.got == pytest.approx(measure(found.value))
    assert len(found.steps) <= 14
    if value is not None:
        assert found.value == pytest.approx(value, abs=0.2)


def test_what_cannot_be_reached_is_said_with_the_nearest() -> None:
    found = find(lambda v: -v / 10, (-60.0, 0.0), 9.0)
    assert (found.value, found.problem) == (-60.0, "the whole range gives 0.0 to 6.0")
    found = find(lambda v: -14.0 if v > -33.3 else -40.0, (-60.0, 0.0), -20.0)
    assert found.problem == "it jumps over what is wanted"
    assert found.value == pytest.approx(-33.3, abs=0.1) or found.value == 0.0
    assert found.got == -14.0
    found = find(lambda v: None, (-60.0, 0.0), 3.0)
    assert found.problem == "there is nothing to be heard here"
    assert found.got is None


def test_what_can_be_aimed_with() -> None:
    session = small_session()
    wish = Wish(what="reduction", wanted=4)

    def aim(stage: str, control: str) -> Aim:
        return Aim(stage=stage, control=control, wish=wish, end=10)

    assert span_of(session, aim("a1", "threshold_db")) == (-60, 0)
    assert span_of(session, aim("a1", "mix")) == (0, 1)
    for control in ("lookahead_ms", "detector", "auto_makeup", "colour_of_hope"):
        with pytest.raises(SettingError):
            span_of(session, aim("a1", control))
    with pytest.raises(MissingError):
        span_of(session, aim("zz", "threshold_db"))
    steered = apply_edits(
        session,
        [SetLane(owner="a1", control="threshold_db", points=[{"at_s": 0, "value": -20}])],
    )[0]
    with pytest.raises(SettingError, match="moved by automation"):
        span_of(steered, aim("a1", "threshold_db"))
    for wrong in ({"wanted": math.nan}, {"percentile": 101}, {"what": "luck"}, {"kept": True}):
        with pytest.raises(ValidationError):
            Wish.model_validate({"what": "reduction", "wanted": 4} | wrong)
    changed, words = edit_for(aim("a1", "ratio"), 3.0, "aimed").apply(session)
    assert changed.strips[0].chain[0].params.ratio == 3.0  # type: ignore[union-attr]
    assert words == "A: compressor: aimed"
