"""Where compiled kernels are kept: one folder for one state of the kernel sources.

numba's own cache notices an edit in the file of a kernel, not in a kernel that it calls from
another file. A folder named after the digest of all of them has no such hole.
"""

import hashlib
import os
from pathlib import Path

_CORE = Path(__file__).parent.parent / "core"
_COMPILED = (b"njit(", b"@kernel", b"@inlined", b"@as_written", b"@measuring")


def sources_digest() -> str:
    """Return the digest of every file of the core, the version of the code in fingerprints."""
    digest = hashlib.sha256()
    for path in sorted(_CORE.rglob("*.py")):
        digest.update(path.relative_to(_CORE).as_posix().encode())
        digest.update(path.read_bytes())
    return digest.hexdigest()[:16]


def kernels_digest() -> str:
    """Return the digest of the files that hold compiled kernels."""
    digest = hashlib.sha256()
    for path in sorted(_CORE.rglob("*.py")):
        text = path.read_bytes()
        if any(word in text for word in _COMPILED):
            digest.update(text)
    return digest.hexdigest()[:16]


def folder() -> Path:
    """Return the folder of the compiled kernels of this state of the sources."""
    base = os.environ.get("SALT_ANVIL_CACHE") or os.environ.get("XDG_CACHE_HOME")
    root = Path(base) if base else Path.home() / ".cache"
    return root / "salt-anvil" / f"kernels-{kernels_digest()}"


def is_compiled() -> bool:
    """Say whether every kernel of this state of the sources has been compiled."""
    return (Path(os.environ["NUMBA_CACHE_DIR"]) / "compiled").exists()


def note_compiled() -> None:
    """Note that every kernel has been compiled."""
    place = Path(os.environ["NUMBA_CACHE_DIR"])
    place.mkdir(parents=True, exist_ok=True)
    (place / "compiled").touch()


def point_numba_at_it() -> None:
    """Set numba's cache folder, unless the user has chosen one; before numba is imported."""
    os.environ.setdefault("NUMBA_CACHE_DIR", str(folder()))
