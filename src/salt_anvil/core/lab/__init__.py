"""Lab: what a setting does to a known signal, computed through the engine itself."""

from salt_anvil.core.lab.measurements import MEASUREMENTS, LabOptions, Side, measure
from salt_anvil.core.lab.result import Result

__all__ = ["MEASUREMENTS", "LabOptions", "Result", "Side", "measure"]
