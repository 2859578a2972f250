"""How likely a score in a blind test is by guessing.

Binomial, one-sided, as in the procedure with X matched against A and B: D. Clark, "High-Resolution
Subjective Testing Using a Double-Blind Comparator", J. Audio Eng. Soc. 30(5), 1982 (from memory).
"""

from math import comb

from salt_anvil.core.errors import SettingError

MOST_ROUNDS = 50


def by_guessing(right: int, rounds: int, choices: int = 2) -> float:
    """Return the probability of at least `right` right answers of `rounds`, each one of `choices`.

    Raises:
        SettingError: there are no such numbers.
    """
    if not (1 <= rounds <= MOST_ROUNDS and 0 <= right <= rounds and 2 <= choices <= 5):
        raise SettingError(
            f"{right} right of {rounds} among {choices}: 1 to {MOST_ROUNDS} rounds among 2 to 5"
            " can be counted"
        )
    ways = sum(
        comb(rounds, hits) * (choices - 1) ** (rounds - hits) for hits in range(right, rounds + 1)
    )
    return float(ways / choices**rounds)


def worth_reaching(rounds: int, choices: int = 2, most: int = 4) -> list[tuple[int, float]]:
    """Return the scores from which on guessing becomes unlikely, and how likely each is."""
    scores = [(right, by_guessing(right, rounds, choices)) for right in range(rounds + 1)]
    rare = [s for s in scores if s[1] <= 0.1]
    shown = rare[:most]
    if rare and rare[-1] not in shown:
        shown[-1] = rare[-1]
    return shown
