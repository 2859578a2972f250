"""Every kind of edit, made at random while a random session plays in the real player.

Held after each: sound goes on without a gap and stays finite, the player keeps no more than it
needs, and, once settled, what is heard is a fresh run of the session to the bit. A player that
is caught in a turn is ended by the alarm.
"""

import signal
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import pytest

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.strip_pass import analyse
from salt_anvil.core.audio import BLOCK
from salt_anvil.core.edits import apply_edits
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import CoreError
from salt_anvil.core.session import Session, branches, elements
from salt_anvil.kernels.cache import is_compiled
from salt_anvil.live.messages import Listen
from salt_anvil.live.playback import RenderCache
from salt_anvil.live.player import Player
from tests import long
from tests.live.shelves import OnDisk
from tests.random_sessions import FRAMES, random_play_edit, random_session, source

PLAYS = long.of(16, 160)
GROUPS = 8
EDITS = 14
SETTLED = 100
"""Blocks within which strips that were touched run again, at the latest."""
CODE = "code"
BESIDE = ThreadPoolExecutor(3)
STUCK_S = 20 if is_compiled() else 600
"""A turn takes milliseconds, or the compiler's time; only one that never ends is caught by this."""


@contextmanager
def not_stuck() -> Iterator[None]:
    def ring(*_: object) -> None:
        raise AssertionError("the player is caught in one turn")

    # Of this process's own time, so that it does not matter who else is busy.
    before = signal.signal(signal.SIGPROF, ring)
    signal.setitimer(signal.ITIMER_PROF, STUCK_S)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_PROF, 0)
        signal.signal(signal.SIGPROF, before)


class Listener:
    """Takes what a player gives, and holds that nothing is missing and nothing is not a number."""

    def __init__(self, player: Player, hungry: bool, random: np.random.Generator) -> None:
        self.player, self.hungry, self.random = player, hungry, random
        player.ahead.chosen = 320

    def hear(self, blocks: int) -> np.ndarray:
        parts = []
        for _ in range(blocks):
            if not self.player.playing:
                self.player.play(0)
            expected = self.player.frame
            for piece in self.player.pieces():
                assert piece.frame == expected
                assert np.isfinite(piece.sound).all()
                parts.append(piece.sound)
                expected += len(piece.sound)
                if self.player.loop and expected == self.player.loop[1]:
                    expected = self.player.loop[0]
            if self.hungry:
                # All is used up at once, so that several blocks are computed in one go.
                self.player.played(self.player.epoch, self.player._sent)
            # As the engine does: between two goes, if there is time, and as often as there is.
            for _ in range(self.random.integers(4) if self.hungry else 1):
                if not self.player.under_way:
                    self.player.prepare()
        mixer = self.player._mixer
        assert mixer is not None
        # What is kept: a few blocks a strip, however long it plays.
        for pieces, most in ((mixer._recent, 40), (mixer._routed, 120)):
            held = sum(p.end - p.first for kept in pieces.values() for p in kept)
            assert held <= most * len(mixer.plan.strips)
        return np.concatenate(parts)


def somewhere(random: np.random.Generator, session: Session) -> Listen:
    strip = session.strips[random.integers(len(session.strips))]
    places = [
        "chain",
        *(x.id for x in elements(strip.chain)),
        *(b.id for b in branches(strip.chain)),
    ]
    at = places[random.integers(len(places))]
    return Listen(strip=strip.id, at=at, alone=bool(random.integers(2)))


@pytest.mark.parametrize("group", range(GROUPS))
def test_every_edit_during_play(group: int, tmp_path: Path) -> None:
    for seed in range(group, PLAYS, GROUPS):
        with not_stuck():
            _play(seed, tmp_path / f"{seed}")


def _play(seed: int, folder: Path) -> None:
    random = np.random.default_rng(seed)
    session = random_session(random)
    shelf = OnDisk(None, folder) if seed % 2 else RenderCache()
    if isinstance(shelf, OnDisk):
        shelf.fill(session, source)
    hungry = bool(seed // 2 % 2)
    player = Player(session, source, shelf, beside=BESIDE if hungry else None)
    listener = Listener(player, hungry, random)
    player.play(0)
    past, coming = [], []
    for turn in range(EDITS):
        listener.hear(int(random.integers(1, 5)))
        act = random.integers(8)
        try:
            if act == 0 and past:
                coming.append(session)
                session = past.pop()
                player.confirm(session)
            elif act == 1 and coming:
                past.append(session)
                session = coming.pop()
                player.confirm(session)
            elif act == 2:
                player.listen(somewhere(random, session))
            elif act == 3:
                player.preview([random_play_edit(random, session)])
            elif act == 4:
                player.seek(int(random.integers(FRAMES)))
            elif act == 5:
                begin = int(random.integers(FRAMES - 3000))
                player.set_loop(begin, begin + int(random.integers(1100, FRAMES - begin)))
            else:
                changed, _ = apply_edits(session, [random_play_edit(random, session)])
                make_plan(changed)
                past.append(session)
                session, coming = changed, []
                player.confirm(session)
        except CoreError:
            player.preview([])
        if turn == EDITS // 2 and isinstance(shelf, OnDisk):
            shelf.fill(session, source)
    listener.hear(4)
    player.preview([])
    for _ in range(SETTLED):
        listener.hear(1)
        if player._thaw is None:
            break
    # Whatever was asked for at any moment is what plays, without another jump.
    assert player._plan == player._planned(session), seed
    assert player._listen == player._requested
    player.set_loop(None, None)
    player.listen(Listen())
    player.play(3 * BLOCK)
    heard = listener.hear(6)
    plan = make_plan(session, measured=shelf.join_measurement)
    mixer = Mixer(plan, source)
    whole = np.concatenate([mixer.block().faded[plan.main] for _ in range(9)])
    assert (heard[:, 2:] == whole[3 * BLOCK :]).all(), seed


def test_nothing_else_is_stored(tmp_path: Path) -> None:
    """The cache that the plays above read is the one that the analysis writes."""
    session = random_session(np.random.default_rng(1))
    cache = StripCache(tmp_path)
    analyse(session, CODE, source, cache, None, lambda *a: True)
    assert OnDisk(None, tmp_path).frozen(make_plan(session))
