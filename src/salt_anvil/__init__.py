"""Salt Anvil: dynamics and tone for tracks and buses."""

from salt_anvil.kernels import cache as kernel_cache

__version__ = "0.4.0"

kernel_cache.point_numba_at_it()
