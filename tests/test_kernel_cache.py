"""Compiled kernels are kept by what they are compiled from."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

import salt_anvil
from salt_anvil import _kernel_cache


def digests(package: Path) -> tuple[str, str]:
    code = (
        "from salt_anvil import _kernel_cache as k; print(k.kernels_digest(), k.sources_digest())"
    )
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
    assert before == (_kernel_cache.kernels_digest(), _kernel_cache.sources_digest())
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
    assert _kernel_cache.folder().name == f"kernels-{_kernel_cache.kernels_digest()}"
