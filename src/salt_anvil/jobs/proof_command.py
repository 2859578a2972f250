"""`salt-anvil proof`: of a file, or of a session of a data folder, without a server."""

import multiprocessing
import os
import tempfile
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from salt_anvil.core.delivery.proof import Proof, WayResult, verdict
from salt_anvil.core.delivery.targets import SHIPPED, Target
from salt_anvil.core.delivery.ways import USUAL, Way, way_of
from salt_anvil.core.errors import FileError, MissingError
from salt_anvil.files.read import SoundReader
from salt_anvil.jobs.aim_command import Span, frames_of, span_in
from salt_anvil.jobs.print_command import find_session
from salt_anvil.jobs.proof import FileSubject, ProofRequest, Prover, SessionSubject, Told
from salt_anvil.store.database import Database
from salt_anvil.store.targets import TargetStore


def target_named(name: str | None, data: Path) -> Target:
    """Return a target: one that ships, or one of the user's own in a data folder.

    Raises:
        FileError: there is none of this name.
    """
    known = list(SHIPPED)
    path = data / "salt-anvil.db"
    if path.is_file():
        known += TargetStore(Database(path)).every()
    if name is None:
        return known[0]
    for target in known:
        if target.name.casefold() == name.casefold():
            return target
    names = "; ".join(t.name for t in known)
    raise FileError(f"there is no target “{name}”; there are: {names}")


def ways_named(texts: Sequence[str]) -> list[Way]:
    """Return the ways of a command line, the usual ones where it names none.

    Raises:
        SettingError: a text names none.
    """
    found: list[Way] = []
    for text in texts:
        way = way_of(text)
        if way not in found:
            found.append(way)
    return found or list(USUAL)


def prove(
    what: str,
    data: Path,
    request: ProofRequest,
    span: Span,
    section: str | None,
    tell: Callable[[Told], None],
) -> Proof:
    """Prove a file, or a session given by number or name, in a folder that goes afterwards.

    Raises:
        FileError, CoreError: it cannot be found or done.
    """
    path = Path(what)
    subject: FileSubject | SessionSubject
    if path.is_file():
        if request.strip or section or span != (0.0, None):
            raise FileError("a file is proved whole; --strip, --section, --from and --to are of"
                            " sessions")  # fmt: skip
        with SoundReader(path):
            subject = FileSubject(path)
    else:
        session = find_session(data, what)
        begin, end = frames_of(session, span_in(session, span, section))
        main = next(s.id for s in session.strips if s.kind == "main")
        strip = request.strip or main
        if strip not in {s.id for s in session.strips}:
            named = [s.id for s in session.strips if s.name == strip]
            if not named:
                raise MissingError(f"there is no strip {strip}")
            strip = named[0]
        subject = SessionSubject(data, session.model_dump(), strip, begin, end)
        request = request.model_copy(update={"begin": begin, "end": end, "strip": strip})
    workers = max(os.cpu_count() or 1, 1)
    context = multiprocessing.get_context("forkserver")
    # Imported once for all of them.
    context.set_forkserver_preload(["salt_anvil.jobs.proof"])
    with (
        tempfile.TemporaryDirectory(prefix="salt-anvil-proof-") as folder,
        ProcessPoolExecutor(workers, context) as pool,
    ):
        prover = Prover(Path(folder) / "proof", pool, tell)
        try:
            return prover.prove(subject, request)
        except BaseException:
            prover.stop()
            raise


def table(proof: Proof) -> str:
    """Return a proof as a table for a terminal."""
    found = verdict(proof)
    lines = [found.title, found.text.strip(), ""]
    lines += [f"{proof.what} against “{proof.target.name}”:"]
    for line in proof.lines:
        kept = {True: "on target", False: "MISSED", None: ""}[line.kept]
        lines.append(
            f"  {line.label:18}{_one(line.measured):>8} {line.unit:5}{line.wanted:16}{kept}"
        )
    lines += ["", f"{'':34}{'peak':>7}{'true peak':>11}{'overs':>7}{'loudest':>9}{'LU':>7}"]
    verified = {w.name: w for w in (proof.ceiling.verified if proof.ceiling else [])}
    for way in [proof.as_it_stands, *proof.ways]:
        lines.append("  " + _row(way))
        if way.name in verified and proof.ceiling and proof.ceiling.found_db is not None:
            then = verified[way.name]
            lines.append(
                f"    with {proof.ceiling.found_db:.1f} dB: true peak {_one(then.true_peak_dbtp)},"
                f" {len(then.overs)} overs"
            )
    for finding in proof.findings:
        lines.append(f"{finding.title}: {finding.text}")
    return "\n".join(lines)


def _row(way: WayResult) -> str:
    if way.error is not None:
        return f"{way.words:32}{way.error}"
    loudest = max((o.peak_dbtp for o in way.overs), default=None)
    return (
        f"{way.words:32}{_one(way.sample_peak_dbfs):>7}{_one(way.true_peak_dbtp):>11}"
        f"{len(way.overs):>7}{_one(loudest):>9}{_one(way.loudness_lu):>7}"
    )


def _one(value: float | None) -> str:
    return "–" if value is None else f"{value:.1f}"
