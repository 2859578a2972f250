"""The time ahead: grows when sound comes late, shrinks after quiet, stays where it is chosen.

And how many blocks are computed in one go.
"""

from salt_anvil.live.ahead import CALM_S, LEAST_MS, MOST_MS, MOST_QUIET_S, START_MS, Pace, TimeAhead


class Clock:
    now = 100.0

    def __call__(self) -> float:
        return self.now


def ahead() -> tuple[TimeAhead, Clock]:
    clock = Clock()
    return TimeAhead(clock), clock


def test_it_begins_with_some_and_not_behind_while_it_fills() -> None:
    time, clock = ahead()
    for ready in (0.0, 40.0, 120.0, START_MS + 2):
        time.note(ready)
        clock.now += 0.02
    assert time.ms == START_MS
    assert not time.behind


def test_it_grows_step_by_step_and_no_further_than_it_may() -> None:
    time, clock = ahead()
    time.note(START_MS)
    seen = [time.ms]
    for _ in range(40):
        clock.now += 0.3
        time.note(5.0)
        seen.append(time.ms)
    assert seen[1] == 1.5 * START_MS
    assert seen == sorted(seen)
    assert seen[-1] == MOST_MS
    assert time.behind


def test_one_late_moment_is_one_step() -> None:
    time, clock = ahead()
    time.note(START_MS)
    for _ in range(10):
        clock.now += 0.01
        time.note(5.0)
    assert time.ms == 1.5 * START_MS


def test_after_quiet_it_shrinks_and_is_not_behind() -> None:
    time, clock = ahead()
    time.note(START_MS)
    time.missed()
    grown = time.ms
    time.note(grown)
    clock.now += CALM_S + 0.1
    time.note(grown)
    assert not time.behind
    assert time.ms == grown
    for _ in range(100):
        clock.now += MOST_QUIET_S + 0.1
        time.note(time.ms)
    assert time.ms == LEAST_MS


def test_an_engine_that_never_fills_it_is_behind() -> None:
    time, clock = ahead()
    for _ in range(20):
        clock.now += 0.1
        time.note(30.0)
    assert time.behind


def test_what_is_chosen_by_hand_stays() -> None:
    time, clock = ahead()
    time.chosen = 40
    time.note(40)
    for _ in range(10):
        clock.now += 1
        time.note(1.0)
    assert time.ms == 40
    assert time.behind
    time.chosen = None
    assert time.ms > START_MS


def test_a_strain_grows_it_and_is_not_late() -> None:
    time, clock = ahead()
    time.note(START_MS)
    clock.now += 0.3
    time.strained()
    time.strained()
    assert time.ms == 1.5 * START_MS
    assert not time.behind


def test_as_many_as_are_surely_ready_in_time() -> None:
    pace = Pace()
    assert pace.usual_ms(1) == float("inf")
    assert pace.most(1000.0, 8) == 1
    pace.note(4, 40.0)
    assert [pace.usual_ms(n) for n in (1, 4, 8)] == [40.0, 40.0, 80.0]
    assert [pace.most(within, 8) for within in (39.0, 40.0, 60.0, 500.0)] == [1, 4, 6, 8]
    pace.note(1, 15.0)
    assert pace.most(30.0, 8) == 2


def test_what_was_slow_once_is_believed_at_once_and_forgotten_by_and_by() -> None:
    pace = Pace()
    for ms in (20.0, 20.0, 200.0):
        pace.note(2, ms)
    assert pace.slow_ms(2) == 200.0
    assert 20.0 < pace.usual_ms(2) < 60.0
    seen = []
    for _ in range(60):
        pace.note(2, 20.0)
        seen.append(pace.slow_ms(2))
    assert seen == sorted(seen, reverse=True)
    assert seen[0] > 150.0
    assert seen[-1] < 21.0
