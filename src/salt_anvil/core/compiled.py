"""How kernels are compiled, declared once."""

import importlib
import sys
from collections.abc import Callable
from typing import Any, TypeVar, cast

from llvmlite import ir
from numba import njit, types
from numba.core.caching import FunctionCache
from numba.core.runtime import nrtdynmod
from numba.core.runtime.nrt import rtsys

F = TypeVar("F", bound=Callable[..., Any])


def _without_linear_algebra() -> None:
    """Load what compiling needs of arrays, and let it look for scipy's linear algebra in vain: it
    would load all of it, and no kernel multiplies matrices."""
    name = "scipy.linalg.cython_blas"
    if name not in sys.modules:
        sys.modules[name] = None  # type: ignore[assignment]
        importlib.import_module("numba.np.arraymath")
        del sys.modules[name]


def _counted(module: ir.Module, operation: str, ordering: str) -> ir.Function:
    """Define how a kernel counts those who hold an array: by one more or less, and returned.

    numba locks the machine's memory for it, at every part that is taken of an array: 6 % of what a
    mix costs. It makes a count of its own for every array that a call is given, so that no other
    thread has a hand in it.
    """
    del ordering
    word: Any = nrtdynmod._word_type
    function = ir.Function(
        module, ir.FunctionType(word, [word.as_pointer()]), name=f"nrt_atomic_{operation}"
    )
    builder = ir.IRBuilder(function.append_basic_block())
    (place,) = function.args
    count = getattr(builder, operation)(builder.load(place), ir.Constant(word, 1))
    builder.store(count, place)
    builder.ret(count)
    return function


nrtdynmod._define_atomic_inc_dec = _counted


class _Kept(FunctionCache):
    """numba's store of one compiled kernel, for a quick start.

    Where it lies is found when it is first wanted, not for two hundred kernels of which a command
    runs ten. What is found there is linked without what only compiling needs.
    """

    def __init__(self, function: Callable[..., Any]) -> None:
        self._function = function

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__") or "_impl" in vars(self):
            raise AttributeError(name)
        super().__init__(self._function)  # type: ignore[no-untyped-call]
        return getattr(self, name)

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        rtsys.initialize(target_context)
        found = self._load_overload(sig, target_context)  # type: ignore[no-untyped-call]
        if found is not None and tuple(found.signature.args) != tuple(sig):
            # Two processes have kept two forms at once, under one name.
            found = None
        if found is None:
            _without_linear_algebra()
        return found


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


def as_written(function: F) -> F:
    """As `inlined`, but every product is rounded by itself: the same to the bit whether many are
    found at once or one alone, for which a compiler chooses differently what to round with what.
    For float32, whose last place would tell how long a block was."""
    return _compiled(function, forceinline=True, fastmath=frozenset())


def measuring(function: F) -> F:
    """Compile a kernel whose sums may be taken in any order: for figures, not for sound."""
    return _compiled(function, fastmath=frozenset({"reassoc", "nsz"}))


def _compiled(
    function: F, *, forceinline: bool = False, fastmath: frozenset[str] = frozenset({"contract"})
) -> F:
    found = njit(nogil=True, error_model="numpy", fastmath=set(fastmath), forceinline=forceinline)(
        function
    )
    cast(Any, found)._cache = _Kept(function)
    _forget_numbers(found)
    return cast(F, found)


def _forget_numbers(dispatcher: Any) -> None:
    """Let a call with a number that is written down find what any number is given to.

    Otherwise there would be a form of its own for every such number, and of all that this calls: a
    fifth of all compiling, for what comes to the same where it is inlined.
    """
    found = dispatcher.get_call_template

    def any_number(args: Any, kws: Any) -> Any:
        unliteral: Any = types.unliteral
        return found(tuple(map(unliteral, args)), {n: unliteral(kind) for n, kind in kws.items()})

    dispatcher.get_call_template = any_number
