"""Strips computed beside each other: the same bytes for any number of threads, and for none."""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.pieces import Pieces
from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import CoreError, DamagedError
from salt_anvil.jobs.render import blocks
from tests.random_sessions import FRAMES, random_session, source


def planned(seed: int) -> Plan:
    """The first plan from a seed on that can be run."""
    random = np.random.default_rng(seed)
    while True:
        try:
            return make_plan(random_session(random))
        except CoreError:
            continue


def printed(plan: Plan, threads: int, begin: int = 0, strip: str | None = None) -> Sound:
    name = strip or plan.main
    parts = [
        block.faded[name][low:high]
        for low, high, block in blocks(plan, source, begin, FRAMES, strip=strip, threads=threads)
    ]
    return np.concatenate(parts)


@pytest.mark.parametrize("seed", range(8))
def test_any_number_of_threads_gives_the_same_bytes(seed: int) -> None:
    plan = planned(seed)
    mixer = Mixer(plan, source)
    alone = [mixer.block().faded[plan.main] for _ in range(-(-FRAMES // BLOCK))]
    expected = np.concatenate(alone)[:FRAMES]
    for threads in (1, 2, 4):
        assert (printed(plan, threads) == expected).all(), threads
    # One strip alone, from the middle: what nobody asks for is not computed.
    first = plan.strips[0].strip.id
    middle = FRAMES // 2
    alike = [printed(plan, threads, middle, first) for threads in (1, 3)]
    assert (alike[0] == alike[1]).all()


def test_what_goes_wrong_in_a_thread_is_said() -> None:
    def broken(audio: str, begin: int, frames: int) -> Sound:
        raise DamagedError("the file is damaged", audio)

    with pytest.raises(DamagedError, match="damaged"):
        list(blocks(planned(1), broken, 0, FRAMES, threads=2))


def test_pieces_follow_one_another_until_they_lie_behind() -> None:
    pieces: Pieces[str] = Pieces()
    assert pieces.reach(5) == 5
    pieces.put(5, 3, "a")
    pieces.put(8, 1, "b")
    assert (pieces.reach(5), pieces.reach(8), pieces.reach(9), pieces.reach(4)) == (9, 9, 9, 4)
    assert pieces.cover(6, 3) == [("a", 1, 2), ("b", 0, 1)]
    reading = iter(pieces)
    assert next(reading).item == "a"
    # Another thread may put while one reads.
    pieces.put(9, 1, "c")
    assert [p.item for p in reading] == ["b"]
    pieces.drop_before(8)
    assert [p.item for p in pieces] == ["b", "c"]
    # What does not follow is a new beginning.
    pieces.put(20, 2, "d")
    assert [(p.first, p.end, p.item) for p in pieces] == [(20, 22, "d")]


def test_what_comes_next_is_begun_where_a_thread_is_idle() -> None:
    plan = planned(1)
    mixer, alone = Mixer(plan, source), Mixer(plan, source)
    with ThreadPoolExecutor(2) as pool:
        mixer.compute(8, pool, then=16, threads=2)
    known = {strip.strip.id: len(mixer.ahead(strip.strip.id)) for strip in plan.strips}
    assert min(known.values()) >= 8
    assert max(known.values()) >= 16
    for _ in range(20):
        mine, theirs = mixer.block().faded, alone.block().faded
        assert all((mine[name] == theirs[name]).all() for name in theirs)
