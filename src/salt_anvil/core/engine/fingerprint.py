"""A strip's mark together with the version of the computing code: the name of its cache."""

import hashlib

from salt_anvil.core.engine.plan import Plan


def fingerprints(plan: Plan, code: str) -> dict[str, str]:
    """Return every strip's fingerprint; equal ones mean equal sound to the bit."""
    return {name: fingerprint(mark, code) for name, mark in plan.marks.items()}


def fingerprint(mark: str, code: str) -> str:
    """Return the fingerprint of one mark or digest."""
    return hashlib.sha256(f"{code} {mark}".encode()).hexdigest()[:32]
