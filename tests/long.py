"""`make test` takes a sample of what `make test-long` (SALT_ANVIL_LONG=1) goes through."""

import os

LONG = os.environ.get("SALT_ANVIL_LONG") == "1"


def of(short: int, long: int) -> int:
    """Return how many to take in this run."""
    return long if LONG else short
