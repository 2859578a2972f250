"""The processors, found by their kind."""

from salt_anvil.core.errors import MissingError
from salt_anvil.core.processors.base import Context, Kind, Params, Processor, Report
from salt_anvil.core.processors.clipper import Clipper
from salt_anvil.core.processors.compressor import Compressor
from salt_anvil.core.processors.curve import Curve
from salt_anvil.core.processors.deesser import Deesser
from salt_anvil.core.processors.ducker import Ducker
from salt_anvil.core.processors.enhancer import Enhancer
from salt_anvil.core.processors.expander import Expander
from salt_anvil.core.processors.gate import Gate
from salt_anvil.core.processors.grit import Grit
from salt_anvil.core.processors.leveller import Leveller
from salt_anvil.core.processors.limiter import Limiter
from salt_anvil.core.processors.room import Room
from salt_anvil.core.processors.saturator import Saturator
from salt_anvil.core.processors.tamer import Tamer
from salt_anvil.core.processors.tone import Tone
from salt_anvil.core.processors.transient import Transient
from salt_anvil.core.processors.trim import Trim
from salt_anvil.core.processors.width import Width

_ALL: tuple[Processor[Params], ...] = (
    Trim(),
    Compressor(),
    Gate(),
    Expander(),
    Curve(),
    Ducker(),
    Leveller(),
    Limiter(),
    Transient(),
    Deesser(),
    Tone(),
    Tamer(),
    Clipper(),
    Saturator(),
    Enhancer(),
    Width(),
    Grit(),
    Room(),
)  # type: ignore[assignment]
REGISTRY: dict[str, Processor[Params]] = {p.kind: p for p in _ALL}


def processor(kind: str) -> Processor[Params]:
    """Return the processor of a kind.

    Raises:
        SettingError: there is none.
    """
    try:
        return REGISTRY[kind]
    except KeyError:
        known = ", ".join(sorted(REGISTRY))
        raise MissingError(f"there is no processor “{kind}”; there are {known}") from None


def catalogue() -> list[Kind]:
    """Return every processor with its parameters, ranges, defaults and units."""
    return [p.describe() for p in REGISTRY.values()]


__all__ = ["REGISTRY", "Context", "Params", "Processor", "Report", "catalogue", "processor"]
