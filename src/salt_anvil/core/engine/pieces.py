"""What was made in rising blocks, in pieces of any number of them, until it lies behind."""

from collections.abc import Iterator
from typing import Generic, NamedTuple, TypeVar

import numpy as np

from salt_anvil.core.audio import BLOCK, Sound

T = TypeVar("T")


class Piece(NamedTuple, Generic[T]):
    """Blocks [first, end) of something."""

    first: int
    end: int
    item: T


class Pieces(Generic[T]):
    """Pieces that follow one another without a gap.

    Who reads may do so while another thread puts: what is held is never changed, but another.
    """

    def __init__(self) -> None:
        self._held: tuple[Piece[T], ...] = ()

    def __iter__(self) -> Iterator[Piece[T]]:
        return iter(self._held)

    def put(self, first: int, count: int, item: T) -> None:
        """Append a piece; what does not follow the last one is a new beginning."""
        before = self._held if self._held and self.end == first else ()
        self._held = (*before, Piece(first, first + count, item))

    def copy(self) -> "Pieces[T]":
        """Return what is held now, whatever is put and dropped later."""
        other: Pieces[T] = Pieces()
        other._held = self._held
        return other

    @property
    def end(self) -> int:
        """The block after the last one; only where something is held."""
        return self._held[-1].end

    def reach(self, block: int) -> int:
        """Return the first block from this one on that is not held."""
        held = self._held
        return held[-1].end if held and held[0].first <= block < held[-1].end else block

    def cover(self, first: int, count: int) -> list[tuple[T, int, int]]:
        """Return what holds the blocks asked for: item, first block inside it, how many."""
        found, end = [], first + count
        for begin, stop, item in self._held:
            if begin <= first and end <= stop:
                return [(item, first - begin, count)]
            low, high = max(first, begin), min(end, stop)
            if high > low:
                found.append((item, low - begin, high - low))
        return found

    def drop_before(self, block: int) -> None:
        """Let pieces go that end before a block, or at it."""
        if self._held and self._held[0].end <= block:
            self._held = tuple(piece for piece in self._held if piece.end > block)


def one(sounds: list[Sound]) -> Sound:
    """Return sounds that follow one another as one."""
    return sounds[0] if len(sounds) == 1 else np.concatenate(sounds)


def blocks_of(sound: Sound, first: int, count: int) -> Sound:
    """Return blocks of a sound."""
    return sound if count * BLOCK == len(sound) else sound[first * BLOCK : (first + count) * BLOCK]
