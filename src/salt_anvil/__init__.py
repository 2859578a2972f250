"""Salt Anvil: dynamics and tone for tracks and buses."""

from salt_anvil import _kernel_cache

__version__ = "0.4.0"

_kernel_cache.point_numba_at_it()
