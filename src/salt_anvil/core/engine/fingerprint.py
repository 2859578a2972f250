"""A strip's content digest with the version of the computing code: the name of its cache."""

import hashlib

from salt_anvil.core.engine.plan import Plan


def fingerprints_of(plan: Plan, code: str) -> dict[str, str]:
    """Return every strip's fingerprint; equal ones mean equal sound to the bit."""
    return {name: fingerprint_of(digest, code) for name, digest in plan.digests.items()}


def fingerprint_of(digest: str, code: str) -> str:
    """Return the fingerprint of one digest."""
    return hashlib.sha256(f"{code} {digest}".encode()).hexdigest()[:32]
