"""A player without a process: credit, jumps, loops, previews, comparing inside the mix."""

import math
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest

from salt_anvil.core.audio import BLOCK
from salt_anvil.core.edits import SetParams, SetStrip
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.strip import StripBlock
from salt_anvil.core.errors import CoreError
from salt_anvil.core.session import Session, checked
from salt_anvil.core.state import State
from salt_anvil.live.ahead import START_MS
from salt_anvil.live.messages import COMMAND, HEADER, Listen, Preview
from salt_anvil.live.playback import AT_ONCE as ON_THE_WAY
from salt_anvil.live.playback import PlaybackRun, RenderCache
from salt_anvil.live.player import AT_ONCE, SHARE_AT_ONCE, Player
from salt_anvil.live.reports import Place, Reporter
from salt_anvil.live.worker import Seat
from tests.live.shelves import OnDisk
from tests.sessions import FRAMES, compressor, small_session, source


class Kept(RenderCache):
    """Checkpoints of a whole run, as the analysis would have stored them."""

    def __init__(self, session: Session) -> None:
        self._states: dict[int, dict[str, State]] = {}
        mixer = Mixer(make_plan(session), source)
        mixer.keep = lambda n, b, s: self._states.setdefault(b, {}).update({n: s})
        self.sound = np.concatenate([mixer.block().faded["main"] for _ in range(150)])

    def states(self, plan: Plan, names: set[str], block: int) -> tuple[int, dict[str, State]]:
        at = max(b for b in self._states if b <= block)
        return (at, {n: s.clone() for n, s in self._states[at].items()}) if at else (0, {})


@pytest.fixture(scope="module")
def kept() -> Kept:
    return Kept(small_session())


def played(player: Player, frames: int) -> tuple[list[int], np.ndarray]:
    places, parts, got = [], [], 0
    while got < frames:
        for piece in player.pieces():
            places.append(piece.frame)
            parts.append(piece.sound)
            got += len(piece.sound)
        for _ in range(AT_ONCE):
            player.prepare()  # as often as there is time for between two that are wanted
    return places, np.concatenate(parts)


def test_sound_stays_a_little_ahead(kept: Kept) -> None:
    player = Player(small_session(), source, kept)
    player.play(0)
    assert not player.wants()
    assert player.arrive()
    sent = 0
    while player.wants():
        sent += sum(len(p.sound) for p in player.pieces())
    # What is computed in one go is not begun before it fits in.
    least = START_MS * (1 - SHARE_AT_ONCE)
    assert least <= sent / 48 < START_MS + 1000 * BLOCK / 48_000
    player.played(player.epoch, 4 * BLOCK)
    assert player.wants()
    player.played(player.epoch - 1, 10**6)
    player.stop()
    assert not player.wants()


def test_as_many_are_computed_in_one_go_as_can_be_waited_for(kept: Kept) -> None:
    player = Player(small_session(), source, kept)
    player.ahead.chosen = 640
    player.play(0)

    def in_one_go() -> int:
        count = 1
        player.pieces()
        while player.under_way:
            player.pieces()
            count += 1
        return count

    # Nothing is heard yet, so nobody waits in vain.
    assert in_one_go() == AT_ONCE
    player.took(AT_ONCE, 80.0)
    player.took(1, 15.0)
    assert in_one_go() == AT_ONCE
    player.played(player.epoch, player.sent - 2 * BLOCK)
    assert in_one_go() == 2
    # One at a time would take longer than it sounds, so one gap is better than many.
    for _ in range(50):
        player.took(1, 30.0)
    player.played(player.epoch, player.sent - BLOCK)
    assert in_one_go() == AT_ONCE


def test_hardly_as_fast_as_it_sounds_means_more_time_ahead(kept: Kept) -> None:
    player = Player(small_session(), source, kept)
    player.play(0)
    player.took(3, 0.7 * 64)
    assert player.ahead.ms == START_MS
    player.ahead._grown = -math.inf  # As if the last change were long ago.
    for _ in range(20):
        player.took(3, 0.95 * 64)
    assert player.ahead.ms > START_MS
    assert not player.ahead.behind


@pytest.mark.parametrize("frame", [0, 1, 66_000, 131_073])
def test_a_seek_stands_where_the_whole_would(kept: Kept, frame: int) -> None:
    player = Player(small_session(), source, kept)
    player.play(frame)
    places, sound = played(player, 8 * BLOCK)
    assert places[0] == frame
    assert (sound[:, 2:] == kept.sound[frame : frame + len(sound)]).all()


def test_play_starts_where_there_is_no_time_to_get_there(monkeypatch: pytest.MonkeyPatch) -> None:
    """It stands at the place asked for, and goes over to what the whole song has there."""
    monkeypatch.setattr("salt_anvil.live.player.START_S", 0.0)
    player = Player(small_session(), source, RenderCache())
    player.listen(Listen(strip="a"))
    player.play(100_000)
    while not player.arrive(0.0):
        pass
    places, sound = [], np.zeros((0, 4))
    while player._catching is not None and len(sound) < 30 * BLOCK:
        more, heard = played(player, BLOCK)
        places, sound = places + more, np.concatenate([sound, heard])
        for _ in range(20):
            player.prepare()
    assert player._catching is None
    assert places[0] == 100_000
    assert np.abs(sound[:BLOCK]).max() > 0.01
    assert np.isfinite(sound).all()
    assert np.abs(np.diff(sound[:, 2])).max() < 4
    _, after = played(player, 8 * BLOCK)
    at = 100_000 + len(sound)
    assert (after[:, 2:] == Kept(small_session()).sound[at : at + len(after)]).all()


def test_nothing_is_prepared_while_play_is_behind(kept: Kept) -> None:
    player = Player(small_session(), source, kept)
    player.set_loop(70_010, 90_007)
    player.play(70_010)
    for _ in range(100):
        sent = sum(len(p.sound) for p in player.pieces())
        player.played(player.epoch, player._played + sent)
        assert player.wants()
        player.prepare()
    assert player._ready is None


def test_a_loop_is_the_same_every_time_round(kept: Kept) -> None:
    player = Player(small_session(), source, kept)
    begin, end = 70_010, 90_007
    player.set_loop(begin, end)
    player.play(begin)
    _, sound = played(player, 3 * (end - begin))
    turn = kept.sound[begin:end]
    for index in range(3):
        piece = sound[index * len(turn) : (index + 1) * len(turn), 2:]
        assert (piece == turn[: len(piece)]).all(), index


def test_a_loop_without_checkpoints_goes_on_warm(kept: Kept) -> None:
    player = Player(small_session(), source, RenderCache())
    player.set_loop(100_000, 110_000)
    player.play(100_000)
    places, sound = played(player, 30_000)
    assert places.count(100_000) >= 2
    assert np.isfinite(sound).all()
    assert np.abs(np.diff(sound[9_000:11_000, 2])).max() < 4


def test_just_behind_a_loops_end_no_more_is_computed_in_one_go() -> None:
    """What was sure to be asked for before the jump back is not asked for behind it."""
    player = Player(small_session(), source, RenderCache())
    player.ahead.chosen = 640
    player.set_loop(20 * BLOCK, 60 * BLOCK)
    player.play(20 * BLOCK)
    before, turned = 0, 0
    while turned < 2:
        turned += player.frame < before
        before = player.frame
        go(player)
        assert player._mixer is not None
        read = max(r.next_in for r in player._mixer._runners.values())
        # Everybody reads ahead by a latency, and those whom he reads by theirs.
        assert read <= player._mixer.position + 5


def test_a_loop_gives_no_more_than_fits_into_the_time_ahead() -> None:
    """What was foreseen before it begins anew is not foreseen any more."""
    player = Player(small_session(), source, RenderCache())
    player.set_loop(100_000, 110_000)
    player.play(100_000)
    while not player.arrive():
        pass
    most = 0.0
    for _ in range(200):
        while player.wants():
            player.pieces()
            most = max(most, player.ready_ms)
        player.played(player.epoch, player._played + BLOCK)
    assert most < player.ahead.ms + (AT_ONCE + 1) * 1000 * BLOCK / 48000


def test_play_with_a_loop_stands_in_the_loop(kept: Kept) -> None:
    player = Player(small_session(), source, kept)
    player.play(60_000)
    player.set_loop(70_000, 80_000)
    assert player.frame == 70_000
    player.stop()
    player.play(5)
    assert player.frame == 70_000
    player.set_loop(None, None)
    assert player.loop is None
    player.set_loop(10, 20)
    assert player.loop is None


def test_the_song_ends(kept: Kept) -> None:
    player = Player(small_session(), source, kept)
    player.play(FRAMES - 2000)
    for _ in range(200):
        if not player.playing:
            break
        player.pieces()
    assert not player.playing
    assert player.frame == 0


def test_a_preview_is_taken_back(kept: Kept) -> None:
    player = Player(small_session(), source, kept)
    player.listen(Listen(strip="b", at="b1", alone=True))
    player.play(0)
    played(player, 4 * BLOCK)
    player.preview([SetParams(stage="b1", params={"makeup_db": -24})])
    _, quiet = played(player, 8 * BLOCK)
    player.preview([])
    _, back = played(player, 8 * BLOCK)
    assert np.abs(quiet[4096:, 2]).mean() < 0.3 * np.abs(back[4096:, 2]).mean()
    with pytest.raises(CoreError, match="1 to 100"):
        player.preview([SetParams(stage="b1", params={"ratio": 1e6})])


def unbent() -> Player:
    """A player that plays one strip, everything else muted and nothing reduced."""
    session = small_session()
    for name in ("a", "c"):
        session, _ = SetStrip(strip=name, field="mute", value=True).apply(session)
    for stage in ("b1", "bus1", "main1"):
        session, _ = SetParams(stage=stage, params={"ratio": 1}).apply(session)
    player = Player(session, source, RenderCache())
    player.listen(Listen(strip="b", at="b1"))
    player.play(0)
    return player


def test_in_the_mix_the_untreated_side_is_levelled(kept: Kept) -> None:
    player = unbent()
    player.same_loudness(-6.0)
    _, sound = played(player, 8 * BLOCK)
    late = sound[3 * BLOCK :]
    assert np.abs(late[:, :2] * 10 ** (6 / 20) - late[:, 2:]).max() < 1e-6


def test_in_the_mix_the_treated_side_is_levelled_without_a_click(kept: Kept) -> None:
    """Both sides of one strip, everything else muted and unbent: gains are exact after a glide."""
    player = unbent()
    _, plain = played(player, 12 * BLOCK)
    player.seek(0)
    _, first = played(player, 4 * BLOCK)
    player.same_loudness(-2.0, -6.0)
    _, second = played(player, 8 * BLOCK)
    sound = np.concatenate([first, second])
    gain = np.abs(sound[:, 2]) / np.maximum(np.abs(plain[:, 2]), 1e-9)
    heard = np.abs(plain[:, 2]) > 1e-3
    assert gain[heard][-2000:] == pytest.approx(10 ** (-6 / 20), abs=1e-5)
    glide = np.flatnonzero(heard)[:-1]
    steps = np.abs(np.diff(gain[heard]))[np.diff(np.flatnonzero(heard)) < 4]
    assert len(glide) and steps.max() < 4 / BLOCK
    before = np.abs(second[-2000:, 0]).max() / np.abs(plain[-2000:, 0]).max()
    assert before == pytest.approx(10 ** (-2 / 20), abs=1e-4)
    # Elsewhere, and alone, nothing is levelled.
    player.listen(Listen(strip="b", at="b1", alone=True))
    _, alone = played(player, 4 * BLOCK)
    assert np.abs(alone[-1000:, :2] - alone[-1000:, 2:]).max() < 1e-6


def test_listening_elsewhere_makes_no_gap(kept: Kept) -> None:
    player = Player(small_session(), source, kept)
    player.play(50_000)
    places, _first = played(player, 4 * BLOCK)
    for where in (
        Listen(strip="a", at="a1"),
        Listen(strip="c", at="chain", alone=True),
        Listen(strip="main"),
        Listen(),
    ):
        player.listen(where)
        more, sound = played(player, 3 * BLOCK)
        places += more
        assert np.isfinite(sound).all()
    assert places == [50_000, *range(49 * BLOCK, places[-1] + 1, BLOCK)]
    # Back at the main bus: what was heard in between has left no trace in the sound.
    end = places[-1] + BLOCK
    assert (sound[-BLOCK:, 2:] == kept.sound[end - BLOCK : end]).all()


def test_messages_refuse_what_is_not_theirs() -> None:
    assert COMMAND.validate_json('{"type": "preview", "edits": []}') == Preview(edits=[])
    with pytest.raises(ValueError, match="frame"):
        COMMAND.validate_json('{"type": "seek", "frame": -1}')
    assert HEADER.size == 32


def test_strips_are_computed_beside_each_other_where_one_processor_is_hardly_enough() -> None:
    """The same sound, from the first after a seek on; where there is room again, one does it."""
    sounds = []
    for beside in (None, ThreadPoolExecutor(3)):
        player = Player(small_session(), source, RenderCache(), beside=beside)
        player.ahead.chosen = 640
        parts = []
        for frame in (0, 70_000):
            player.play(frame)
            for _ in range(20):
                parts.append(played(player, BLOCK)[1])
                player.played(player.epoch, player.sent)
        sounds.append(np.concatenate(parts))
        assert player._spread == (beside is not None)
        for share, spread in ((0.6, True), (0.4, False), (0.6, False), (0.8, True)):
            for _ in range(60):
                player.took(AT_ONCE, share * AT_ONCE * player._block_ms)
            played(player, AT_ONCE * BLOCK)
            player.played(player.epoch, player.sent)
            assert player._spread == (spread and beside is not None)
    assert (sounds[0] == sounds[1]).all()


@pytest.mark.parametrize("at", ["chain", "c2"])
def test_what_is_told_is_the_same_however_many_blocks_are_computed_in_one_go(at: str) -> None:
    """Of a strip with several stages as a whole, and of one of them."""
    told = []
    for ahead in (40, 640):
        player = Player(small_session(), source, RenderCache())
        player.ahead.chosen = ahead
        player.listen(Listen(strip="c", at=at))
        player.play(0)
        reported: list[str] = []
        together = 1
        while len(reported) < 48:
            reported += [p.report.model_dump_json() for p in player.pieces()]
            player.took(1, 1.0)
            together = max(together, player._together)
            player.played(player.epoch, max(player.sent - 30 * BLOCK, 0))
        assert together == (1 if ahead == 40 else AT_ONCE)
        told.append(reported[:48])
    assert told[0] == told[1]
    assert '"reduction":[]' not in told[0][40]


def test_meters_of_what_was_computed_in_one_go() -> None:
    """Block by block; a stage may have told less than there is sound."""
    plan = make_plan(small_session())
    reporter = Reporter(plan.rate)
    reporter._at = Place(plan, Mixer(plan, source), Listen())
    stage = plan.strip("a").stages[0].id
    cells = np.array([[1.0], [4.0]] + [[2.0]] * 18)
    given = StripBlock(np.zeros((3 * BLOCK, 1)), cells={stage: {"reduction_db": cells}})
    assert reporter._most_reduced("a", given) == [4.0, 2.0, 0.0]


def test_on_the_way_no_more_is_computed_in_one_go_than_can_be_waited_for() -> None:
    for beside in (None, ThreadPoolExecutor(3)):
        head = PlaybackRun(make_plan(small_session()), source, RenderCache(), 100, Listen())
        most = 0
        while not head.roll(beside):
            ahead = max(head.mixer.runner(n).next_out for n in "abc") - head.mixer.position
            most = max(most, ahead)
        # Who is read is read ahead by its reader's latency.
        assert ON_THE_WAY / 2 < most <= ON_THE_WAY + 2


# Strips that are read, and thawed when they are touched ------------------------------------------


def routed() -> Session:
    """The small session with a blend on A, a key from C, and a send."""
    model = small_session().model_dump()
    model["strips"][0]["chain"] += [
        {
            "id": "blend",
            "kind": "split",
            "by": "copies",
            "join": {"law": "steady", "position": 0.4},
            "branches": [
                {"id": "dry", "name": "dry"},
                {"id": "wet", "name": "wet", "chain": [compressor("w1", ratio=20)]},
            ],
        }
    ]
    model["strips"][1]["chain"][0]["key"] = {"source": "strip:c"}
    model["strips"][1]["sends"] = [{"to": "main", "gain_db": -12}]
    return checked(Session, model)


@pytest.fixture(scope="module")
def disk(tmp_path_factory: pytest.TempPathFactory) -> OnDisk:
    return OnDisk(routed(), tmp_path_factory.mktemp("play") / "cache")


@pytest.fixture(scope="module")
def whole(disk: OnDisk) -> np.ndarray:
    plan = make_plan(routed(), measured=disk.join_measurement)
    assert not plan.missing()
    mixer = Mixer(plan, source)
    return np.concatenate([mixer.block().faded["main"] for _ in range(150)])


def test_only_what_is_needed_runs(disk: OnDisk, whole: np.ndarray) -> None:
    player = Player(routed(), source, disk)
    player.listen(Listen(strip="b", at="b1"))
    player.play(70_000)
    assert player.arrive()
    assert player._mixer is not None
    assert set(player._mixer.frozen) == {"a", "c"}
    _, sound = played(player, 20 * BLOCK)
    assert (sound[:, 2:] == whole[70_000 : 70_000 + len(sound)]).all()


def test_listening_elsewhere_thaws_without_a_trace(disk: OnDisk, whole: np.ndarray) -> None:
    player = Player(routed(), source, disk)
    player.listen(Listen(strip="b", at="b1"))
    player.play(66_000)
    parts = [played(player, 3 * BLOCK)[1]]
    player.listen(Listen(strip="a", at="wet"))
    parts.append(played(player, 40 * BLOCK)[1])
    assert player._mixer is not None
    assert "a" not in player._mixer.frozen
    player.listen(Listen())
    parts.append(played(player, 5 * BLOCK)[1])
    sound = parts[2][:, 2:]
    at = 66_000 + sum(len(p) for p in parts[:2])
    assert np.abs(sound - whole[at : at + len(sound)]).max() < 1e-6


def test_a_frozen_strip_that_is_edited_is_thawed_and_heard(disk: OnDisk) -> None:
    player = Player(routed(), source, disk)
    player.listen(Listen(strip="b", at="b1"))
    player.play(0)
    played(player, 2 * BLOCK)
    player.preview([SetStrip(strip="c", field="mute", value=True)])
    player.preview([SetParams(stage="c1", params={"makeup_db": -24})])
    _, sound = played(player, 60 * BLOCK)
    assert player._mixer is not None
    assert "c" not in player._mixer.frozen
    expected = Mixer(make_plan(player._model, measured=disk.join_measurement), source)
    for _ in range(62):
        block = expected.block()
    assert np.abs(sound[-BLOCK:, 2:] - block.faded["main"]).max() < 0.01


def bussed() -> Session:
    """The same, with A going through a bus of its own."""
    model = routed().model_dump()
    bus = {"id": "own", "name": "own", "kind": "bus", "chain": [compressor("own1", ratio=3)]}
    model["strips"].insert(3, bus)
    model["strips"][0]["output"] = "own"
    return checked(Session, model)


LOOP = (10 * BLOCK, 40 * BLOCK)


def looping(tmp_path: Path, at: int) -> Player:
    """Return a player in a loop, which listens to B, eight blocks in one go; A and its bus are
    read. It stands before a block."""
    player = Player(bussed(), source, OnDisk(bussed(), tmp_path))
    player.ahead.chosen = 640
    player.listen(Listen(strip="b", at="b1"))
    player.set_loop(*LOOP)
    player.play(LOOP[0])
    while player.frame < at * BLOCK:
        go(player)
    assert player._mixer is not None
    assert {"a", "own", "c"} <= set(player._mixer.frozen)
    return player


def go(player: Player) -> None:
    """Take what is computed in one go; all is used up at once."""
    player.pieces()
    while player.under_way:
        player.pieces()
    player.played(player.epoch, player.sent)


def touch_a(player: Player, behind: int) -> None:
    """Listen to A, which gets so near to where the ear is before there is no more time for it."""
    player.listen(Listen(strip="a", at="a1"))
    assert player._thaw is not None
    while player._thaw.position < player.frame // BLOCK - behind:
        player.prepare()


def test_strips_that_the_loop_left_behind_run_again_where_it_comes_by(tmp_path: Path) -> None:
    """They were on their way when the loop ended, and there is no time beside play."""
    player = looping(tmp_path, 34)
    touch_a(player, 10)
    assert player._thaw is not None
    seen = []
    while player._thaw is not None:
        go(player)
        seen.append(player.frame // BLOCK)
        assert len(seen) < 30
    assert min(seen) < 30  # it went round
    for _ in range(10):
        go(player)
    assert player._listen.strip == "a"
    assert player._shadow is not None


def test_an_edit_is_not_lost_where_the_loop_begins_again(tmp_path: Path) -> None:
    player = looping(tmp_path, 11)
    while player._ready is None or player._ready.mixer.position < player._ready.target:
        go(player)
        player.played(player.epoch, player.sent - 40 * BLOCK)  # there is time for it
        for _ in range(AT_ONCE):
            player.prepare()
    while player.frame < 34 * BLOCK:
        go(player)
    player.preview([SetParams(stage="a1", params={"makeup_db": -24})])
    assert player._thaw is not None
    for _ in range(10):
        go(player)
    assert player._plan == make_plan(player._model, observe="b", audition=("b", 0.0))


def test_a_loop_that_ends_before_the_strips_that_wait(tmp_path: Path) -> None:
    player = looping(tmp_path, 34)
    touch_a(player, 3)
    while player.frame >= 30 * BLOCK:
        go(player)
    player.set_loop(LOOP[0], 30 * BLOCK)
    for _ in range(20):
        go(player)
        player.prepare()
    assert player._listen.strip == "a"


def test_what_nobody_touches_is_read_again(disk: OnDisk) -> None:
    player = Player(routed(), source, RenderCache())
    player.listen(Listen(strip="b", at="b1"))
    player.play(0)
    played(player, 2 * BLOCK)
    player._shelf = disk
    player.confirm(routed())
    played(player, 70 * BLOCK)
    assert player._mixer is not None
    assert set(player._mixer.frozen) == {"a", "c"}


@pytest.mark.parametrize("at", ["dry", "wet", "key:b1", "blend"])
def test_branches_and_keys_can_be_heard(disk: OnDisk, at: str) -> None:
    player = Player(routed(), source, disk)
    strip = "b" if at == "key:b1" else "a"
    player.listen(Listen(strip=strip, at=at, alone=True))
    player.play(0)
    _, sound = played(player, 6 * BLOCK)
    assert np.abs(sound).max() > 0.01
    if at == "key:b1":
        # b1 listens to what C gives after its chain.
        mixer = Mixer(make_plan(routed(), measured=disk.join_measurement), source)
        heard = np.concatenate([mixer.block(("c",)).strips["c"].out for _ in range(6)])
        assert np.abs(sound[:, 2:3] - heard).max() < 1e-6
    if at == "dry":
        assert (sound[:, :2] == sound[:, 2:]).all()


def test_what_is_missed_is_missed_where_the_ear_is() -> None:
    player = Player(small_session(), source, RenderCache())
    player.frame, player._sent = 100_000, 30_000
    player.played(player.epoch, 10_000)
    assert player.heard == 80_000
    player.loop = (95_000, 105_000)
    assert player.heard == 100_000
    player.loop = (10_000, 105_000)
    assert player.heard == 80_000


def test_who_was_late_when_the_ear_missed_something(monkeypatch: pytest.MonkeyPatch) -> None:
    player = Player(small_session(), source, RenderCache())
    seat = Seat(1, player)
    now = 100.0
    monkeypatch.setattr("salt_anvil.live.worker.time.monotonic", lambda: now)
    player._sent = player._there = 5 * BLOCK
    seat.note_sending(player.epoch, 0)
    now = 101.0
    seat.note_sending(player.epoch, 3 * BLOCK)
    # All is used up, or what follows was sent a moment ago: the engine. It has been on its way
    # for long: the way, or the page.
    assert seat.was_late(player.epoch, 5 * BLOCK)
    assert seat.was_late(player.epoch, 3 * BLOCK)
    assert not seat.was_late(player.epoch, 2 * BLOCK)
    now = 102.0
    assert not seat.was_late(player.epoch, 3 * BLOCK)
