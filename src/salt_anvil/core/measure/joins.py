"""What depends on a whole passage is measured before it is used, in order, and then held."""

from collections.abc import Callable, Mapping

from salt_anvil.core.audio import BLOCK
from salt_anvil.core.dsp.blend import Blend
from salt_anvil.core.engine.mixer import CachedStrip, Mixer, Source
from salt_anvil.core.engine.plan import Held, Plan, SteadyJoin, make_plan
from salt_anvil.core.measure.blends import BlendMeter
from salt_anvil.core.session import Element, Session, Split, elements

Store = Callable[[str, Blend], None]
Freeze = Callable[[Plan], Mapping[str, CachedStrip]]


def measure_joins(
    session: Session,
    source: Callable[[], Source],
    held: Held,
    store: Store,
    *,
    freeze: Freeze = lambda plan: {},
    tell: Callable[[], None] = lambda: None,
) -> None:
    """Measure every steady join of a session that is not held, over the whole song.

    source: gives a source to read from 0 again. tell: called every block; may raise to stop.
    """
    while True:
        plan = make_plan(session, held=held)
        waiting = [
            (item.strip.id, join)
            for item in plan.strips
            for join in item.joins
            if join.held is None and join.ready
        ]
        if not waiting:
            return
        for strip, join in waiting:
            store(join.digest, measure_join(plan, strip, join, source(), freeze(plan), tell))


def measure_join(
    plan: Plan,
    strip: str,
    join: SteadyJoin,
    source: Source,
    frozen: Mapping[str, CachedStrip],
    tell: Callable[[], None] = lambda: None,
) -> Blend:
    """Return the measurement of one steady join; all that it depends on must be held."""
    mixer = Mixer(plan, source, tapped=True, frozen={n: f for n, f in frozen.items() if n != strip})
    item = plan.strip(strip)
    meter: BlendMeter | None = None
    mixer.foresee(-(-plan.frames // BLOCK))
    for k in range(-(-plan.frames // BLOCK)):
        tell()
        if join.name.startswith("bus:"):
            a, b = (mixer.faded(route, k) for route in item.feeds)
            mixer.block(())
        else:
            taps = mixer.block((strip,)).strips[strip].taps
            a, b = (taps[name][1] for name in _branches(item.strip.chain, join.name))
        if meter is None:
            meter = BlendMeter(plan.rate, a.shape[1])
        meter.feed(a, b)
    assert meter is not None
    return meter.result()


def _branches(chain: list[Element], name: str) -> list[str]:
    split = next(e for e in elements(chain) if e.id == name)
    assert isinstance(split, Split)
    return [branch.id for branch in split.branches]
