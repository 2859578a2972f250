"""Strips that are read instead of computed."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound
from salt_anvil.core.engine.graph import Point
from salt_anvil.core.engine.plan import StripPlan

Blocks = Callable[[int, int], Sound]
"""Gives so many blocks of a sound from block k on."""


@dataclass(frozen=True)
class CachedStrip:
    """A strip that is read instead of computed: what it gave, and its meters, block by block.

    blocks: of the output after the chain. points: of a place inside the chain that others listen
    to. meters: (blocks, 3): peak left and right, most reduction in dB. content_digest: what it
    sounds like, exports: the places that `points` knows (see StripPlan).
    """

    blocks: Blocks
    points: Callable[[Point, int, int], Sound]
    meters: NDArray[np.float32]
    content_digest: str = ""
    exports: tuple[Point, ...] = ()

    def stands_for(self, item: StripPlan) -> bool:
        """Say whether it gives what a strip of a plan would: the sound, and all that is heard."""
        return self.content_digest == item.content_digest and set(item.exports) <= set(self.exports)


GroupSums = Callable[[str], Blocks | None]
"""Gives a reader of the kept sum of a group by its digest, None if it is not kept."""
