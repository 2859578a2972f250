"""The engine process: runs every tab's player, talks to the API process over one pipe."""

import contextlib
import json
import os
import signal
from collections.abc import Callable
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

import numpy as np

from salt_anvil._kernel_cache import sources_digest
from salt_anvil.core.dsp.blend import Blend
from salt_anvil.core.dsp.gate import Sound
from salt_anvil.core.dsp.state import State
from salt_anvil.core.engine.fingerprint import fingerprint, fingerprints
from salt_anvil.core.engine.mixer import Frozen
from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.errors import CoreError
from salt_anvil.core.session import Session, checked
from salt_anvil.files.cache import StripCache
from salt_anvil.files.errors import FileError
from salt_anvil.files.frozen import Freezer
from salt_anvil.files.media import MediaFolder
from salt_anvil.live.messages import (
    COMMAND,
    HEADER,
    Command,
    Listen,
    Loop,
    Play,
    Played,
    Preview,
    Refused,
    SameLoudness,
    Seek,
    Stop,
)
from salt_anvil.live.player import Piece, Player, Shelf

IDLE_S = 0.02
BUSY_S = 0.002


def run_engine(pipe: Connection, data: Path, parent: int) -> None:
    """Serve players until the parent is gone. The target of the engine process.

    In: ("open", tab, session id, model), ("close", tab), ("command", tab, text),
    ("model", session id, model). Out: ("sound", tab, bytes), ("event", tab, dict).
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    engine = Engine(pipe, data)
    while os.getppid() == parent:
        try:
            engine.turn()
        except (EOFError, BrokenPipeError, ConnectionResetError):
            return


def _packed(piece: Piece, rate: int) -> bytes:
    report = json.dumps(piece.report.model_dump(), separators=(",", ":")).encode()
    sound = np.ascontiguousarray(piece.sound, "<f4")
    head = HEADER.pack(
        piece.epoch, piece.sequence, float(piece.frame), len(sound), len(report), rate, 0
    )
    return head + sound.tobytes() + report


class CacheShelf(Shelf):
    """What the analysis has left in the cache."""

    def __init__(self, data: Path) -> None:
        self._cache, self._code = StripCache(data / "cache"), sources_digest()
        self._freezer = Freezer(self._cache, self._code)
        self._held: dict[str, Blend] = {}

    def held(self, digest: str) -> Blend | None:
        if digest not in self._held:
            found = self._cache.held(fingerprint(digest, self._code))
            if found is None:
                return None
            self._held[digest] = found
        return self._held[digest]

    def states(self, plan: Plan, names: set[str], block: int) -> tuple[int, dict[str, State]]:
        marks = fingerprints(plan, self._code)
        return self._cache.states_before({n: marks[n] for n in names}, block)

    def frozen(self, plan: Plan) -> dict[str, Frozen]:
        return self._freezer(plan)

    def group(self, digest: str) -> Callable[[int], Sound] | None:
        return self._freezer.group(digest)


class Engine:
    """All players of the server."""

    def __init__(self, pipe: Connection, data: Path) -> None:
        self._pipe = pipe
        self._source = MediaFolder(data / "media").source()
        self._shelf = CacheShelf(data)
        self._players: dict[int, tuple[int, Player]] = {}

    def turn(self) -> None:
        """Take what has come in, then give every player that wants one a block."""
        wanting = [t for t, (_, p) in self._players.items() if p.wants()]
        playing = any(p.playing for _, p in self._players.values())
        wait = 0.0 if wanting else BUSY_S if playing else IDLE_S
        if self._pipe.poll(wait):
            while True:
                self._take(self._pipe.recv())
                if not self._pipe.poll(0):
                    break
        for tab in list(self._players):
            _, player = self._players[tab]
            if player.wants():
                self._play_block(tab, player)
            player.prepare()

    def _play_block(self, tab: int, player: Player) -> None:
        try:
            was = player.playing
            for piece in player.pieces():
                self._pipe.send(("sound", tab, _packed(piece, player.rate)))
            if was and not player.playing:
                self._tell_transport(tab, player)
        except (CoreError, FileError) as error:
            player.stop()
            self._refuse(tab, str(error))
            self._tell_transport(tab, player)

    def _take(self, message: tuple[Any, ...]) -> None:
        kind, *rest = message
        if kind == "open":
            self._open(*rest)
        elif kind == "close":
            self._players.pop(rest[0], None)
        elif kind == "model":
            self._confirm(*rest)
        elif kind == "command":
            self._command(*rest)

    def _open(self, tab: int, session_id: int, model: dict[str, Any]) -> None:
        self._players.pop(tab, None)
        session = checked(Session, model)
        try:
            player = Player(session, self._source, self._shelf)
        except CoreError:
            return  # nothing to play yet; the next model opens it
        self._players[tab] = (session_id, player)
        self._tell_transport(tab, player)

    def _confirm(self, tabs: list[int], session_id: int, model: dict[str, Any]) -> None:
        session = checked(Session, model)
        for tab in tabs:
            if tab not in self._players:
                self._open(tab, session_id, model)
                continue
            try:
                self._players[tab][1].confirm(session)
            except CoreError as error:
                self._refuse(tab, str(error))

    def _command(self, tab: int, text: str) -> None:
        if tab not in self._players:
            return
        player = self._players[tab][1]
        command = COMMAND.validate_json(text)
        try:
            if self._do(player, command):
                self._tell_transport(tab, player)
        except (CoreError, FileError) as error:
            self._refuse(tab, str(error))

    def _do(self, player: Player, command: Command) -> bool:
        """Carry a command out; return whether the tab must be told how play stands."""
        match command:
            case Played():
                player.played(command.epoch, command.frames)
                return False
            case Preview():
                player.preview(command.edits)
                return False
            case Listen():
                player.listen(command)
                return False
            case SameLoudness():
                player.same_loudness(command.before_db)
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

    def _tell_transport(self, tab: int, player: Player) -> None:
        self._pipe.send(("event", tab, player.transport().model_dump()))

    def _refuse(self, tab: int, text: str) -> None:
        with contextlib.suppress(BrokenPipeError):
            self._pipe.send(("event", tab, Refused(text=text).model_dump()))
