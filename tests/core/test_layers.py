"""The arrows between the layers point down only (design: the core knows nothing above it)."""

import ast
from functools import cache
from pathlib import Path

import pytest

import salt_anvil

ROOT = Path(salt_anvil.__file__).parent
# What each layer may import of the project, and of the rest of the world.
ALLOWED = {
    "core": {"core"},
    "files": {"core", "files"},
    "store": {"core", "store"},
    "demo": {"core", "files", "store", "kernels", "demo"},
    "kernels": {"core", "kernels"},
    "analysis": {"core", "files", "kernels", "analysis"},
    "jobs": {"core", "files", "store", "kernels", "analysis", "jobs"},
    "live": {"core", "files", "kernels", "analysis", "live"},
}
CORE_OUTSIDE = {"numpy", "scipy", "numba", "pydantic", "annotated_types"}
NOT_IN_CORE = {"fastapi", "sqlite3", "asyncio", "time", "pathlib", "os", "io", "datetime"}


# The rooms of the core, from the ground up; each may use those below it.
CORE_ORDER: list[set[str]] = [
    {"errors", "compiled"}, {"audio", "state"}, {"dsp"}, {"processors"}, {"session"},
    {"session_index", "guessing", "engine_version"}, {"engine"}, {"recipe"},
    {"edits"},
    {"differences", "measure", "library", "aim", "resonances"},
    {"delivery"}, {"lab"},
]  # fmt: skip


@cache
def nodes(path: Path) -> list[ast.AST]:
    return list(ast.walk(ast.parse(path.read_text())))


@cache
def imports(path: Path) -> set[str]:
    found = set()
    for node in nodes(path):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
    return found


@pytest.mark.parametrize("layer", sorted(ALLOWED))
def test_arrows_point_down(layer: str) -> None:
    for path in (ROOT / layer).rglob("*.py"):
        for name in imports(path):
            if name.startswith("salt_anvil."):
                assert name.split(".")[1] in ALLOWED[layer], f"{path.name} imports {name}"


def test_core_is_pure_computation() -> None:
    for path in (ROOT / "core").rglob("*.py"):
        for name in imports(path):
            assert name.split(".")[0] not in NOT_IN_CORE, f"{path.name} imports {name}"


def room(parts: tuple[str, ...]) -> int:
    name = parts[0].removesuffix(".py")
    return next(i for i, rooms in enumerate(CORE_ORDER) if name in rooms)


def test_the_rooms_of_the_core_stand_on_each_other() -> None:
    core = ROOT / "core"
    for path in core.rglob("*.py"):
        parts = path.relative_to(core).parts
        if parts == ("__init__.py",):
            continue
        for name in imports(path):
            below = tuple(name.split(".")[2:])
            if not name.startswith("salt_anvil.core.") or below[0] == parts[0].removesuffix(".py"):
                continue
            assert room(below) < room(parts), f"{'/'.join(parts)} imports {name}"


def test_what_the_user_reads_is_one_tree_of_errors() -> None:
    """Every error class stands in core/errors.py, below one base."""
    for path in ROOT.rglob("*.py"):
        for node in nodes(path):
            if isinstance(node, ast.ClassDef) and node.name.endswith("Error"):
                assert path == ROOT / "core" / "errors.py", f"{path.name}: {node.name}"
