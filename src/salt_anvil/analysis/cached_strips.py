"""Strips that are read from the cache instead of being computed."""

import numpy as np

from salt_anvil.analysis.cache import StripCache
from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.engine.cached import Blocks, CachedStrip
from salt_anvil.core.engine.fingerprint import fingerprint_of
from salt_anvil.core.engine.graph import Point
from salt_anvil.core.engine.plan import Plan, StripPlan
from salt_anvil.core.errors import FileError
from salt_anvil.files.checked import CheckedSound


class CachedStrips:
    """Knows what of a plan the cache holds from end to end."""

    def __init__(self, cache: StripCache, code: str) -> None:
        self._cache, self._code = cache, code
        self._known: dict[str, CachedStrip] = {}

    def __call__(self, plan: Plan) -> dict[str, CachedStrip]:
        """Return the strips that can be read: complete, and so is all that feeds them."""
        found: dict[str, CachedStrip] = {}
        for item in plan.strips:
            inputs = {r.strip for r in item.feeds} | {o.strip for o in item.graph.outside}
            if inputs <= found.keys():
                frozen = self.strip(item)
                if frozen is not None:
                    found[item.strip.id] = frozen
        if len(self._known) > 4 * len(plan.strips) + 64:
            self._known.clear()
        return found

    def strip(self, item: StripPlan) -> CachedStrip | None:
        """Return one strip as it is read, None if the cache does not hold it whole."""
        name = f"{item.content_digest} {' '.join(map(str, item.exports))}"
        if name not in self._known:
            fingerprint = fingerprint_of(item.content_digest, self._code)
            if not self._cache.complete(fingerprint, item.exports):
                return None
            try:
                self._known[name] = _frozen(self._cache, fingerprint, item)
            except FileError:
                self._cache.drop(fingerprint)
                return None
        return self._known[name]

    def forget(self) -> None:
        """Look everything up again: something was damaged, or made anew."""
        self._known.clear()

    def group(self, digest: str) -> Blocks | None:
        """Return what gives the blocks of a group's sum, None if it is not kept."""
        fingerprint = fingerprint_of(digest, self._code)
        if not self._cache.complete(fingerprint):
            return None
        return block_reader(self._cache.output(fingerprint, 2))


def _frozen(cache: StripCache, fingerprint: str, item: StripPlan) -> CachedStrip:
    read = block_reader(cache.output(fingerprint, item.context.channels))
    points: dict[Point, Blocks] = {}
    for point in item.exports:
        buffer, _ = item.graph.points[point]
        channels = item.graph.channels[buffer]
        points[point] = block_reader(cache.sound(fingerprint, point_file(point), channels))
    meters = np.asarray(cache.meters(fingerprint))
    return CachedStrip(
        read,
        lambda point, k, count: points[point](k, count),
        meters,
        item.content_digest,
        item.exports,
    )


def point_file(point: Point) -> str:
    """Return the name of a point's file, without the ending."""
    return "point-" + str(point).replace("/", "-").replace(":", "-")


def block_reader(sound: CheckedSound) -> Blocks:
    """Return what gives so many blocks from block k of a sound on, zeros behind its end; it raises
    DamagedError."""
    channels = sound.rows.shape[1]

    def read(k: int, count: int) -> Sound:
        pieces = sound.blocks(k, count)
        if len(pieces) == count * BLOCK:
            return pieces.astype(np.float64)
        out = np.zeros((count * BLOCK, channels))
        out[: len(pieces)] = pieces
        return out

    return read
