"""How kernels are compiled, declared once."""

from collections.abc import Callable
from typing import Any, TypeVar, cast

from numba import njit

F = TypeVar("F", bound=Callable[..., Any])


def kernel(function: F) -> F:
    """Compile a function of arrays and numbers when it is first called, and keep it on disk.

    It runs beside others (nogil), a division by 0 gives what IEEE 754 says (a branch for it would
    take all vectors away), and a product that is added to something is rounded once with it where
    the machine can ("contract"). The order of sums stays as it is written.
    """
    return _compiled(function)


def inlined(function: F) -> F:
    """Compile a function into every kernel that calls it: to hand arrays over costs as much as to
    work on a cell of 64 frames."""
    return _compiled(function, forceinline=True)


def measuring(function: F) -> F:
    """Compile a kernel whose sums may be taken in any order: for figures, not for sound."""
    return _compiled(function, fastmath=frozenset({"reassoc", "nsz"}))


def _compiled(
    function: F, *, forceinline: bool = False, fastmath: frozenset[str] = frozenset({"contract"})
) -> F:
    found = njit(
        cache=True,
        nogil=True,
        error_model="numpy",
        fastmath=set(fastmath),
        forceinline=forceinline,
    )
    return cast(F, found(function))
