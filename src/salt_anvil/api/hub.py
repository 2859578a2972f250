"""What the server holds: store, media, cache, helper processes, tabs; and who is told what."""

import asyncio
import contextlib
import json
import logging
import threading
import time
from collections import OrderedDict, defaultdict
from collections.abc import Callable, Coroutine, Sequence
from pathlib import Path
from typing import Any

from pydantic import BaseModel
from starlette.concurrency import run_in_threadpool

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.comparison import (
    Comparison,
    comparison,
    comparison_of_try,
    variants,
)
from salt_anvil.analysis.pictures import Viewer
from salt_anvil.analysis.worker import JOINS_MEASURED, SETTINGS_MEASURED, run_analysis
from salt_anvil.api.aims import Aims
from salt_anvil.api.models import CompareRequest
from salt_anvil.api.prints import Prints
from salt_anvil.api.processes import Standstill, WorkerProcess
from salt_anvil.api.proofs import Proofs
from salt_anvil.api.tabs import Tab
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.edits import AddReference, AddStrip, Edit, SetLever, apply_edits
from salt_anvil.core.edits.settings import stand_in
from salt_anvil.core.engine.fingerprint import fingerprint_of
from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import FileError, MissingError, SaltAnvilError, StoreError
from salt_anvil.core.measure.rows import Figures
from salt_anvil.core.session import SAMPLE_RATES, Extent, Session, Slot
from salt_anvil.files.bundle import read_bundle, write_bundle
from salt_anvil.files.media import Media, MediaFolder
from salt_anvil.files.places import make_folder
from salt_anvil.files.playable import playable
from salt_anvil.jobs.bundle_command import printed
from salt_anvil.kernels.cache import sources_digest
from salt_anvil.live.messages import (
    Analysed,
    BroughtIn,
    Changed,
    Compared,
    Event,
    LeverMoved,
    Listen,
    Loop,
    Play,
    Played,
    Preview,
    Refused,
    Removed,
    Seek,
    Surface,
    Transport,
)
from salt_anvil.live.worker import run_engine
from salt_anvil.store.database import Database, FolderLock
from salt_anvil.store.prints import PrintStore
from salt_anvil.store.recipes import RecipeStore
from salt_anvil.store.sessions import Revision, SessionStore
from salt_anvil.store.targets import TargetStore

logger = logging.getLogger(__name__)
LASTING = ("listen", "same_loudness", "set_ahead")
"""Commands that hold until the next of their kind."""
ALIVE_S = 3.0
"""The engine says so often at least that it lives."""
REFUSE_S = 0.5
VIEWERS = 12
"""So many states of sessions are kept ready to be drawn."""

Passage = tuple[int, int]
"""Frames [begin, end)."""


class Hub:
    """Everything that the routes share."""

    def __init__(self, held: FolderLock) -> None:
        """Use a data folder that is held, until the end.

        Raises:
            StoreError: it cannot be used.
        """
        self.data = data = held.folder
        self._lock = held
        database = Database(data / "salt-anvil.db")
        self.sessions = SessionStore(database)
        self.recipes = RecipeStore(database)
        self.targets = TargetStore(database)
        store = PrintStore(database, epoch=int(time.time() * 1000))
        self.prints = Prints(data, store, self.notify)
        self.aims = Aims(data, self.notify)
        self.proofs = Proofs(data, self.notify)
        self._references: dict[str, tuple[Path, Figures]] = {}
        self._making = threading.Lock()
        self._bundling = threading.Lock()
        self.media = MediaFolder(data / "media")
        self.cache = StripCache(data / "cache")
        self.code = sources_digest()
        self.ready = False
        self._tabs: dict[int, Tab] = {}
        self._next_tab = 1
        self._viewers: OrderedDict[tuple[int, Extent, str] | int, Viewer] = OrderedDict()
        self._compared: tuple[int, Extent, str] | None = None
        self._viewing = threading.Lock()
        self._changing: dict[int, threading.RLock] = defaultdict(threading.RLock)
        self._tasks: set[asyncio.Task[None]] = set()
        self._requested: tuple[int, str | None] | None = None
        self._parked: dict[str, float] = {}
        self._repairing: set[str] = set()
        _clear_leftovers(self.prints.folder, data, data / "media")
        self.bundles = data / "bundles"
        for derived in [*(data / "references").glob("*"), *self.bundles.glob("*")]:
            derived.unlink(missing_ok=True)  # written again for whoever asks

    async def start(self) -> None:
        """Start the helper processes, and the prints that a dead server left."""
        self._loop = asyncio.get_running_loop()
        self._engine = WorkerProcess(
            "engine",
            run_engine,
            self.data,
            self._from_engine,
            self._engine_again,
            self._engine_rests,
            alive_s=ALIVE_S,
        )
        self._analysis = WorkerProcess(
            "analysis", run_analysis, self.data, self._from_analysis, self._analysis_again
        )
        self._standstill = Standstill(self._analysis.pause, self._loop.call_later)
        await self.prints.start(self._spawn)
        await self.aims.start(self._spawn)
        self.ready = True

    async def stop(self) -> None:
        """End everything."""
        for task in self._tasks:
            task.cancel()
        if self.ready:
            self._engine.close()
            self._standstill.needed(False)
            self._analysis.close()
            self.prints.stop()
            self.aims.stop()
        self.proofs.stop()
        self._lock.release()

    def _spawn(self, work: Coroutine[Any, Any, None]) -> None:
        """Do something beside the loop's turns; on the loop."""
        task = self._loop.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    # Tabs -------------------------------------------------------------------------------------

    def open_tab(self) -> Tab:
        """Register a tab."""
        tab = Tab(self._next_tab)
        self._next_tab += 1
        self._tabs[tab.number] = tab
        return tab

    def close_tab(self, tab: Tab) -> None:
        """Forget a tab; its player ends."""
        if self._tabs.pop(tab.number, None) is not None:
            self._engine.send(("close", tab.number))

    def open(self, tab: Tab, session_id: int) -> None:
        """Let a tab work on a session.

        Raises:
            StoreError: there is no such session.
        """
        self._at_head(session_id, lambda head: self._attach(tab, head))

    def _attach(self, tab: Tab, revision: Revision) -> None:
        tab.session, tab.strip = revision.session_id, None
        tab.playing, tab.loop, tab.frame, tab.lasting = False, None, 0, {}
        tab.hearing = None
        model = revision.model.model_dump()
        self._engine.send(("open", tab.number, revision.session_id, model, tab.epoch))
        self._request(revision, None)

    async def command(self, tab: Tab, text: str, command: BaseModel) -> None:
        """Pass a tab's command to the engine."""
        kind: str = command.type  # type: ignore[attr-defined]
        if isinstance(command, Played):
            if command.frame is not None and command.epoch == tab.epoch:
                tab.frame = command.frame
            self._engine.send(("played", tab.number, command.epoch, command.frames, command.missed))
            return
        if kind in LASTING:
            tab.lasting[kind] = text
        if kind == "play" and self._engine.resting:
            self._engine.wake()
        message = ("command", tab.number, kind, text)
        if isinstance(command, Preview):
            tab.hearing = message if command.edits else None
        self._engine.send(message)
        if isinstance(command, Listen) and command.strip != tab.strip and tab.session is not None:
            tab.strip = command.strip
            await run_in_threadpool(self._look_at_head, tab.session, tab.strip)

    def hear_revision(self, tab: Tab, revision_id: int | None) -> None:
        """Let a tab hear an earlier state of its session, or what stands again.

        Raises:
            StoreError: there is no such revision.
        """
        if tab.session is None:
            return
        text = Preview(edits=[]).model_dump_json()
        message: tuple[Any, ...] = ("command", tab.number, "preview", text)
        if revision_id is not None:
            model = self.sessions.revision(tab.session, revision_id).model
            message = ("hear", tab.number, tab.session, model.model_dump())

        def hear() -> None:
            tab.hearing = message if revision_id is not None else None
            self._engine.send(message)

        self._loop.call_soon_threadsafe(hear)

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
        self.notify(tab.session, LeverMoved(lever=lever.id, value=value))
        if command.held:
            text = Preview(edits=[edit]).model_dump_json()
            self._loop.call_soon_threadsafe(self._preview, tab.session, text)
        else:
            self.edit(tab.session, head.id, [edit])

    def _preview(self, session_id: int, text: str) -> None:
        for tab in self._tabs.values():
            if tab.session == session_id:
                self._engine.send(("command", tab.number, "preview", text))

    def refuse(self, tab: Tab, text: str) -> None:
        """Tell a tab why something is not done; of a flood of reasons only some."""
        if time.monotonic() - tab.refused_at > REFUSE_S:
            tab.refused_at = time.monotonic()
            self._put(tab, Refused(text=text).model_dump_json())

    def notify(self, session_id: int, event: Event) -> None:
        """Send an event to every tab of a session; from any thread."""
        self._loop.call_soon_threadsafe(self._notify_now, session_id, event.model_dump_json())

    def _notify_now(self, session_id: int, text: str) -> None:
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

    def _from_engine(self, message: tuple[Any, ...]) -> None:
        kind, *rest = message
        if kind == "behind":
            self._loop.call_soon_threadsafe(self._standstill.needed, rest[0])
        elif kind == "damaged":
            self._loop.call_soon_threadsafe(self._repair, rest[0])
        elif kind == "dropped":
            self._loop.call_soon_threadsafe(lambda: self._spawn(self._analyse_again(rest[0])))
        elif kind == "unheard":
            self._loop.call_soon_threadsafe(self._unheard, rest[0], rest[1])
        else:
            self._loop.call_soon_threadsafe(self._to_tab, rest[0], rest[1])

    def _unheard(self, number: int, told: object) -> None:
        """Forget what the engine refused to let a tab hear, unless something else is heard now."""
        tab = self._tabs.get(number)
        if tab is not None and tab.hearing is not None and tab.hearing[-1] == told:
            tab.hearing = None

    def _to_tab(self, number: int, body: bytes | dict[str, Any]) -> None:
        tab = self._tabs.get(number)
        if tab is None:
            return
        if isinstance(body, dict):
            tab.note(body)
        self._put(tab, body if isinstance(body, bytes) else json.dumps(body))

    def _engine_again(self, why: str) -> None:
        self._loop.call_soon_threadsafe(self._standstill.needed, False)
        self._loop.call_soon_threadsafe(lambda: self._spawn(self._go_on(why)))

    async def _go_on(self, why: str) -> None:
        """Tell a new engine what every tab does, and let it play on from where it was heard."""
        for tab in list(self._tabs.values()):
            if tab.session is None:
                continue
            try:
                head = await run_in_threadpool(self.sessions.head, tab.session)
            except StoreError:
                continue  # deleted meanwhile: the tab is told so elsewhere
            number = tab.number
            self._engine.send(("open", number, tab.session, head.model.model_dump(), tab.epoch))
            for kind, text in tab.lasting.items():
                self._engine.send(("command", number, kind, text))
            if tab.hearing is not None:
                self._engine.send(tab.hearing)
            if tab.loop is not None:
                begin, end = tab.loop
                text = Loop(begin=begin, end=end).model_dump_json()
                self._engine.send(("command", number, "loop", text))
            start: BaseModel = Play(frame=tab.frame) if tab.playing else Seek(frame=tab.frame)
            kind = "play" if tab.playing else "seek"
            self._engine.send(("command", number, kind, start.model_dump_json()))
            words = f"The sound engine was started again ({why}); nothing is lost."
            self._put(tab, Refused(text=words).model_dump_json())

    def _engine_rests(self, why: str) -> None:
        words = (
            f"The sound engine ended three times within a minute ({why}) and rests; what is stored"
            " is kept. Play starts it again."
        )
        self._loop.call_soon_threadsafe(self._everybody, words)

    def _everybody(self, words: str) -> None:
        for tab in list(self._tabs.values()):
            if tab.session is not None:
                tab.playing = False
                self._put(tab, Refused(text=words).model_dump_json())
                still = Transport(playing=False, frame=tab.frame, loop=tab.loop, epoch=tab.epoch)
                self._put(tab, still.model_dump_json())

    def _from_analysis(self, message: tuple[int, int, str, int, int]) -> None:
        session_id, revision, strip, done, frames = message
        if strip == JOINS_MEASURED:
            self._held_now(session_id)
            return
        if strip == SETTINGS_MEASURED:
            self.notify(session_id, Compared(session=session_id))
            return
        told = Analysed(
            session=session_id, revision=revision, strip=strip, done=done, frames=frames
        )
        self.notify(session_id, told)

    def _held_now(self, session_id: int) -> None:
        """Let everybody plan again: a steady join was measured."""
        with self._viewing:
            self._viewers.clear()
        with contextlib.suppress(StoreError):  # deleted meanwhile
            self._at_head(session_id, lambda head: self._announce(head, None))

    def _analysis_again(self, why: str) -> None:
        if self._requested is not None:
            with contextlib.suppress(StoreError):
                self._look_at_head(*self._requested)

    async def _analyse_again(self, session_id: int) -> None:
        """Have what was damaged in the cache computed again."""
        strip = next((t.strip for t in self._tabs.values() if t.session == session_id), None)
        with contextlib.suppress(StoreError):
            await run_in_threadpool(self._look_at_head, session_id, strip)

    # Damage -------------------------------------------------------------------------------------

    def _repair(self, media_id: str) -> None:
        if media_id not in self._repairing:
            self._repairing.add(media_id)
            self._spawn(self._repair_now(media_id))

    async def _repair_now(self, media_id: str) -> None:
        """Decode a damaged file again; if its original is damaged too, say which strip it is."""
        try:
            await run_in_threadpool(self.media.repair, media_id)
            self._engine.send(("repaired", media_id))
        except FileError as error:
            for tab in list(self._tabs.values()):
                if tab.session is None:
                    continue
                with contextlib.suppress(StoreError):
                    head = await run_in_threadpool(self.sessions.head, tab.session)
                    names = [s.name for s in head.model.strips if s.audio == media_id]
                    if names:
                        words = f"{', '.join(names)}: {error}."
                        self._put(tab, Refused(text=words).model_dump_json())
        finally:
            self._repairing.discard(media_id)

    def _look_at_head(self, session_id: int, strip: str | None) -> None:
        self._at_head(session_id, lambda head: self._request(head, strip))

    def _at_head(self, session_id: int, act: Callable[[Revision], None]) -> None:
        """Do something with a session as it stands, before what is done with a later revision."""
        with self._changing[session_id]:
            head = self.sessions.head(session_id)
            self._loop.call_soon_threadsafe(act, head)

    def _request(
        self,
        revision: Revision,
        strip: str | None,
        others: Sequence[dict[str, Any]] = (),
    ) -> None:
        self._requested = (revision.session_id, strip)
        if not others:
            self._compared = None
        if self._analysis.resting:
            self._analysis.wake()
        model = revision.model.model_dump()
        self._analysis.send((revision.session_id, revision.id, model, strip, list(others)))

    # Sessions ---------------------------------------------------------------------------------

    def edit(self, session_id: int, base: int, edits: list[Edit]) -> Revision:
        """Carry edits out, store them, and let everybody know.

        Raises:
            CoreError, StoreError: they cannot be done or stored; nothing has changed.
        """
        with self._changing[session_id]:
            model, words = apply_edits(self.sessions.head(session_id).model, edits)
            plan = self._planned(model) if model.strips else None
            revision = self.sessions.append(session_id, base, model, words)
            if plan is not None:
                self._viewer(revision, plan)
            return self.changed(revision)

    def move(self, session_id: int, step: Callable[[int], Revision]) -> Revision:
        """Undo, redo or go back, and let everybody know.

        Raises:
            StoreError: there is no such session.
        """
        with self._changing[session_id]:
            return self.changed(step(session_id))

    def changed(self, revision: Revision) -> Revision:
        """Tell engine, analysis and tabs of a session's new state; while it cannot change."""
        event = Changed(session=revision.session_id, revision=revision.id)
        self._loop.call_soon_threadsafe(self._announce, revision, event)
        return revision

    def _announce(self, revision: Revision, event: Event | None) -> None:
        session_id, model = revision.session_id, revision.model.model_dump()
        tabs = [t for t in self._tabs.values() if t.session == session_id]
        for tab in tabs:
            if event is not None:
                tab.hearing = None  # what was changed is heard now
            elif tab.hearing is not None:
                self._engine.send(tab.hearing)  # planned again, like all others
        epochs = {t.number: t.epoch for t in tabs if t.hearing is None}
        if epochs:
            self._engine.send(("model", list(epochs), session_id, model, epochs))
        if event is not None:
            strip = next((t.strip for t in tabs), None)
            self._request(revision, strip)
            self._notify_now(session_id, event.model_dump_json())

    def remove(self, session_id: int) -> None:
        """Delete a session; tabs that work on it are told.

        Raises:
            StoreError: there is no such session.
        """
        with self._changing[session_id]:
            self.sessions.head(session_id)
            self.sessions.remove(session_id)
            self.proofs.forget(session_id)
            (self.bundles / f"{session_id}.zip").unlink(missing_ok=True)
            self._loop.call_soon_threadsafe(self._removed, session_id)

    def _removed(self, session_id: int) -> None:
        if self._requested is not None and self._requested[0] == session_id:
            self._requested = None
        self._analysis.send((session_id, 0, None, None, []))
        for tab in list(self._tabs.values()):
            if tab.session == session_id:
                tab.session = None
                self._engine.send(("close", tab.number))
                self._put(tab, Removed(session=session_id).model_dump_json())

    def viewer(self, session_id: int) -> tuple[Revision, Viewer]:
        """Return the pictures and figures of a session as it stands."""
        revision = self.sessions.head(session_id)
        return revision, self._viewer(revision)

    def earlier_viewer(self, session_id: int) -> Viewer | None:
        """Return those of the revision before; None where this is the first."""
        revision = self.sessions.earlier(session_id)
        return None if revision is None else self._viewer(revision)

    def _viewer(self, revision: Revision, plan: Plan | None = None) -> Viewer:
        return self._viewer_of(revision.id, revision.model, plan)

    def _viewer_of(
        self, key: tuple[int, Extent, str] | int, model: Session, plan: Plan | None = None
    ) -> Viewer:
        with self._viewing:
            found = self._viewers.get(key)
        if found is not None:
            return found
        plan = plan or self._planned(model)
        found = Viewer(model, plan, self.code, self.cache)
        with self._viewing:
            self._viewers[key] = found
            while len(self._viewers) > VIEWERS:
                self._viewers.popitem(last=False)
        return found

    def compare(self, session_id: int, wanted: CompareRequest) -> Comparison:
        """Return what can be heard of an extent side by side; what is not measured is, soon.

        Raises:
            StoreError, MissingError: there is no such session or place.
        """
        revision, extent = self.sessions.head(session_id), wanted.extent
        passage = (wanted.begin, max(wanted.end, wanted.begin + 1))
        if wanted.tried is not None or wanted.revision is not None:
            return self._compare_try(revision, wanted, passage)
        others = variants(revision.model, extent)

        def viewer_of(slot: Slot | None) -> Viewer | str:
            if slot is None:
                return self._viewer(revision)
            other = others[slot]
            if isinstance(other, str):
                return other
            try:
                return self._viewer_of((revision.id, extent, slot), other)
            except SaltAnvilError as error:
                return str(error)

        found = comparison(
            revision.model,
            extent,
            wanted.against,
            viewer_of,
            wanted.at,
            wanted.in_mix,
            passage,
        )
        if found.done < 1 and others:
            models = [m for m in others.values() if not isinstance(m, str)]
            self._measure_others(revision, extent, "", models)
        return found

    def _compare_try(
        self, revision: Revision, wanted: CompareRequest, passage: Passage
    ) -> Comparison:
        """Set what stands beside a recipe that is tried, or beside an earlier revision."""
        extent, then, tried = wanted.extent, wanted.revision, wanted.tried
        name = f"revision {then}" if tried is None else tried.model_dump_json()
        model: Session | None = None
        viewer: Viewer | str
        try:
            if tried is not None:
                model = apply_edits(revision.model, [tried])[0]
            else:
                model = self.sessions.revision(revision.session_id, then or 0).model
            viewer = self._viewer_of((revision.id, extent, name), model)
        except SaltAnvilError as error:
            viewer = str(error)
        viewers = (self._viewer(revision), viewer)
        found = comparison_of_try(revision.model, extent, viewers, wanted.in_mix, passage)
        if found.done < 1 and model is not None:
            self._measure_others(revision, extent, name, [model])
        return found

    def _measure_others(
        self, revision: Revision, extent: Extent, name: str, models: list[Session]
    ) -> None:
        """Have what is not in force gone through, unless it is being done. name: of a try."""
        wanted = (revision.id, extent, name)
        with self._viewing:
            if self._compared == wanted:
                return
            self._compared = wanted
        strip, _ = stand_in(revision.model, extent)
        others = [m.model_dump() for m in models]

        def request(head: Revision) -> None:
            if head.id == revision.id:
                self._request(head, strip.id, others)

        self._at_head(revision.session_id, request)

    def _planned(self, model: Session) -> Plan:
        return make_plan(model, observe_all=True, measured=self.join_measurement)

    def join_measurement(self, digest: str) -> JoinMeasurement | None:
        """Return what was measured of a steady join."""
        return self.cache.join_measurement(fingerprint_of(digest, self.code))

    def measured_joins(self, model: Session) -> dict[str, JoinMeasurement]:
        """Return what is measured of a session's steady joins and kept loudnesses, by name."""
        joins = [join for strip in self._planned(model).strips for join in strip.joins]
        return {join.name: join.measured for join in joins if join.measured is not None}

    def latency(self, revision: Revision) -> int:
        """Return the greatest latency of a strip in frames."""
        if not revision.model.strips:
            return 0
        return self._viewer(revision).latency

    def _progress(self, session_id: int, name: str) -> Callable[[float], None]:
        """Return what tells the tabs how far a file is, now and then."""
        last = 0.0

        def progress(share: float) -> None:
            nonlocal last
            if share - last >= 0.02 or share >= 1:
                last = share
                self.notify(session_id, BroughtIn(session=session_id, name=name, progress=share))

        return progress

    def bring_reference(self, session_id: int, path: Path, name: str) -> Revision:
        """Take a file in that is only compared with, at the session's rate.

        Raises:
            FileError, StoreError: it cannot be used; nothing is left behind.
        """
        rate = self.sessions.head(session_id).model.rate
        media = self.media.bring_in(path, name, rate, self._progress(session_id, name))
        with self._changing[session_id]:
            head = self.sessions.head(session_id)
            fields = {k: v for k, v in _strip_of(media, name).items() if k != "kind"}
            model, words = AddReference(reference=fields).apply(head.model)
            return self.changed(self.sessions.append(session_id, head.id, model, words))

    def reference(self, session_id: int, name: str) -> tuple[Path, Figures]:
        """Return a reference as a file that a browser plays (float WAV), and its figures.

        Raises:
            StoreError, MissingError, FileError: it is not there.
        """
        model = self.sessions.head(session_id).model
        found = next((r for r in model.references if r.id == name), None)
        if found is None:
            raise MissingError(f"there is no reference “{name}”")
        with self._making:  # one after the other: two tabs may ask at once
            known = self._references.get(found.audio)
            if known is None or not known[0].is_file():
                known = playable(self.media, found.audio, self.data / "references")
                self._references[found.audio] = known
        return known

    def bundle(self, session_id: int, with_prints: bool) -> Path:
        """Write a session as a bundle, which lies there until the next one of it.

        Raises:
            StoreError, FileError: it is not there, or cannot be written.
        """
        model = self.sessions.head(session_id).model
        files = printed(self.prints.store, self.data, session_id) if with_prints else []
        target = self.bundles / f"{session_id}.zip"
        make_folder(self.bundles)
        with self._bundling:  # one after the other: two tabs may ask at once
            write_bundle(target, model, self.media, files)
        return target

    def open_bundle(self, path: Path, name: str) -> Revision:
        """Take a bundle in as a new session.

        Raises:
            StoreError, FileError: it cannot be used; no session is made.
        """
        model = read_bundle(path, name, self.media)
        return self.sessions.add(model, "Opened from a bundle")

    def bring_in(self, session_id: int, path: Path, name: str) -> tuple[Revision, Media]:
        """Take a file into a session as a new track; the first one sets the session's rate.

        Raises:
            FileError, StoreError: it cannot be used; nothing is left behind.
        """
        from salt_anvil.files.read import SoundReader

        with SoundReader(path, name) as reader:
            own_rate = reader.info.rate
        progress = self._progress(session_id, name)

        def first_rate(session: Session) -> int:
            usable = SAMPLE_RATES[0] <= own_rate <= SAMPLE_RATES[1]
            return own_rate if session.frames() == 0 and usable else session.rate

        # The session goes on changing meanwhile: what it is when the file is there counts.
        rate = first_rate(self.sessions.head(session_id).model)
        while True:
            media = self.media.bring_in(path, name, rate, progress)
            with self._changing[session_id]:
                head = self.sessions.head(session_id)
                if first_rate(head.model) == rate:
                    session = head.model.model_copy(update={"rate": rate})
                    model, words = AddStrip(strip=_strip_of(media, name)).apply(session)
                    self._engine.send(("repaired", media.id))
                    revision = self.sessions.append(session_id, head.id, model, words)
                    return self.changed(revision), media
                rate = first_rate(head.model)


def _strip_of(media: Media, name: str) -> dict[str, Any]:
    """Return a file that was brought in under a name as a new track."""
    words = "".join(c if c.isprintable() else " " for c in Path(name).stem).strip()
    return {
        "name": words[:80] or "Track", "kind": "track", "audio": media.id,
        "channels": media.channels, "frames": media.frames,
    }  # fmt: skip


def _clear_leftovers(*folders: Path) -> None:
    """Remove what a dead server left half done."""
    for folder in folders:
        for pattern in ("*.part", "*.progress", "*.upload", "*.part.sums"):
            for path in folder.glob(pattern):
                path.unlink(missing_ok=True)


def new_session(name: str, bpm: float | None) -> Session:
    """Return a session with nothing but its main bus."""
    from salt_anvil.core.session import checked

    main = {"id": "main", "name": "Main bus", "kind": "main"}
    return checked(Session, {"name": name, "bpm": bpm, "strips": [main]})
