"""The engine process: runs every tab's player, talks to the API process over one pipe."""

import logging
import math
import os
import threading
import time
from collections import deque
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, TypeVar

import numpy as np

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.cached_strips import CachedStrips
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.engine.cached import Blocks, CachedStrip
from salt_anvil.core.engine.fingerprint import fingerprint_of, fingerprints_of
from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.errors import CoreError, DamagedError, SaltAnvilError
from salt_anvil.core.session import Session, checked
from salt_anvil.core.state import State
from salt_anvil.files.media import MediaFolder
from salt_anvil.kernels.cache import sources_digest
from salt_anvil.kernels.compile import compile_kernels
from salt_anvil.live.inbox import Inbox
from salt_anvil.live.messages import (
    COMMAND,
    HEADER,
    Ahead,
    Command,
    Listen,
    Loop,
    Missed,
    Play,
    Preview,
    Refused,
    SameLoudness,
    Seek,
    SetAhead,
    Stop,
    Transport,
)
from salt_anvil.live.playback import RenderCache
from salt_anvil.live.player import AudioChunk, Player
from salt_anvil.live.watch import Watch

PROCESSORS = os.cpu_count() or 1
IDLE_S = 0.02
BUSY_S = 0.002
SLICE_S = 0.008
"""How long what is not due is worked on before everybody is looked after again."""
SAFE, SAFE_MS = 0.5, 120.0
"""Share of the time ahead, or so much, that must be there before a message is looked at."""
PATIENT_S = 0.15
"""So long a message may wait for that."""
NOTHING = "There is nothing to play in this session yet: bring a file in first."
MENDS = 64
"""So many damaged strips are dropped for one command before something else must be wrong."""
ON_THE_WAY_S = 0.1
"""What was sent so long ago should be there."""
LITTLE, ENOUGH = 0.5, 0.65
"""Below one share of its time ahead a player needs the machine alone, until it has the other."""
REFUSE_S = 0.5
"""A tab is told so often at most that something cannot be done."""
logger = logging.getLogger(__name__)
T = TypeVar("T")


def run_engine(pipe: Connection, data: Path) -> None:
    """Serve players until the server is gone. The target of the engine process.

    In: ("open", tab, session id, model, epoch), ("close", tab), ("command", tab, type, text),
    ("hear", tab, session id, model), ("played", tab, epoch, frames, missed), ("model", tabs,
    session id, model), ("repaired", media id). Out: ("sound", tab, bytes), ("event", tab, dict),
    ("behind", bool), ("damaged", media id), ("dropped", session id), ("alive",), ("dying", why).
    """
    engine = Engine(pipe, data)
    compile_kernels()  # From the cache: what is loaded in the first block is missed in the first.
    watch = Watch(lambda: engine.send(("alive",)), lambda why: engine.send(("dying", why)))
    while True:
        try:
            watch.turn()
            engine.turn()
        except (EOFError, BrokenPipeError, ConnectionResetError):
            return


def _packed(piece: AudioChunk, rate: int) -> bytes:
    report = piece.report.model_dump_json().encode()
    sound = np.ascontiguousarray(piece.sound, "<f4")
    head = HEADER.pack(
        piece.epoch, piece.again, float(piece.frame), len(sound), len(report), rate, 0
    )
    return head + sound.tobytes() + report


class DiskRenderCache(RenderCache):
    """What the analysis has left in the cache."""

    def __init__(self, data: Path) -> None:
        self._cache, self._code = StripCache(data / "cache"), sources_digest()
        self._freezer = CachedStrips(self._cache, self._code)
        self._joins: dict[str, JoinMeasurement] = {}

    def join_measurement(self, digest: str) -> JoinMeasurement | None:
        if digest not in self._joins:
            found = self._cache.join_measurement(fingerprint_of(digest, self._code))
            if found is None:
                return None
            self._joins[digest] = found
        return self._joins[digest]

    def states(self, plan: Plan, names: set[str], block: int) -> tuple[int, dict[str, State]]:
        fingerprints = fingerprints_of(plan, self._code)
        return self._cache.states_before({n: fingerprints[n] for n in names}, block)

    def frozen(self, plan: Plan) -> dict[str, CachedStrip]:
        return self._freezer(plan)

    def drop(self, where: str) -> None:
        """Forget a damaged strip; it is computed again."""
        self._cache.drop(where)
        self._freezer.forget()

    def forget(self) -> None:
        """Look everything up again."""
        self._freezer.forget()

    def group(self, digest: str) -> Blocks | None:
        return self._freezer.group(digest)


class Seat:
    """A tab's player, and what the tab was told last."""

    def __init__(self, session: int, player: Player) -> None:
        self.session, self.player = session, player
        self.missed = 0
        self._sendings: deque[tuple[float, int, int]] = deque(maxlen=64)
        """When something was sent, its epoch, and the frames of that sent before."""
        self.reported: tuple[int, int | None, bool] | None = None
        self.refused_at = 0.0
        self.faults = 0

    def note_sending(self, epoch: int, before: int) -> None:
        """Remember when what follows so many frames of an epoch was sent."""
        self._sendings.append((time.monotonic(), epoch, before))

    def was_late(self, epoch: int, frames: int) -> bool:
        """Say whether what follows so many frames was sent only now, or is not sent yet."""
        when = max((at for at, e, n in self._sendings if e == epoch and n <= frames), default=0.0)
        unsent = self.player.sent <= frames
        return unsent or time.monotonic() - when < ON_THE_WAY_S

    @property
    def ahead(self) -> float:
        """The share of its time ahead that is there; 1 where none is needed."""
        if not self.player.playing or self.player.arriving:
            return 1.0
        return self.player.ready_ms / self.player.ahead.ms

    @property
    def safe(self) -> bool:
        """Whether a message can be looked at without sound being late by it."""
        return self.ahead >= SAFE or self.player.ready_ms >= SAFE_MS


class Engine:
    """All players of the server. Sound comes before everything else that there is to do."""

    def __init__(self, pipe: Connection, data: Path) -> None:
        self._pipe, self._sending = pipe, threading.Lock()
        self._media = MediaFolder(data / "media")
        self._source = self._media.source(damaged=self._damaged)
        self._shelf = DiskRenderCache(data)
        self._beside = ThreadPoolExecutor(PROCESSORS) if PROCESSORS > 1 else None
        self._seats: dict[int, Seat] = {}
        self._inbox = Inbox()
        self._waited = 0.0
        self._behind = False

    def send(self, message: tuple[Any, ...]) -> None:
        """Send a message to the server; from any thread."""
        with self._sending:
            self._pipe.send(message)

    def turn(self) -> None:
        """Give every player that wants one a block, then do one thing that was asked for."""
        self._receive()
        self._share_time()
        hungry = sorted((s.ahead, tab) for tab, s in self._seats.items() if s.player.wants())
        for seat in self._seats.values():
            seat.player.watch_time()
        for _, tab in hungry:
            seat = self._seats[tab]
            self._attempt(tab, seat, partial(self._play, tab, seat))
        self._do_next()
        if not any(seat.player.wants() for seat in self._seats.values()):
            self._work_ahead()
        self._report_ahead()

    @property
    def _playing(self) -> list[Seat]:
        return [s for s in self._seats.values() if s.player.playing]

    def _share_time(self) -> None:
        """Let every player know how long the others can wait."""
        playing = [s.player for s in self._playing]
        for player in playing:
            others = (p.ahead.ms for p in playing if p is not player)
            player.others_ms = min(others, default=math.inf)

    # Messages ---------------------------------------------------------------------------------

    def _receive(self) -> None:
        """Take what has come in; wait for it if there is nothing to do."""
        players = [s.player for s in self._seats.values()]
        busy = len(self._inbox) or any(p.wants() or p.arriving for p in players)
        self._take_in(0.0 if busy else BUSY_S if any(p.playing for p in players) else IDLE_S)

    def _take_in(self, wait: float = 0.0) -> None:
        while self._pipe.poll(wait):
            wait = 0.0
            message = self._pipe.recv()
            if message[0] == "played":
                self._played(*message[1:])
                continue
            if not len(self._inbox):
                self._waited = time.monotonic()
            self._inbox.put(message)

    def _asked(self) -> bool:
        """Say whether something is to be done now, whatever is being computed."""
        self._take_in()
        return self._due

    def _played(self, tab: int, epoch: int, frames: int, missed: int) -> None:
        seat = self._seats.get(tab)
        if seat is None:
            return
        seat.player.played(epoch, frames)
        before, seat.missed = seat.missed, missed
        if missed <= before:
            return
        player = seat.player
        ready = player.ready_ms
        why = (
            "the engine had nothing ready: it was behind"
            if seat.was_late(epoch, frames)
            else f"{ready:.0f} ms were ready: the page or the way to it was late"
        )
        player.ahead.missed()
        event = Missed(count=missed - before, frame=player.heard, words=why)
        self.send(("event", tab, event.model_dump()))

    @property
    def _due(self) -> bool:
        """Whether something was asked for, and can be done without sound being late by it."""
        if not len(self._inbox):
            return False
        safe = all(s.safe for s in self._seats.values())
        return safe or time.monotonic() - self._waited >= PATIENT_S

    def _do_next(self) -> None:
        """Do one thing that was asked for."""
        if not self._due:
            return
        self._waited = time.monotonic()
        kind, *rest = self._inbox.take()
        try:
            if kind == "open":
                self._open(*rest)
            elif kind == "close":
                self._seats.pop(rest[0], None)
            elif kind == "model":
                self._confirm(*rest)
            elif kind == "hear":
                self._hear(*rest)
            elif kind == "command":
                self._command(*rest)
            elif kind == "repaired":
                self._media.forget(rest[0])
                self._shelf.forget()
        except (BrokenPipeError, ConnectionResetError):
            raise
        except Exception:
            logger.exception("a %s message could not be done", kind)
            if kind in ("open", "command", "hear"):
                self._refuse(rest[0], "the engine could not do that; nothing was changed")

    def _work_ahead(self) -> None:
        """Use the time in which nothing is due, a slice at a time, those on their way first."""
        for tab, seat in self._seats.items():
            if not seat.player.arriving:
                continue
            self._attempt(tab, seat, partial(self._arrive, tab, seat))
        for tab, seat in self._seats.items():
            if any(s.player.wants() for s in self._seats.values()):
                return
            self._attempt(tab, seat, seat.player.prepare)

    def _arrive(self, tab: int, seat: Seat) -> None:
        if seat.player.arrive(SLICE_S):
            self._report_transport(tab, seat.player)

    # Sound ------------------------------------------------------------------------------------

    def _play(self, tab: int, seat: Seat) -> None:
        """Send the next block, and with it those that are computed in one go."""
        player = seat.player
        was = player.playing
        packed: list[bytes] = []
        begin, sent, count = time.monotonic(), player.sent, 0
        if not player.compute():
            return
        try:
            while not packed or player.under_way:
                packed += [_packed(piece, player.rate) for piece in player.pieces()]
                count += 1
            player.took(count, 1000 * (time.monotonic() - begin))
        finally:
            if packed:
                seat.note_sending(player.epoch, sent)
                self.send(("sound", tab, b"".join(packed)))
        seat.faults = 0
        if was and not player.playing:
            self._report_transport(tab, player)

    def _attempt(self, tab: int, seat: Seat, work: Callable[[], None]) -> None:
        """Do something for a player; what is damaged is dropped, and it goes on without."""
        try:
            work()
        except (EOFError, BrokenPipeError, ConnectionResetError):
            raise
        except DamagedError as error:
            self._drop(seat, error)
            self._mending(seat, seat.player.begin_again)
            self._report_transport(tab, seat.player)
        except SaltAnvilError as error:
            self._stop(tab, seat, str(error))
        except Exception:
            self._again(tab, seat)

    def _again(self, tab: int, seat: Seat) -> None:
        """Something is wrong in a player: let it start from where it stands, twice in a row."""
        logger.exception("a player is started again")
        seat.faults += 1
        if seat.faults > 2:
            self._stop(tab, seat, "the engine cannot play this place; what is stored is kept")
            return
        seat.player.begin_again()
        self._report_transport(tab, seat.player)

    def _mending(self, seat: Seat, work: Callable[[], T]) -> T:
        """Return what work returns; what it finds damaged is dropped, and it begins again."""
        for _ in range(MENDS):
            try:
                return work()
            except DamagedError as error:
                self._drop(seat, error)
        return work()

    def _drop(self, seat: Seat, error: DamagedError) -> None:
        """Forget a damaged strip of the cache, and have it computed again."""
        logger.warning("%s, and is computed again", error)
        self._shelf.drop(error.where)
        self.send(("dropped", seat.session))

    def _stop(self, tab: int, seat: Seat, why: str) -> None:
        seat.faults = 0
        seat.player.stop()
        self._refuse(tab, why)
        self._report_transport(tab, seat.player)

    def _damaged(self, media_id: str) -> None:
        self.send(("damaged", media_id))

    # Commands ---------------------------------------------------------------------------------

    def _open(self, tab: int, session_id: int, model: dict[str, Any], epoch: int) -> None:
        old = self._seats.pop(tab, None)
        if old is not None:
            epoch = max(epoch, old.player.epoch)
        session = checked(Session, model)
        try:
            ahead = old.player.ahead if old else None
            player = Player(
                session,
                self._source,
                self._shelf,
                epoch=epoch + 1,
                ahead=ahead,
                beside=self._beside,
                asked=self._asked,
            )
        except CoreError:
            # Nothing to play yet; the next model opens it.
            still = Transport(playing=False, frame=0, loop=None, epoch=epoch + 1)
            self.send(("event", tab, still.model_dump()))
            return
        self._seats[tab] = Seat(session_id, player)
        self._report_transport(tab, player)

    def _confirm(
        self, tabs: list[int], session_id: int, model: dict[str, Any], epochs: dict[int, int]
    ) -> None:
        session = checked(Session, model)
        for tab in tabs:
            seat = self._seats.get(tab)
            if seat is None or seat.session != session_id:
                self._open(tab, session_id, model, epochs.get(tab, 0))
                continue
            try:
                self._mending(seat, partial(seat.player.confirm, session))
            except SaltAnvilError as error:
                self._refuse(tab, str(error))

    def _hear(self, tab: int, session_id: int, model: dict[str, Any]) -> None:
        """Let a tab hear another state of its session, until the next edit or preview."""
        seat = self._seats.get(tab)
        if seat is None or seat.session != session_id:
            return
        session = checked(Session, model)
        try:
            self._mending(seat, lambda: seat.player.hear(session))
        except SaltAnvilError as error:
            self.send(("unheard", tab, model))
            self._refuse(tab, str(error))

    def _command(self, tab: int, kind: str, text: str) -> None:
        seat = self._seats.get(tab)
        if seat is None:
            if kind == "play":
                self.send(("event", tab, Refused(text=NOTHING).model_dump()))
            return
        command = COMMAND.validate_json(text)
        try:
            if self._mending(seat, lambda: self._do(seat.player, command)):
                self._report_transport(tab, seat.player)
        except SaltAnvilError as error:
            if kind == "preview":
                self.send(("unheard", tab, text))
            self._refuse(tab, str(error))

    def _do(self, player: Player, command: Command) -> bool:
        """Carry a command out; return whether the tab must be told how play stands."""
        match command:
            case Preview():
                player.preview(command.edits)
                return False
            case Listen():
                player.listen(command)
                return False
            case SameLoudness():
                player.same_loudness(command.before_db, command.after_db)
                return False
            case SetAhead():
                player.ahead.chosen = command.ms
                return False
            case Play():
                player.play(command.frame)
            case Stop():
                player.stop()
            case Seek():
                player.seek(command.frame)
            case Loop():
                player.set_loop(command.begin, command.end)
        return True

    def _report_transport(self, tab: int, player: Player) -> None:
        self.send(("event", tab, player.transport().model_dump()))

    def _report_ahead(self) -> None:
        """Tell every tab how far ahead its sound is, and the server whether all others must wait:
        where somebody is behind, or is about to be."""
        behind = any(seat.ahead < (ENOUGH if self._behind else LITTLE) for seat in self._playing)
        for tab, seat in self._seats.items():
            ahead = seat.player.ahead
            late = seat.player.playing and ahead.behind
            behind = behind or late
            now = (round(ahead.ms), ahead.chosen, late)
            if seat.reported != now:
                seat.reported = now
                event = Ahead(ms=now[0], chosen=now[1], behind=late)
                self.send(("event", tab, event.model_dump()))
        if behind != self._behind:
            self._behind = behind
            self.send(("behind", behind))

    def _refuse(self, tab: int, text: str) -> None:
        seat, now = self._seats.get(tab), time.monotonic()
        if seat is not None and now - seat.refused_at < REFUSE_S:
            return
        if seat is not None:
            seat.refused_at = now
        self.send(("event", tab, Refused(text=text).model_dump()))
