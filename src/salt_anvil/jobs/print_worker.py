"""A print in a worker process: a whole session model in, one finished file out."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.cached_strips import CachedStrips
from salt_anvil.analysis.strip_pass import Notify, join_measurements, measure_missing_joins, mended
from salt_anvil.core.engine.fingerprint import fingerprints_of
from salt_anvil.core.engine.mixer import Source
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.session import Model, Session, checked
from salt_anvil.files.media import MediaFolder
from salt_anvil.files.write import PrintFormat
from salt_anvil.jobs.render import print_to_file
from salt_anvil.kernels.cache import sources_digest


class PrintOptions(Model):
    """What to print. strip: None for the main mix; tap: where the strip is taken."""

    strip: str | None = None
    tap: str = "chain"
    format: PrintFormat = "wav-24"
    dither: bool = True
    begin: int = 0
    end: int | None = None


class Cancelled(Exception):
    """The print was cancelled."""


def run_print(
    data: Path,
    model: Any,
    options: PrintOptions,
    target: Path,
    flag: Path | None = None,
    progress: Callable[[float], None] = lambda share: None,
) -> int:
    """Print and return the number of clipped samples.

    flag: a file that holds the progress for whoever asks; when it is gone, the print stops.

    Raises:
        CoreError, FileError: it cannot be done. Cancelled: the flag went away.
    """
    session, code = checked(Session, model), sources_digest()
    cache = StripCache(data / "cache")
    source = MediaFolder(data / "media").source()
    last = -1.0

    def show(share: float) -> None:
        nonlocal last
        progress(share)
        if flag is None or share - last < 0.01:
            return
        last = share
        if not flag.exists():
            raise Cancelled
        flag.write_text(f"{share:.4f}")

    def patient(strip: str, done: int, frames: int) -> bool:
        if flag is not None and not flag.exists():
            raise Cancelled
        return True

    def attempt() -> int:
        return _print(session, options, target, code, source, cache, patient, show)

    return mended(cache, attempt)


def _print(
    session: Session,
    options: PrintOptions,
    target: Path,
    code: str,
    source: Source,
    cache: StripCache,
    patient: Notify,
    show: Callable[[float], None],
) -> int:
    measure_missing_joins(session, code, source, cache, patient)
    plan = make_plan(session, measured=join_measurements(cache, code))
    frozen = CachedStrips(cache, code)(plan)
    fingerprints = {n: m for n, m in fingerprints_of(plan, code).items() if n not in frozen}
    return print_to_file(
        plan,
        source,
        target,
        options.format,
        frozen=frozen,
        strip=options.strip,
        after_fader=options.tap == "fader",
        begin=options.begin,
        end=options.end,
        dither=options.dither,
        progress=show,
        states=lambda block: cache.states_before(fingerprints, block),
    )


def print_name(session: Session, options: PrintOptions, number: int | None = None) -> str:
    """Return the file name of a print."""
    part = session.strip(options.strip).name if options.strip else "Main mix"
    stem = f"{session.name} - {part}" + (f" {number}" if number else "")
    safe = "".join(c if c.isalnum() or c in " -_" else "_" for c in stem)
    return f"{safe}.{options.format.split('-')[0]}"
