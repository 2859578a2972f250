"""A change is heard long before what was sent already has been: play goes back for it."""

from collections.abc import Callable
from itertools import count
from typing import Any

import numpy as np
import pytest

from salt_anvil.core.audio import BLOCK
from salt_anvil.core.edits import AddStage, Edit, SetParams, SetStrip
from salt_anvil.live.ahead import TimeAhead
from salt_anvil.live.messages import Listen
from salt_anvil.live.playback import RenderCache
from salt_anvil.live.player import AT_ONCE, Player
from salt_anvil.live.way_back import NEAR_MS
from salt_anvil.speed.client import Heard, Unheard
from tests.sessions import small_session, source

AHEAD_MS = 640
QUIETER = SetParams(stage="a1", params={"threshold_db": -55, "makeup_db": -9})
LISTENS = [Listen(strip="a"), Listen(strip="a", at="a1", alone=True)]


def playing(listen: Listen, frame: int = 0) -> Player:
    # Time stands still: nothing is late, however busy the machine is.
    player = Player(small_session(), source, RenderCache(), ahead=TimeAhead(lambda: 0.0))
    player.ahead.chosen = AHEAD_MS
    player.listen(listen)
    player.play(frame)
    assert player.arrive()
    return player


class Held:
    """What a tab holds, as it is told; where something came once more, and where changes begin."""

    def __init__(self, player: Player) -> None:
        self.player, self.sound, self.again = player, np.zeros((0, 4)), list[int]()
        self.reports: dict[int, Any] = {}
        self._until = 0
        self.changes: dict[int, list[Edit]] = {}
        self._newest: list[Edit] = []

    def preview(self, *edits: Edit) -> None:
        self.player.preview([*edits])
        self._newest = [*edits]
        self._note(self.player._sent)

    def _note(self, frame: int) -> None:
        """A change of before is forgotten where it would come later than this one."""
        self.changes = {at: e for at, e in self.changes.items() if at < frame}
        self.changes[frame] = self._newest

    def fill(self) -> "Held":
        """Take all that the player wants to give."""
        while self.player.wants():
            self.take()
        return self

    def take(self) -> None:
        """Take what is computed in one go."""
        self._take_block()
        while self.player.under_way:
            self._take_block()

    def _take_block(self) -> None:
        for piece in self.player.pieces():
            begin = len(self.sound) - piece.again
            if begin != self._until:
                self.again.append(begin)
                self._note(begin)
            self._until = begin + len(piece.sound)
            self.reports[begin] = piece.report.model_dump()
            after = self.sound[self._until :]
            self.sound = np.concatenate([self.sound[:begin], piece.sound, after])


def known_from(changes: dict[int, list[Edit]], listen: Listen, end: int) -> Held:
    """Return what is held where changes are made exactly there, and play never goes back."""
    player = playing(listen)
    player.ahead.chosen = 40
    held = Held(player)
    while len(held.sound) < end:
        if len(held.sound) in changes:
            player.preview(changes[len(held.sound)])
        held.take()
        player.played(player.epoch, player._sent)
    assert not held.again
    held.sound = held.sound[:end]
    return held


@pytest.mark.parametrize("listen", LISTENS, ids=["in the mix", "alone"])
def test_a_change_is_heard_where_it_can_be_first(listen: Listen) -> None:
    """From there on the same sound, to the bit, as if no more had ever been sent; the same told."""
    player = playing(listen)
    held = Held(player).fill()
    heard = 7 * BLOCK + 100
    player.played(player.epoch, heard)
    held.fill()
    sent = player._sent
    held.preview(QUIETER)
    assert player._sent < sent
    held.fill()
    [back] = held.again
    near, apart = NEAR_MS * 48, AT_ONCE * BLOCK
    assert heard + near <= back < heard + 2 * near + apart
    known = known_from({back: [QUIETER]}, listen, len(held.sound))
    assert (held.sound == known.sound).all()
    assert not (known.sound == known_from({}, listen, len(held.sound)).sound).all()
    spectra = {"spectrum": None, "sides": None}  # remember what they were shown
    for at, told in held.reports.items():
        assert told | spectra == known.reports[at] | spectra


@pytest.fixture
def ticking(monkeypatch: pytest.MonkeyPatch) -> None:
    """A clock that goes on by 0.1 s whenever it is looked at."""
    clock = count()
    monkeypatch.setattr("salt_anvil.live.way_back.time.monotonic", lambda: 0.1 * next(clock))


@pytest.mark.usefixtures("ticking")
def test_of_many_changes_the_last_is_heard_and_the_others_are_forgotten() -> None:
    """As in a drag: each goes back for itself, or all that wait for it do together."""
    player = playing(LISTENS[0])
    held = Held(player).fill()
    heard = 10 * BLOCK
    for turn in range(12):
        heard += BLOCK // 2
        player.played(player.epoch, heard)
        held.preview(SetParams(stage="a1", params={"makeup_db": float(turn)}))
        if turn % 3 == 0:
            held.fill()
        elif turn % 3 == 1:
            held.take()
        if player._anew:
            player.took(2, 100.0)
    while player._way.late:
        heard += BLOCK
        player.played(player.epoch, heard)
        held.fill()
    held.fill()
    end = player._sent  # what lies behind it is still as it was
    known = known_from(held.changes, LISTENS[0], end)
    assert (held.sound[:end] == known.sound).all()
    assert len(held.again) > 1


@pytest.mark.usefixtures("ticking")
def test_a_change_waits_where_the_last_took_long() -> None:
    player = playing(LISTENS[0])
    held = Held(player).fill()
    held.preview(QUIETER)
    held.take()
    player.took(2, 1000.0)
    held.preview(SetParams(stage="a1", params={"makeup_db": 5.0}))
    assert player._way.late
    while player._way.late:
        held.fill()
    assert held.again[1] == held.again[0]
    known = known_from(held.changes, LISTENS[0], len(held.sound))
    assert (held.sound == known.sound).all()


ELSEWHERE: list[Edit] = [SetStrip(strip="c", field="fader_db", value=-12)]
WIRED: list[Edit] = [AddStage(place="a", index=0, kind="trim")]


@pytest.mark.parametrize("edits", [ELSEWHERE, WIRED], ids=["another strip", "another chain"])
def test_what_cannot_be_made_there_is_made_where_the_sound_ends(edits: list[Edit]) -> None:
    player = playing(LISTENS[0])
    held = Held(player).fill()
    sent = player._sent
    held.preview(*edits)
    assert player._sent == sent
    # Nor is gone back behind it later.
    held.preview(*edits, QUIETER)
    assert player._sent == sent
    player.played(player.epoch, sent // 2)
    held.fill()
    assert not held.again
    assert np.isfinite(held.sound).all()


def _seek(player: Player) -> None:
    player.seek(50_000)
    player.arrive()


def _elsewhere(player: Player) -> None:
    player.listen(Listen(strip="b"))


@pytest.mark.parametrize("go", [_seek, _elsewhere, Player.stop, Player.begin_again])
def test_after_something_else_nothing_is_gone_back_to(go: Callable[[Player], None]) -> None:
    player = playing(LISTENS[0])
    Held(player).fill()
    go(player)
    sent = player._sent
    player.preview([QUIETER])
    assert player._sent == sent
    if player.playing:
        assert not Held(player).fill().again


def test_a_loop_is_not_gone_back_across() -> None:
    player = playing(LISTENS[0])
    player.set_loop(0, 12 * BLOCK + 10)
    held = Held(player).fill()
    assert player._sent > 12 * BLOCK + 10
    player.preview([QUIETER])
    held.fill()
    assert all(at >= 12 * BLOCK + 10 for at in held.again)


def test_with_little_time_ahead_nothing_is_remembered() -> None:
    player = playing(LISTENS[0])
    player.ahead.chosen = 80
    Held(player).fill()
    assert not player._way.places
    assert player._mixer is not None
    assert player._mixer.held_from is None


def test_what_is_held_to_go_back_to_is_let_go_behind_the_ear() -> None:
    player = playing(LISTENS[0])
    for _ in range(60):
        Held(player).fill()
        player.played(player.epoch, player._sent - 10 * BLOCK)
    assert len(player._way.places) < 20
    assert player._mixer is not None
    held = [piece for pieces in player._mixer._recent.values() for piece in pieces]
    assert min(piece.end for piece in held) * BLOCK > player._sent - 30 * BLOCK


@pytest.mark.usefixtures("ticking")
def test_computing_is_left_off_for_what_is_asked() -> None:
    """What was computed of others is kept; what comes then is the same to the bit, also where a
    change was made at that very place."""
    turns, values = count(), count(1)
    player = playing(LISTENS[0])
    player._asked = lambda: next(turns) % 7 in (1, 2, 4)
    held, left_off = Held(player), 0
    while len(held.sound) < 90 * BLOCK:
        if not player.compute():
            left_off += 1
            continue
        held.take()
        player.played(player.epoch, max(player._sent - 20 * BLOCK, 0))
        if len(held.again) < 3 and player._sent > 40 * BLOCK:
            held.preview(SetParams(stage="a1", params={"makeup_db": -0.1 * next(values)}))
    assert left_off >= 4
    assert len(held.again) >= 2
    known = known_from(held.changes, LISTENS[0], len(held.sound))
    assert (held.sound == known.sound).all()


def test_a_tab_puts_what_comes_once_more_in_the_place_of_what_it_was() -> None:
    """Also where some of it has been heard: that is left out."""

    def piece(again: int, frame: int, value: float, frames: int = 4) -> Heard:
        return Heard(1, again, frame, 48000, np.full((frames, 4), value), b"{}")

    def waiting() -> list[tuple[int, float, int]]:
        return [(h.frame, h.sound[0, 0], len(h.sound)) for h in unheard]

    unheard = Unheard([piece(0, 0, 1.0), piece(0, 4, 2.0), piece(0, 8, 3.0)])
    unheard.put([piece(6, 6, 4.0)])
    assert waiting() == [(0, 1.0, 4), (4, 2.0, 2), (6, 4.0, 4), (10, 3.0, 2)]
    unheard.put([piece(2, 10, 5.0)])
    assert waiting()[2:] == [(6, 4.0, 4), (10, 5.0, 4)]
    while unheard[0].frame < 10:
        unheard.popleft()
    unheard.put([piece(10, 4, 6.0), piece(6, 8, 7.0)])
    assert waiting() == [(10, 7.0, 2), (12, 5.0, 2)]
