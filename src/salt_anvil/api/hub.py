"""What the server holds: store, media, cache, helper processes, tabs; and who is told what."""

import asyncio
import contextlib
import json
import os
import time
from collections import OrderedDict
from concurrent.futures import Executor, ProcessPoolExecutor
from dataclasses import dataclass, field
from multiprocessing import get_context
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from salt_anvil._kernel_cache import sources_digest
from salt_anvil.api.processes import Helper
from salt_anvil.core.dsp.blend import Blend
from salt_anvil.core.edits import AddStrip, Edit, SetLever, apply_edits
from salt_anvil.core.engine.fingerprint import fingerprint
from salt_anvil.core.engine.plan import Plan, make_plan
from salt_anvil.core.session import Session
from salt_anvil.files.cache import StripCache
from salt_anvil.files.media import Media, MediaFolder
from salt_anvil.files.view import Viewer
from salt_anvil.jobs.analysis import HELD, run_analysis
from salt_anvil.jobs.printing import (
    Cancelled,
    PrintOptions,
    end_with_parent,
    print_name,
    run_print,
)
from salt_anvil.live.engine import run_engine
from salt_anvil.live.messages import (
    Analysed,
    BroughtIn,
    Changed,
    Event,
    LeverMoved,
    Listen,
    Preview,
    Printed,
    Refused,
    Surface,
)  # fmt: skip
from salt_anvil.store.database import Database, FolderLock
from salt_anvil.store.prints import PrintStore
from salt_anvil.store.sessions import Revision, SessionStore

QUEUE_LIMIT = 300
"""Messages that may wait for a tab; one that takes none is closed."""


@dataclass
class Tab:
    """One WebSocket: what waits to be sent, the session it works on, the strip it looks at."""

    number: int
    queue: "asyncio.Queue[bytes | str | None]" = field(
        default_factory=lambda: asyncio.Queue(QUEUE_LIMIT)
    )
    session: int | None = None
    strip: str | None = None


class Hub:
    """Everything that the routes share."""

    def __init__(self, data: Path) -> None:
        """Take the data folder.

        Raises:
            StoreError: it cannot be used, or another server has it.
        """
        self.data = data
        self._lock = FolderLock(data)
        database = Database(data / "salt-anvil.db")
        self.sessions = SessionStore(database)
        self.prints = PrintStore(database, epoch=int(time.time() * 1000))
        self.media = MediaFolder(data / "media")
        self.cache = StripCache(data / "cache")
        self.code = sources_digest()
        self.print_folder = data / "prints"
        self.print_folder.mkdir(exist_ok=True)
        self._tabs: dict[int, Tab] = {}
        self._next_tab = 1
        self._viewers: OrderedDict[int, Viewer] = OrderedDict()
        self._printing: set[asyncio.Task[None]] = set()
        self._wished: tuple[int, str | None] | None = None
        self._parked: dict[str, float] = {}

    async def start(self) -> None:
        """Start the helper processes, and the prints that a dead server left."""
        self._loop = asyncio.get_running_loop()
        self._engine = Helper(
            "engine", run_engine, self.data, self._from_engine, self._engine_again
        )
        self._analysis = Helper(
            "analysis", run_analysis, self.data, self._from_analysis, self._analysis_again
        )
        self._pool: Executor = ProcessPoolExecutor(
            1, get_context("spawn"), initializer=end_with_parent, initargs=(os.getpid(),)
        )
        for number in self.prints.take_over():
            self.run_print(number)

    async def stop(self) -> None:
        """End everything."""
        for task in self._printing:
            task.cancel()
        self._engine.close()
        self._analysis.close()
        self._pool.shutdown(wait=False, cancel_futures=True)
        self._lock.release()

    # Tabs -------------------------------------------------------------------------------------

    def open_tab(self) -> Tab:
        """Register a tab."""
        tab = Tab(self._next_tab)
        self._next_tab += 1
        self._tabs[tab.number] = tab
        return tab

    def close_tab(self, tab: Tab) -> None:
        """Forget a tab; its player ends."""
        self._tabs.pop(tab.number, None)
        self._engine.send(("close", tab.number))

    def attach(self, tab: Tab, revision: Revision) -> None:
        """Let a tab work on a session."""
        tab.session = revision.session_id
        model = revision.model.model_dump()
        self._engine.send(("open", tab.number, revision.session_id, model))
        self._wish(revision.session_id, model, None)

    def command(self, tab: Tab, text: str, command: BaseModel) -> None:
        """Pass a tab's command to the engine."""
        if isinstance(command, Listen) and command.strip != tab.strip and tab.session is not None:
            tab.strip = command.strip
            self._wish(tab.session, self.sessions.head(tab.session).model.model_dump(), tab.strip)
        self._engine.send(("command", tab.number, text))

    def surface(self, tab: Tab, command: Surface) -> None:
        """Do what a control surface asks for: move a lever, heard by every tab of the session.

        Raises:
            CoreError, StoreError: it cannot be stored.
        """
        if tab.session is None:
            return
        head = self.sessions.head(tab.session)
        if command.number > len(head.model.levers):
            return
        lever = head.model.levers[command.number - 1]
        value = command.value
        if command.part == "button":
            value = self._parked.pop(lever.id, 1.0) if lever.value == 0 else 0.0
            if lever.value > 0:
                self._parked[lever.id] = lever.value
        edit = SetLever(lever=lever.id, value=value)
        self.tell(tab.session, LeverMoved(lever=lever.id, value=value))
        if command.held:
            text = Preview(edits=[edit]).model_dump_json()
            for other in self._tabs.values():
                if other.session == tab.session:
                    self._engine.send(("command", other.number, text))
        else:
            self.edit(tab.session, head.id, [edit])

    def tell(self, session_id: int, event: Event) -> None:
        """Send an event to every tab of a session; from any thread."""
        self._loop.call_soon_threadsafe(self._tell_now, session_id, event.model_dump_json())

    def _tell_now(self, session_id: int, text: str) -> None:
        for tab in list(self._tabs.values()):
            if tab.session == session_id:
                self._put(tab, text)

    def _put(self, tab: Tab, message: bytes | str) -> None:
        try:
            tab.queue.put_nowait(message)
        except asyncio.QueueFull:
            # A tab that takes nothing: let it go, the others go on.
            self.close_tab(tab)
            while not tab.queue.empty():
                tab.queue.get_nowait()
            tab.queue.put_nowait(None)

    # Helper processes -------------------------------------------------------------------------

    def _from_engine(self, message: tuple[str, int, Any]) -> None:
        kind, number, body = message
        data = body if kind == "sound" else json.dumps(body)
        self._loop.call_soon_threadsafe(self._to_tab, number, data)

    def _to_tab(self, number: int, data: bytes | str) -> None:
        tab = self._tabs.get(number)
        if tab is not None:
            self._put(tab, data)

    def _engine_again(self) -> None:
        for tab in list(self._tabs.values()):
            if tab.session is not None:
                model = self.sessions.head(tab.session).model.model_dump()
                self._engine.send(("open", tab.number, tab.session, model))
                words = "The sound engine stopped and was started again; nothing is lost."
                self._from_engine(("event", tab.number, Refused(text=words).model_dump()))

    def _from_analysis(self, message: tuple[int, str, int, int]) -> None:
        session_id, strip, done, frames = message
        if strip == HELD:
            self._loop.call_soon_threadsafe(self._held_now, session_id)
            return
        self.tell(session_id, Analysed(session=session_id, strip=strip, done=done, frames=frames))

    def _held_now(self, session_id: int) -> None:
        """Let everybody plan again: a steady join was measured."""
        self._viewers.clear()
        tabs = [t.number for t in self._tabs.values() if t.session == session_id]
        model = self.sessions.head(session_id).model.model_dump()
        self._engine.send(("model", tabs, session_id, model))

    def _analysis_again(self) -> None:
        if self._wished is not None:
            session_id, strip = self._wished
            self._wish(session_id, self.sessions.head(session_id).model.model_dump(), strip)

    def _wish(self, session_id: int, model: dict[str, Any], strip: str | None) -> None:
        self._wished = (session_id, strip)
        self._analysis.send((session_id, model, strip))

    # Sessions ---------------------------------------------------------------------------------

    def edit(self, session_id: int, base: int, edits: list[Edit]) -> Revision:
        """Carry edits out, store them, and let everybody know.

        Raises:
            CoreError, StoreError: they cannot be done or stored; nothing has changed.
        """
        model, words = apply_edits(self.sessions.head(session_id).model, edits)
        plan = make_plan(model, observe_all=True, held=self.held) if model.strips else None
        revision = self.sessions.append(session_id, base, model, words)
        if plan is not None:
            self._viewer(revision, plan)
        return self.changed(revision)

    def changed(self, revision: Revision) -> Revision:
        """Tell engine, analysis and tabs of a session's new state."""
        session_id, model = revision.session_id, revision.model.model_dump()
        tabs = [t.number for t in self._tabs.values() if t.session == session_id]
        strip = next((t.strip for t in self._tabs.values() if t.session == session_id), None)
        self._engine.send(("model", tabs, session_id, model))
        self._wish(session_id, model, strip)
        self.tell(session_id, Changed(session=session_id, revision=revision.id))
        return revision

    def viewer(self, session_id: int) -> tuple[Revision, Viewer]:
        """Return the pictures and figures of a session as it stands."""
        revision = self.sessions.head(session_id)
        return revision, self._viewer(revision)

    def earlier_viewer(self, session_id: int) -> Viewer | None:
        """Return those of the revision before; None where this is the first."""
        revision = self.sessions.earlier(session_id)
        return None if revision is None else self._viewer(revision)

    def _viewer(self, revision: Revision, plan: Plan | None = None) -> Viewer:
        if revision.id not in self._viewers:
            plan = plan or make_plan(revision.model, observe_all=True, held=self.held)
            self._viewers[revision.id] = Viewer(revision.model, plan, self.code, self.cache)
            while len(self._viewers) > 8:
                self._viewers.popitem(last=False)
        return self._viewers[revision.id]

    def held(self, digest: str) -> Blend | None:
        """Return what was measured of a steady join."""
        return self.cache.held(fingerprint(digest, self.code))

    def latency(self, revision: Revision) -> int:
        """Return the greatest latency of a strip in frames."""
        if not revision.model.strips:
            return 0
        return self._viewer(revision).latency

    def bring_in(self, session_id: int, path: Path, name: str) -> tuple[Revision, Media]:
        """Take a file into a session as a new track; the first one sets the session's rate.

        Raises:
            FileError, StoreError: it cannot be used; nothing is left behind.
        """
        from salt_anvil.files.read import SoundReader

        revision = self.sessions.head(session_id)
        session = revision.model
        if session.frames() == 0:
            with SoundReader(path, name) as reader:
                rate = reader.info.rate
            if 44100 <= rate <= 192000:
                session = session.model_copy(update={"rate": rate})
        last = 0.0

        def progress(share: float) -> None:
            nonlocal last
            if share - last >= 0.02 or share >= 1:
                last = share
                self.tell(session_id, BroughtIn(session=session_id, name=name, progress=share))

        media = self.media.bring_in(path, name, session.rate, progress)
        strip = {
            "name": Path(name).stem[:80] or "Track", "kind": "track", "audio": media.id,
            "channels": media.channels, "frames": media.frames,
        }  # fmt: skip
        model, words = AddStrip(strip=strip).apply(session)
        head = self.sessions.head(session_id)
        return self.changed(self.sessions.append(session_id, head.id, model, words)), media

    # Prints -----------------------------------------------------------------------------------

    def ask_print(self, session_id: int, options: PrintOptions) -> int:
        """Store a wish to print and start it; return its number.

        Raises:
            CoreError: the session cannot be run.
        """
        model = self.sessions.head(session_id).model
        make_plan(model)
        number = self.prints.add(session_id, model, options.model_dump())
        self._loop.call_soon_threadsafe(self.run_print, number)
        return number

    def run_print(self, number: int) -> None:
        """Start a stored print."""
        task = self._loop.create_task(self._print(number))
        self._printing.add(task)
        task.add_done_callback(self._printing.discard)

    def cancel_print(self, number: int) -> None:
        """Stop a print; its unfinished file is removed by the worker."""
        self.prints.cancel(number)
        self._flag(number).unlink(missing_ok=True)
        self._tell_print(number)

    def _flag(self, number: int) -> Path:
        return self.print_folder / f"{number}.progress"

    def _tell_print(self, number: int) -> None:
        row = self.prints.get(number)
        self.tell(
            row.session_id,
            Printed(session=row.session_id, print=number, state=row.state, progress=row.progress),
        )

    async def _print(self, number: int) -> None:
        row, model = self.prints.get(number), self.prints.model(number)
        options = PrintOptions.model_validate(row.options)
        target = self.print_folder / print_name(model, options, number)
        flag = self._flag(number)
        flag.write_text("0")
        future = self._loop.run_in_executor(
            self._pool, run_print, self.data, model.model_dump(), options, target, flag
        )
        self.prints.update(number, "running", 0.0)
        while not future.done():
            await asyncio.wait([future], timeout=0.2)
            with contextlib.suppress(FileNotFoundError, ValueError):
                share = float(flag.read_text() or 0)
                if not future.done():
                    self.prints.update(number, "running", share)
                    self._tell_print(number)
        self._finish_print(number, future, target)
        flag.unlink(missing_ok=True)
        self._tell_print(number)

    def _finish_print(self, number: int, future: "asyncio.Future[int]", target: Path) -> None:
        error = future.exception()
        if error is None:
            clipped = future.result()
            words = f"{clipped} samples were over full scale and cut" if clipped else None
            self.prints.update(number, "done", 1.0, target.name, words)
        elif isinstance(error, Cancelled):
            self.prints.cancel(number)
        else:
            self.prints.update(number, "failed", 0.0, None, str(error))


def new_session(name: str, bpm: float | None) -> Session:
    """Return a session with nothing but its main bus."""
    from salt_anvil.core.session import checked

    main = {"id": "main", "name": "Main bus", "kind": "main"}
    return checked(Session, {"name": name, "bpm": bpm, "strips": [main]})
