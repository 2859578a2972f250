"""What helper processes are forked from: every module of theirs imported, every kernel loaded."""

from salt_anvil import _kernel_cache
from salt_anvil.jobs import analysis, printing  # noqa: F401 - to have them in memory
from salt_anvil.live import engine  # noqa: F401
from salt_anvil.warm import compile_kernels

if _kernel_cache.is_compiled():
    compile_kernels()
