"""Proofs: one after the other, each with processes of its own; the newest of a session is kept."""

import itertools
import logging
import os
import shutil
import threading
import time
from collections.abc import Callable
from concurrent.futures import BrokenExecutor, ProcessPoolExecutor, ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

from salt_anvil.api.processes import CONTEXT, become
from salt_anvil.core.delivery.proof import Proof
from salt_anvil.core.delivery.ways import Way
from salt_anvil.core.errors import FileError, MissingRowError, SaltAnvilError
from salt_anvil.jobs.print_worker import Cancelled
from salt_anvil.jobs.proof import (
    MIX,
    FileSubject,
    ProofRequest,
    Prover,
    SessionSubject,
    Told,
    heard_file,
    taken_by,
)
from salt_anvil.kernels.parent import give_way
from salt_anvil.live.messages import Event, Proving
from salt_anvil.store.sessions import Revision

logger = logging.getLogger(__name__)
TELL_S = 0.2
LONGEST_NAME = 120
"""Bytes of the name of a file that is brought."""
Notify = Callable[[int, Event], None]
Teller = Callable[[Told], None]


@dataclass
class Kept:
    """A proof of a session: waiting, running, done, failed or stopped."""

    number: int
    session_id: int
    revision: int
    request: ProofRequest
    state: str = "waiting"
    words: str = ""
    proof: Proof | None = None
    shares: dict[str, float] = field(default_factory=dict)
    prover: Prover | None = None


class Proofs:
    """What is proved, and the thread that conducts it."""

    def __init__(self, data: Path, notify: Notify) -> None:
        self._data, self._notify = data, notify
        self._folder = data / "proofs"
        shutil.rmtree(self._folder, ignore_errors=True)
        self._folder.mkdir()
        self._numbers = itertools.count(1)
        self._kept: dict[int, Kept] = {}
        self._lock = threading.Lock()
        self._conductor = ThreadPoolExecutor(1, "proofs")
        self._taking = threading.Lock()

    def stop(self) -> None:
        """Leave everything off."""
        for kept in self._kept.values():
            _leave_off(kept)
        self._conductor.shutdown(wait=False, cancel_futures=True)

    def ask(self, revision: Revision, request: ProofRequest) -> Kept:
        """Begin a proof of a session as it stands, instead of one that may be under way.

        Raises:
            CoreError, FileError: there is no such strip or file, or no sound in the passage.
        """
        subject = self._subject(revision, request)
        kept = Kept(next(self._numbers), revision.session_id, revision.id, request)
        with self._lock:
            before = self._kept.get(revision.session_id)
            self._kept[revision.session_id] = kept
        if before is not None:
            _leave_off(before)
        self._conductor.submit(self._run, kept, subject)
        return kept

    def _subject(self, revision: Revision, request: ProofRequest) -> SessionSubject | FileSubject:
        if request.file is not None:
            path = self.brought(revision.session_id, request.file)
            if not path.is_file():
                raise FileError(f"{request.file} is not here any more; bring it again")
            return FileSubject(path)
        session = revision.model
        main = next(s.id for s in session.strips if s.kind == "main")
        strip = session.strip(request.strip or main)
        end = session.frames() if request.end is None else min(request.end, session.frames())
        if request.begin >= end:
            raise FileError("there is no sound in this passage")
        return SessionSubject(self._data, session.model_dump(), strip.id, request.begin, end)

    def brought(self, session_id: int, name: str) -> Path:
        """Return where a file that is only to be proved lies.

        Raises:
            FileError: this is no name of a file.
        """
        last = name.replace("\\", "/").rpartition("/")[2]
        plain = "".join(c if c.isprintable() else "_" for c in last)
        while len(plain.encode(errors="replace")) > LONGEST_NAME:  # file systems count bytes
            plain = plain[1:]
        if plain.strip(". ") == "":
            raise FileError(f"“{plain}” is no name of a file")
        return self._folder / f"brought-{session_id}" / plain

    def cancel(self, session_id: int) -> None:
        """Stop the proof of a session.

        Raises:
            MissingRowError: none is under way.
        """
        kept = self._kept.get(session_id)
        if kept is None or kept.state not in ("waiting", "running"):
            raise MissingRowError("no proof of this session is under way")
        _leave_off(kept)

    def forget(self, session_id: int) -> None:
        """Let go of all that belongs to a deleted session."""
        kept = self._kept.pop(session_id, None)
        if kept is not None:
            _leave_off(kept)
        self._conductor.submit(self._clear, session_id)

    def _clear(self, session_id: int) -> None:
        for name in (str(session_id), f"brought-{session_id}"):
            shutil.rmtree(self._folder / name, ignore_errors=True)

    def newest(self, session_id: int) -> Kept | None:
        """Return the newest proof of a session, as far as it is."""
        return self._kept.get(session_id)

    def sound(self, session_id: int, name: str, taken: bool) -> Path:
        """Return a file of what came back from a way, or of what its coder took; or of the mix.

        Raises:
            FileError: it is not there.
        """
        kept, folder = self._kept.get(session_id), self._folder / str(session_id)
        if kept is None:
            raise FileError("nothing was proved yet")
        if name == Way().name:
            path = folder / MIX
        else:
            way = next((w for w in kept.request.ways if w.name == name), None)
            if way is None:
                raise FileError(f"{name} is none of the ways that were gone")
            with self._taking:
                path = taken_by(folder, way) if taken else heard_file(folder, name)
        if not path.is_file():
            raise FileError(f"{name} was not gone yet")
        return path

    def _run(self, kept: Kept, subject: SessionSubject | FileSubject) -> None:
        if kept.state != "waiting":
            return  # stopped, or another was asked for
        # One process a core: each way out is one piece of work.
        pool = ProcessPoolExecutor(max(os.cpu_count() or 1, 1), CONTEXT, initializer=_become_prover)
        kept.prover = Prover(self._folder / str(kept.session_id), pool, self._teller(kept))
        with self._lock:
            if kept.state == "waiting":
                kept.state = "running"
        try:
            if kept.state == "running":
                kept.proof = kept.prover.prove(subject, kept.request)
                kept.state = "done"
        except Cancelled:
            kept.state = "stopped"
        except BrokenExecutor:
            kept.state, kept.words = "failed", "a process that proves ended; prove it again"
        except SaltAnvilError as error:
            kept.state, kept.words = "failed", str(error)
        except Exception:
            logger.exception("a proof failed")
            kept.state, kept.words = "failed", "the proof failed; the server's log says why"
        finally:
            kept.shares = {}
            pool.shutdown(wait=True, cancel_futures=True)
            self._tell(kept)

    def _teller(self, kept: Kept) -> Teller:
        last, known = 0.0, 0

        def tell(told: Told) -> None:
            nonlocal last, known
            count = 0 if told.proof is None else 1 + len(told.proof.ways)
            fresh = told.proof is not kept.proof or told.words != kept.words
            kept.proof, kept.words, kept.shares = told.proof, told.words, told.shares
            if fresh or count != known or time.monotonic() - last > TELL_S:
                last, known = time.monotonic(), count
                self._tell(kept)

        return tell

    def _tell(self, kept: Kept) -> None:
        if self._kept.get(kept.session_id) is kept:
            self._notify(
                kept.session_id,
                Proving(
                    session=kept.session_id,
                    number=kept.number,
                    state=kept.state,
                    words=kept.words,
                    shares=kept.shares,
                    ways=-1 if kept.proof is None else len(kept.proof.ways),
                ),
            )


def _leave_off(kept: Kept) -> None:
    if kept.state in ("waiting", "running"):
        kept.state = "stopped"
        if kept.prover is not None:
            kept.prover.stop()


def _become_prover() -> None:
    become("proofs")
    give_way(10)
