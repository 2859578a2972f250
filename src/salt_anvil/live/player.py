"""One tab's playback: a mixer that runs ahead of what the tab has played."""

import math
import time
from collections.abc import Callable
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.dsp.crossfade import crossfaded
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.edits import Edit, apply_edits
from salt_anvil.core.engine.bypass_mix import BypassMix
from salt_anvil.core.engine.mixer import MixBlock, Mixer, Source, never
from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import CoreError
from salt_anvil.core.session import Session
from salt_anvil.live.ahead import Pace, TimeAhead
from salt_anvil.live.listening import listens_in_mix, needed, strip_of, watched_place
from salt_anvil.live.messages import BlockReport, Listen, Transport
from salt_anvil.live.playback import START_S, PlaybackRun, RenderCache, StripRestart, mixer_before
from salt_anvil.live.reports import Place, Reporter
from salt_anvil.live.way_back import (
    DEEP_MS,
    FIRST_AGAIN,
    WayBack,
    Waypoint,
    glides,
    goes_on_like,
    same_wiring,
)

LOUDEST = 1000.0
"""Amplitude that nothing passes on its way out (+60 dBFS)."""


SHARE_AT_ONCE, SHARE_FIRST = 1 / 3, 1 / 2
"""So much of the time ahead may be computed in one go; and where nothing is heard yet."""
AT_ONCE = 8
"""Blocks that are computed in one go in play, at most: nobody waits longer for a change."""
SHARE_READY = 0.9
"""What is computed in one go should take no more than so much of what is ready."""
LOAD = 0.8
"""What is computed in one go should take no more than so much of the time that it sounds."""

SPREAD, GATHERED = 0.7, 0.5
"""From such a share on of the time that it sounds, what is computed is spread over the processors,
below the other no more ..."""
WORTH_SPREADING = 4
"""... where so many blocks are computed in one go."""

PATIENCE = 60
"""Turns after a change, or after missing checkpoints, before the loop's start is looked up."""


@dataclass(frozen=True)
class AudioChunk:
    """Consecutive frames to send. again: they begin so many frames before the end of what was sent,
    in whose place they come, changed."""

    epoch: int
    again: int
    frame: int
    sound: Sound
    report: BlockReport


class Player:
    """Plays a session for one tab. Every jump starts a new epoch, higher than all before."""

    def __init__(
        self,
        session: Session,
        source: Source,
        shelf: RenderCache,
        *,
        epoch: int = 0,
        ahead: TimeAhead | None = None,
        beside: Executor | None = None,
        asked: Callable[[], bool] = never,
    ) -> None:
        """beside: computes strips beside each other where one processor is hardly enough. asked:
        whether something waits to be done."""
        self._asked = asked
        self.ahead = ahead or TimeAhead()
        self._pace = Pace()
        self._beside, self._spread = beside, False
        self.others_ms = math.inf
        """The least time ahead of the others who play: nobody may be kept waiting longer."""
        self._source, self._shelf = source, shelf
        self._confirmed = self._model = session
        self._listen = self._requested = Listen()
        self._before_gain = 1.0
        self._audition_db = 0.0
        self.playing = False
        self.frame = 0
        self.loop: tuple[int, int] | None = None
        self.epoch = epoch
        self._sent = self._played = 0
        self._there = 0
        """How many frames the tab has: more than were sent last where some come once more."""
        self._anew = False
        """Whether what is computed in one go was sent before as it was."""
        self._way = WayBack()
        self._arriving: tuple[PlaybackRun, float] | None = None
        self._catching: PlaybackRun | None = None
        self._plan = make_plan(session, measured=shelf.join_measurement)
        self._mixer: Mixer | None = None
        self._shadow: BypassMix | None = None
        self._reporter = Reporter(session.rate)
        self._ready: PlaybackRun | None = None
        self._thaw: StripRestart | None = None
        self._patience = self._cooling = 0

    @property
    def rate(self) -> int:
        """The session's rate in Hz."""
        return self._plan.rate

    def transport(self) -> Transport:
        """Return how play stands."""
        return Transport(
            playing=self.playing,
            frame=self.frame,
            loop=self.loop,
            epoch=self.epoch,
            waiting=None if self._arriving is None else "the strips are brought to this place",
        )

    # Commands ---------------------------------------------------------------------------------

    def play(self, frame: int | None) -> None:
        """Start from a frame, or from where it stands; inside the loop if there is one."""
        at = self.frame if frame is None else frame
        if self.loop is not None and not self.loop[0] <= at < self.loop[1]:
            at = self.loop[0]
        self._jump(at)
        self.playing = True

    def stop(self) -> None:
        """Stop where the tab has got to."""
        self.playing = False
        self.epoch += 1
        self._begin_epoch()

    def seek(self, frame: int) -> None:
        """Go to a frame, playing or not."""
        self._jump(frame)

    def begin_again(self) -> None:
        """Let everything go that was computed, and go on from where it stands."""
        self._ready = None
        self._jump(self.frame)

    def set_loop(self, begin: int | None, end: int | None) -> None:
        """Loop [begin, end) from now on, or stop looping."""
        self.loop = None
        if begin is not None and begin >= self._plan.frames:
            return
        if begin is not None and end is not None and end - begin >= BLOCK:
            self.loop = (begin, min(end, self._plan.frames))
            if self.playing and not begin <= self.frame < end:
                self._jump(begin)

    def listen(self, where: Listen) -> None:
        """Listen elsewhere, without a gap."""
        before = self._listen
        self._requested = where
        try:
            self._take(self._model)
        except CoreError:
            self._requested = before
            raise

    def same_loudness(self, before_db: float, after_db: float = 0.0) -> None:
        """Set the levels of the strip's untreated and treated sound inside the mix."""
        old, self._audition_db = self._audition_db, after_db
        # Both sides pass the same fader, which has the change of the treated one.
        self._before_gain = to_gain(before_db - after_db)
        if after_db != old:
            self._take(self._model)
        if self._shadow is not None:
            self._shadow.level(self._before_gain)

    def preview(self, edits: list[Edit]) -> None:
        """Hear edits that are not stored yet.

        Raises:
            CoreError: they cannot be done; nothing has changed.
        """
        model, _ = apply_edits(self._confirmed, edits)
        self._take(model)

    def hear(self, session: Session) -> None:
        """Hear another state of the session; what is stored stays what it is.

        Raises:
            CoreError: it cannot be run; the old one goes on playing.
        """
        self._take(session)

    def confirm(self, session: Session) -> None:
        """Take the stored model.

        Raises:
            CoreError: it cannot be run; the old one goes on playing.
        """
        self._take(session)
        self._confirmed = session

    def played(self, epoch: int, frames: int) -> None:
        """Note what the tab has used up."""
        if epoch == self.epoch:
            self._played = frames

    # Sound ------------------------------------------------------------------------------------

    @property
    def sent(self) -> int:
        """How many frames of this epoch have been given."""
        return self._there

    @property
    def heard(self) -> int:
        """The frame of the song that the ear has got to."""
        frame = self.frame - (self._sent - self._played)
        if self.loop is None or frame >= self.loop[0]:
            return max(frame, 0)
        begin, end = self.loop
        return begin + (frame - begin) % (end - begin)

    @property
    def ready_ms(self) -> float:
        """How much sound is on its way to the tab, or there, and not played yet."""
        return 1000 * (self._there - self._played) / self._plan.rate

    @property
    def _settled_ms(self) -> float:
        """How much of that does not come once more."""
        return 1000 * (self._sent - self._played) / self._plan.rate

    @property
    def _block_ms(self) -> float:
        return 1000 * BLOCK / self._plan.rate

    @property
    def _together(self) -> int:
        """How many blocks are computed in one go: the more, the less each of them costs.

        No more than can be waited for: all of them come when the last is ready.
        """
        ready = self._settled_ms
        share = SHARE_AT_ONCE if ready > 0 else SHARE_FIRST
        shortest = min(self.ahead.ms, self.others_ms)
        most = min(max(int(share * shortest / self._block_ms), 1), AT_ONCE)
        if self._way.catching_up(self._sent):
            return min(most, FIRST_AGAIN) if ready < DEEP_MS else most
        if ready <= 0:
            return most
        count = self._pace.most(SHARE_READY * ready, most)
        # What takes longer than it sounds ends in a gap: then rather one, and faster from there.
        return count if self._pace.usual_ms(count) <= count * self._block_ms else most

    def took(self, count: int, ms: float) -> None:
        """Note how long so many blocks took in one go."""
        if self._anew:  # little of them was computed
            self._way.took(ms)
            return
        self._pace.note(count, ms)
        if self._pace.usual_ms(count) > LOAD * count * self._block_ms and count < AT_ONCE:
            self.ahead.strained()

    @property
    def under_way(self) -> bool:
        """Whether more blocks belong to those that are computed in one go."""
        if not self.playing or self._arriving is not None or self._mixer is None:
            return False
        return self._mixer.under_way

    def wants(self) -> bool:
        """Say whether what is computed in one go fits into the time ahead, or is under way."""
        if not self.playing or self._arriving is not None:
            return False
        if self.under_way or (self._way.late and self._way.free):
            return True
        return self._settled_ms + (self._together - 1) * self._block_ms < self.ahead.ms

    def watch_time(self) -> None:
        """Let the time ahead know how much of it there is."""
        if self.playing and self._arriving is None:
            self.ahead.note(self.ready_ms, (self._together - 1) * self._block_ms)

    def pieces(self) -> list[AudioChunk]:
        """Return the next block, in two pieces where the loop wraps inside it."""
        if self._arriving is not None:
            self.arrive()
        assert self._mixer is not None
        at_end = self.loop[1] if self.loop and self.frame < self.loop[1] else None
        k = self.frame // BLOCK
        offset = self.frame - k * BLOCK
        block, sound = self._next_block()
        count = BLOCK - offset
        if at_end is not None and self.frame + count >= at_end:
            count = at_end - self.frame
        self._reporter.main.feed(block.faded[self._plan.main][offset : offset + count])
        piece = self._piece(sound[offset : offset + count], block)
        self.frame += count
        if at_end is not None and self.frame == at_end and self.loop:
            self._wrap(self.loop[0])
        elif self.frame >= self._plan.frames + self._plan.rate:
            self.playing = False
            self.frame = 0
        return [piece] if count else self.pieces()

    def _piece(self, sound: Sound, block: MixBlock) -> AudioChunk:
        if not np.abs(sound).max(initial=0.0) <= LOUDEST:
            sound = np.clip(np.nan_to_num(sound, nan=0.0), -LOUDEST, LOUDEST)
        piece = AudioChunk(
            self.epoch,
            self._there - self._sent,
            self.frame,
            sound,
            self._reporter.report(self._place, block),
        )
        self._sent += len(sound)
        self._there = max(self._there, self._sent)
        return piece

    def compute(self) -> bool:
        """Compute what is given in one go; return False if it was left off: something was asked
        for, after which other sound may be wanted."""
        if self._arriving is not None or self.under_way:
            return True
        self._restart()
        return self._look_ahead()

    def _next_block(self) -> tuple[MixBlock, Sound]:
        assert self._mixer is not None
        self._restart()
        if self._catching is not None and self._catching.mixer.position == self._mixer.position:
            return self._caught_up(self._catching)
        if not self._mixer.under_way:
            self._look_ahead()
        return self._heard()

    def _look_ahead(self) -> bool:
        """Compute several blocks in one go where there is room for them; return False if it was
        left off."""
        assert self._mixer is not None
        if self._way.late and self._way.free:
            self._apply(self._plan)
        self._anew = self._way.catching_up(self._sent)
        self._note_place()
        count = self._together
        if self._thaw is not None and self._thaw.position > self._mixer.position:
            # Strips that wait further on, as after a loop's end, are met where a go ends.
            count = min(count, self._thaw.position - self._mixer.position)
        self._mixer.foresee(self._mixer.position + count)
        if self._beside is not None and count >= WORTH_SPREADING:
            share = self._pace.usual_ms(count) / (count * self._block_ms)
            self._spread = share > (GATHERED if self._spread else SPREAD)
        else:
            self._spread = False
        here = self._way.at(self._sent)
        if not self._spread and here is None:
            return True
        pool = self._beside if self._spread else None
        stop = never if here is None else self._asked
        done = self._mixer.compute(self._mixer.until, pool, stop=stop)
        if here is not None and not done:
            self._mixer.go_back(here.mark)
            if self._mixer.plan is not self._plan:  # it was changed at this very place
                self._mixer.change(self._plan)
        return done

    def _heard(self) -> tuple[MixBlock, Sound]:
        """Return the next block, and what is heard of it: before and after."""
        assert self._mixer is not None
        k = self._mixer.position
        block = self._mixer.block()
        listen, main = self._listen, block.faded[self._plan.main]
        if listen.strip is None or listen.strip not in block.strips:
            return block, np.concatenate([main, main], axis=1)
        if self._shadow is None:
            given = block.strips[listen.strip]
            # What was computed ahead of the wish to listen there has only what comes out.
            before, after = given.taps.get(self._watched()) or (given.out, given.out)
            return block, np.concatenate([_stereo(before), _stereo(after)], axis=1)
        return block, np.concatenate([self._shadow.block(k), main], axis=1)

    # Going back -------------------------------------------------------------------------------

    def _begin_epoch(self) -> None:
        self._sent = self._played = self._there = 0
        self._stay()

    def _stay(self) -> None:
        """Go back no more to what was before."""
        self._way.clear()
        if self._mixer is not None:
            self._mixer.held_from = None

    def _note_place(self) -> None:
        """Remember this place, if what is computed from here on is far from the ear."""
        mixer, way = self._mixer, self._way
        assert mixer is not None
        way.let_go(self._played)
        if self.ahead.ms <= DEEP_MS or way.at(self._sent) is not None or self.frame % BLOCK:
            return
        if self._catching is not None or self._thaw is not None or not mixer.steady:
            return
        names = needed(self._plan, self._listen)
        if names & mixer.frozen.keys():
            return
        shadow = None if self._shadow is None else self._shadow.clone()
        mark, measured = mixer.mark(names), self._reporter.measured()
        way.places.append(Waypoint(self._sent, self.frame, mark, shadow, measured))
        mixer.held_from = way.places[0].mark.position

    def _go_back(self, plan: Plan) -> None:
        """Go back to where a change of the plan can be heard first, if it is one that can be made
        there; what was sent from there on comes once more."""
        mixer, way = self._mixer, self._way
        assert mixer is not None
        changed = way.late or not goes_on_like(mixer.plan, plan)
        way.late = False
        names = set(way.places[0].mark.runners) if way.places else set[str]()
        fits = all(mixer.runner(n).fits(plan.strip(n)) for n in names if n in plan.digests)
        if not names or not fits or not glides(mixer.plan, plan, names):
            self._stay()
            return
        place = way.nearest(self._played, self.ahead.ms, self.rate)
        if not changed or place is None or place.sent >= self._sent or self.ahead.behind:
            return
        if goes_on_like(place.mark.plan, plan):
            return
        if not way.free:
            way.late = True
            return
        way.go(place, self._there)
        self._sent, self.frame = place.sent, place.frame
        mixer.go_back(place.mark)
        self._shadow = None if place.shadow is None else place.shadow.clone()
        self._reporter.go_back(place.measured)

    # Wiring -----------------------------------------------------------------------------------

    @property
    def _place(self) -> Place:
        assert self._mixer is not None
        return Place(self._plan, self._mixer, self._listen)

    def _watched(self) -> str:
        return watched_place(self._plan, self._listen)

    def _planned(self, session: Session) -> Plan:
        where = self._requested
        in_mix = where.strip is not None and not where.alone
        return make_plan(
            session,
            observe=where.strip,
            measured=self._shelf.join_measurement,
            audition=(where.strip, self._audition_db) if where.strip and in_mix else None,
            before=self._plan,
        )

    def _take(self, session: Session) -> None:
        """Move play to a model and a place to listen, once all that must run does.

        Raises:
            CoreError: it cannot be run; nothing has changed.
        """
        plan = self._planned(session)
        self._catching = None
        if self._arriving is not None:
            _, until = self._arriving
            self._plan, self._listen = plan, self._requested
            self._arriving = (self._head(plan), until)
        if plan.rate != self._plan.rate:
            self._mixer = None
            self._reporter = Reporter(plan.rate)
        self._model = session
        self._patience = self._cooling = PATIENCE
        if self._mixer is None:
            self._plan, self._listen = plan, self._requested
            return
        frozen = self._mixer.frozen
        changed = {
            n for n in frozen if n in plan.digests and not frozen[n].stands_for(plan.strip(n))
        }
        missing = (needed(plan, self._requested) & frozen.keys()) | changed
        if not missing:
            self._thaw = None
            self._apply(plan)
        elif self._thaw is None or not missing <= self._thaw.names:
            self._thaw = StripRestart(
                self._mixer, self._source, self._shelf, missing, self._requested
            )

    def _apply(self, plan: Plan) -> None:
        assert self._mixer is not None
        wired = self._mixer.plan
        same_place = self._requested == self._listen
        if same_place:
            self._go_back(plan)
        else:
            self._stay()
            self._reporter.listen_elsewhere()
        self._plan, self._listen = plan, self._requested
        self._mixer.change(plan)
        self._mixer.watch(strip_of(plan, self._listen), self._watched())
        if self._shadow is not None and same_place and same_wiring(wired, plan):
            self._shadow.change(plan)
        else:
            self._make_shadow()

    def _restart(self) -> None:
        """Bring thawed strips a block further; where the mixer stands, let them run in it, and do
        what waited for them."""
        assert self._mixer is not None
        if self._thaw is None or not self._thaw.roll(self._mixer.position):
            return
        if self._mixer.under_way:
            return  # those who read them are further on than they are
        self._stay()
        self._thaw.hand_over(self._mixer)
        self._thaw = None
        self._take(self._model)

    def _cool(self) -> None:
        """Read strips again that nobody touches and that are known from end to end."""
        assert self._mixer is not None
        keep = needed(self._plan, self._listen)
        for name, frozen in self._shelf.frozen(self._plan).items():
            if name not in keep and name not in self._mixer.frozen:
                self._stay()
                self._mixer.freeze(name, frozen)

    def _make_shadow(self) -> None:
        self._stay()
        listen = self._listen
        self._shadow = None
        if self._mixer is not None and listens_in_mix(self._plan, listen):
            assert listen.strip is not None
            self._shadow = BypassMix(self._mixer, listen.strip, self._watched())
            self._shadow.level(self._before_gain)

    def _jump(self, frame: int) -> None:
        """Set out for a frame, to stand there in the state that the whole song would have."""
        self.epoch += 1
        self._begin_epoch()
        self._reporter.jump(self._plan.rate)
        plan = self._planned(self._model)
        self._plan, self._listen = plan, self._requested
        self.frame = min(max(frame, 0), plan.frames)
        self._stay()
        self._mixer = self._shadow = self._thaw = self._catching = None
        self._arriving = (self._head(plan), time.monotonic() + START_S)
        self.ahead.begin()

    def _head(self, plan: Plan) -> PlaybackRun:
        return PlaybackRun(plan, self._source, self._shelf, self.frame // BLOCK, self._listen)

    @property
    def arriving(self) -> bool:
        """Whether it is on its way to a frame."""
        return self._arriving is not None

    def arrive(self, seconds: float = math.inf) -> bool:
        """Go on towards the frame for so long; return whether sound can be given.

        When nobody should wait any longer, it starts with the states as they are, and goes on
        to the exact ones beside play.
        """
        if self._arriving is None:
            return True
        head, until = self._arriving
        if not head.roll_for(seconds, self._beside):
            if self.playing and time.monotonic() > until:
                self._start_early(head)
            return self._arriving is None
        head.mixer.foresee(0)  # From here on a hand may change what comes.
        self._take_over(head, self.frame)
        self.ahead.begin()
        return True

    def _start_early(self, head: PlaybackRun) -> None:
        block = self.frame // BLOCK
        running = needed(head.plan, head.listen)
        mixer, _ = mixer_before(head.plan, self._source, self._shelf, running, 0, head.listen)
        mixer.locate(block, {})
        self._arriving = None
        self._mixer = mixer
        self._make_shadow()
        self._catching = head
        self.ahead.begin()

    def _caught_up(self, head: PlaybackRun) -> tuple[MixBlock, Sound]:
        """Go over to the exact states, cross-faded."""
        _, old = self._heard()
        head.mixer.foresee(0)
        self._take_over(head, self.frame)
        block, new = self._heard()
        return block, crossfaded(new, old)

    def _take_over(self, head: PlaybackRun, frame: int) -> None:
        self._stay()
        self._plan, self._mixer, self._shadow = head.plan, head.mixer, head.shadow
        self._thaw = self._arriving = self._catching = None
        if self._shadow is not None:
            self._shadow.level(self._before_gain)
        self.frame = frame

    def _wrap(self, begin: int) -> None:
        """Go back to the loop's start without a gap: in that place's own state if it is ready."""
        assert self._mixer is not None
        ready = self._ready
        # What waits for strips to run again must not be lost with them.
        if ready is None or self._thaw is not None or not self._still_right(ready, begin):
            ready = None
        self._ready, self._patience, self._catching = ready, 0, None
        if ready is not None and ready.roll():
            self._take_over(ready, begin)
            self._ready = None
        else:
            # What is under way goes on: it may be there the next time round.
            self._mixer.skip_to(begin // BLOCK)
            self._make_shadow()
            self.frame = begin
            self._meet()

    def _meet(self) -> None:
        """Let strips set out anew that wait where the loop does not come by any more."""
        if self._thaw is None or self.loop is None:
            return
        if self._thaw.position * BLOCK >= self.loop[1]:
            self._thaw = None
            self._take(self._model)

    def _still_right(self, head: PlaybackRun, begin: int) -> bool:
        return (
            head.plan == self._plan
            and head.target == begin // BLOCK
            and head.listen == self._listen
            and head.exact
        )

    def prepare(self) -> None:
        """Do what need not be done at once: thaw, freeze, bring a second head to a loop's start.

        A block a call; the head only while play itself is not behind.
        """
        if not self.playing or self._mixer is None:
            return
        if self._catching is not None:
            self._catching.chase(self._mixer.position)
            self._catching.roll()
            return
        if self._thaw is not None:
            self._restart()
            return
        self._cooling -= 1
        if self._cooling <= 0:
            self._cooling = PATIENCE
            self._cool()
        if self.loop is None or self.wants():
            return
        begin = self.loop[0]
        if self._ready is not None and self._still_right(self._ready, begin):
            self._ready.roll()
            return
        self._patience -= 1
        if self._patience > 0:
            return
        self._ready = PlaybackRun(
            self._plan, self._source, self._shelf, begin // BLOCK, self._listen
        )
        self._patience = PATIENCE


def _stereo(sound: Sound) -> Sound:
    return sound if sound.shape[1] == 2 else np.repeat(sound, 2, axis=1)
