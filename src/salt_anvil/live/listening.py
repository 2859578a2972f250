"""Where a tab listens, and what has to run for it."""

from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.engine.routing import dependents
from salt_anvil.core.session import branches
from salt_anvil.live.messages import Listen


def needed(plan: Plan, listen: Listen) -> set[str]:
    """Return the strips that must run: the one listened to and all that follows from it."""
    at = listen.strip if listen.strip in plan.digests else plan.main
    assert at is not None
    return {at, plan.main} | dependents(plan, at)


def watched_place(plan: Plan, listen: Listen) -> str:
    """Return the place listened to: a tap of the strip's chain, or "chain"."""
    taps = plan.strip(strip_of(plan, listen)).graph.taps
    known = listen.at.removeprefix("key:") in taps
    return listen.at if known else "chain"


def strip_of(plan: Plan, listen: Listen) -> str:
    """Return the strip listened to: the main bus where the chosen one is not there."""
    return listen.strip if listen.strip in plan.digests else plan.main


def listens_in_mix(plan: Plan, listen: Listen) -> bool:
    """Say whether the mix is heard, with and without the watched place."""
    if listen.strip is None or listen.strip not in plan.digests or listen.alone:
        return False
    at = watched_place(plan, listen)
    inner = {b.id for b in branches(plan.strip(listen.strip).strip.chain)}
    return not at.startswith("key:") and at not in inner
