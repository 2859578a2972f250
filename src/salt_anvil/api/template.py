"""What helper processes are forked from: every module of theirs imported, every kernel loaded."""

import salt_anvil.analysis.worker
import salt_anvil.jobs.print_worker
import salt_anvil.live.worker  # noqa: F401 - all three to have them in memory
from salt_anvil.kernels import cache
from salt_anvil.kernels.compile import compile_kernels

if cache.is_compiled():
    compile_kernels()
