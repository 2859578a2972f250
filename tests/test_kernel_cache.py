"""Compiled kernels are kept by what they are compiled from."""

import os
import shutil
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

import salt_anvil
from salt_anvil.core.compiled import kernel
from salt_anvil.kernels import cache as kernel_cache


def digests(package: Path) -> tuple[str, str]:
    code = "from salt_anvil import kernel_cache as k; print(k.kernels_digest(), k.sources_digest())"
    environment = dict(os.environ, PYTHONPATH=str(package.parent))
    out = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, env=environment, check=True
    )
    kernels, sources = out.stdout.split()
    return kernels, sources


def test_an_edited_kernel_is_another_folder(tmp_path: Path) -> None:
    package = tmp_path / "salt_anvil"
    original = Path(salt_anvil.__file__).parent
    shutil.copytree(original, package, ignore=shutil.ignore_patterns("web", "__pycache__"))
    before = digests(package)
    assert before == (kernel_cache.kernels_digest(), kernel_cache.sources_digest())
    plain = package / "core" / "errors.py"
    plain.write_text(plain.read_text() + "\n# another line\n")
    changed = digests(package)
    assert changed[0] == before[0]
    assert changed[1] != before[1]
    kernel = package / "core" / "dsp" / "decibel.py"
    kernel.write_text(kernel.read_text().replace("1.0 / 11.0", "1.0 / 11.5"))
    assert digests(package)[0] != before[0]


def test_numba_is_pointed_at_it() -> None:
    assert os.environ["NUMBA_CACHE_DIR"]
    assert kernel_cache.folder().name == f"kernels-{kernel_cache.kernels_digest()}"


def test_play_compiles_and_loads_nothing_that_set_up_has_not(tmp_path: Path) -> None:
    """In a fresh process: after `compile_kernels`, a session with everything adds no signature; nor
    are the parts of scipy there that take a tenth of a second to a whole one to load."""
    code = """
import sys
import salt_anvil.analysis.worker, salt_anvil.api.serve
import salt_anvil.jobs.print_worker, salt_anvil.jobs.process_file, salt_anvil.live.worker
from salt_anvil.kernels.compile import compile_kernels
import pkgutil
from importlib import import_module
from salt_anvil.core import dsp, measure

def signatures():
    modules = [
        import_module(f"{package.__name__}.{found.name}")
        for package in (dsp, measure) for found in pkgutil.iter_modules(package.__path__)
    ]
    return {
        (m.__name__, n): len(k.signatures)
        for m in modules for n, k in vars(m).items() if hasattr(k, "signatures")
    }

compile_kernels()
slow = ("fft", "interpolate", "linalg", "ndimage", "optimize", "signal")
print([n for n in slow if f"scipy.{n}" in sys.modules])
before = signatures()
sys.path.insert(0, sys.argv[1])
import pathlib, tempfile
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.analysis.cache import StripCache
from salt_anvil.jobs.render import print_to_file
from salt_anvil.analysis.strip_pass import analyse
from salt_anvil.live.messages import Listen
from salt_anvil.live.playback import RenderCache
from salt_anvil.live.player import Player
from tests.sessions import small_session, source
place = pathlib.Path(tempfile.mkdtemp())
analyse(small_session(), "c", source, StripCache(place / "cache"), None, lambda *a: True)
player = Player(small_session(), source, RenderCache())
for strip in ("a", "c", "main"):
    player.listen(Listen(strip=strip))
    player.play(0)
    player.pieces()
print_to_file(make_plan(small_session()), source, place / "x.wav", "wav-24")
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.processors import REGISTRY, Context
from salt_anvil.core.session import Key, Stage
import numpy as np
for item in REGISTRY.values():
    for share in (0.123, 0.777):
        for control in item.describe().controls:
            if control.type != "number":
                continue
            value = control.low + share * (control.high - control.low)
            try:
                stage = Stage(id="x", kind=item.kind, params=item.Params(**{control.name: value}))
                unit = Unit(stage, Context(44100, 1))
            except Exception:
                continue  # a range upside down
            unit.process(np.ones((100, 1)), 0)
after = signatures()
print([k for k in after if after[k] != before.get(k)])
"""
    root = Path(__file__).parent.parent
    out = subprocess.run(
        [sys.executable, "-c", code, str(root)], capture_output=True, text=True, check=True
    )
    assert out.stdout.split() == ["[]", "[]"]


def test_a_kernel_that_is_there_starts_without_the_compiler(tmp_path: Path) -> None:
    """A first run compiles and keeps, a second links what is kept, and both say the same."""
    (tmp_path / "kernels_here.py").write_text("""
import numpy as np
from salt_anvil.core.compiled import inlined, kernel

@inlined
def times(x, n):
    return 1.0 * n * x

@kernel
def steps(n):
    out = np.zeros((n, 2))
    for i in range(n):
        out[i] = times(i, 2) + times(0, n)
    return out
""")
    code = """
import sys
from salt_anvil.kernels import cache
import kernels_here
print(kernels_here.steps(4).tolist(), "numba.cpython.printimpl" in sys.modules,
      "numba.np.arraymath" in sys.modules, "scipy.linalg" in sys.modules,
      sum(kernels_here.steps.stats.cache_hits.values()), len(kernels_here.times.signatures),
      any("\\tlock" in code for code in kernels_here.steps.inspect_asm().values()))
"""
    environment = dict(
        os.environ,
        NUMBA_CACHE_DIR=str(tmp_path / "kept"),
        PYTHONPATH=os.pathsep.join([str(tmp_path), str(Path(salt_anvil.__file__).parent.parent)]),
    )
    said = [
        subprocess.run(
            [sys.executable, "-c", code],
            capture_output=True,
            text=True,
            env=environment,
            check=True,
        ).stdout.split("]] ")
        for _ in range(2)
    ]
    assert said[0][0] == said[1][0]
    first, second = (s[1].split() for s in said)
    # One form for the number that is written down and for the other.
    assert first == ["True", "True", "False", "0", "1", "False"]
    assert second == ["False", "False", "False", "1", "0", "False"]


@kernel
def _in_parts(values: np.ndarray, times: int) -> float:
    """A loop in which numba cannot spare itself the counting."""
    total = 0.0
    for i in range(times):
        part = values[i % 5 :]
        for k in range(len(part)):
            if part[k] > 7.0:
                part = part[1:]
                break
        total += part[0]
    return total


def test_threads_that_share_an_array_do_not_share_its_count() -> None:
    """Counted without locks, a shared count would be lost in, and the array freed too soon, or
    never: its holders are as many as before."""
    values = np.arange(9.0)
    expected, holders = _in_parts(values, 200_000), sys.getrefcount(values)
    with ThreadPoolExecutor(4) as pool:
        found = list(pool.map(lambda _: _in_parts(values, 200_000), range(200)))
    assert set(found) == {expected}
    assert sys.getrefcount(values) == holders


def test_a_form_kept_under_the_name_of_another_is_not_run(tmp_path: Path) -> None:
    """Two processes that keep two forms of one kernel at the same time may both call theirs 1."""
    (tmp_path / "kernels_here.py").write_text("""
from salt_anvil.core.compiled import kernel

@kernel
def last(values):
    return values[len(values) - 1]
""")
    code = """
import numpy as np
import kernels_here
for kind in (np.float32, np.int64):
    print(kernels_here.last(np.arange(40).astype(kind)))
"""
    kept = tmp_path / "kept"
    environment = dict(
        os.environ,
        NUMBA_CACHE_DIR=str(kept),
        PYTHONPATH=os.pathsep.join([str(tmp_path), str(Path(salt_anvil.__file__).parent.parent)]),
    )
    for _ in range(2):
        words = [sys.executable, "-c", code]
        out = subprocess.run(words, capture_output=True, text=True, env=environment, check=True)
        assert out.stdout.split() == ["39.0", "39"]
        first, second = sorted(kept.rglob("*.nbc"))
        held = first.read_bytes()
        first.write_bytes(second.read_bytes())
        second.write_bytes(held)
