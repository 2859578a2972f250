"""The blind test's arithmetic against scipy's binomial distribution and closed forms."""

import pytest
from scipy.stats import binom

from salt_anvil.core import edits as e
from salt_anvil.core.errors import SettingError
from salt_anvil.core.guessing import by_guessing, worth_reaching
from tests.sessions import small_session


@pytest.mark.parametrize("choices", [2, 3, 4, 5])
@pytest.mark.parametrize("rounds", [1, 2, 5, 12, 50])
def test_the_tail_of_the_binomial_distribution(rounds: int, choices: int) -> None:
    for right in range(rounds + 1):
        other = binom.sf(right - 1, rounds, 1 / choices)
        assert by_guessing(right, rounds, choices) == pytest.approx(other, rel=1e-9)


def test_closed_forms() -> None:
    assert by_guessing(12, 12) == 2**-12
    assert by_guessing(0, 7, 3) == 1
    assert by_guessing(10, 12) == (66 + 12 + 1) / 4096
    assert by_guessing(4, 5, 3) == (5 * 2 + 1) / 243


def test_what_is_worth_reaching() -> None:
    assert [right for right, _ in worth_reaching(12)] == [9, 10, 11, 12]
    assert [right for right, _ in worth_reaching(3, 5)] == [3]
    assert worth_reaching(3) == []


@pytest.mark.parametrize(
    ("right", "rounds", "choices"),
    [(3, 2, 2), (-1, 2, 2), (0, 0, 2), (1, 51, 2), (1, 2, 1), (1, 2, 6)],
)
def test_what_cannot_be_counted(right: int, rounds: int, choices: int) -> None:
    with pytest.raises(SettingError, match="can be counted"):
        by_guessing(right, rounds, choices)


def test_a_trial_is_kept_with_the_session() -> None:
    place = {"kind": "chain", "owner": "a"}
    trial = e.KeepTrial(extent=place, kind="match", choices=["A", "B"], rounds=6, right=5, at=1e9)
    session, words = trial.apply(small_session())
    kept = session.trials[0]
    assert kept.chance == pytest.approx(7 / 64)
    assert words == "A: chain: A and B in a blind test, 5 of 6 right"
    best = e.KeepTrial(extent=place, kind="pick", choices=["A", "B", "in"], rounds=5, right=4,
                       best="B", at=1e9)  # fmt: skip
    session, words = best.apply(session)
    assert [t.kind for t in session.trials] == ["match", "pick"]
    assert words == "A: chain: A, B and in in a blind test, B best 4 times of 5"
    for wrong in ({"choices": ["A"]}, {"choices": ["A", "B", "C"]}, {"right": 7}):
        with pytest.raises(SettingError):
            trial.model_copy(update=wrong).apply(session)
