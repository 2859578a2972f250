"""The timeline's grid of 64 frames, on which controls stand and reports are told."""

from collections.abc import Iterator

from numba import njit

from salt_anvil.core.audio import GRID


# Not kept on disk itself: what calls it could not be compiled in a process that read it from there.
@njit(nogil=True, error_model="numpy")
def grid_cells(start: int, frames: int) -> Iterator[tuple[int, int, int, int]]:
    """Yield what of a block lies in each cell of the grid, for kernels.

    start: timeline frame of the block. A cell's part: where it begins in the block, how many
    frames, the number of the cell from 0, and where in the cell it begins.
    """
    at, k, offset = 0, 0, start % GRID
    while at < frames:
        n = min(GRID - offset, frames - at)
        yield at, n, k, offset
        at, k, offset = at + n, k + 1, 0
