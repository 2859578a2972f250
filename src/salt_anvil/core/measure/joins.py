"""What depends on a whole passage is measured before it is used, in order, and then kept."""

from collections.abc import Callable, Mapping

from salt_anvil.core.audio import BLOCK
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.engine.cached import CachedStrip
from salt_anvil.core.engine.mixer import Mixer, Source
from salt_anvil.core.engine.plan import JoinMeasurements, Plan, SteadyJoin, for_measuring
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.strip import AT_ONCE
from salt_anvil.core.measure.blends import JoinMeter
from salt_anvil.core.session import Element, Session, Split, elements

Store = Callable[[str, JoinMeasurement], None]
Freeze = Callable[[Plan], Mapping[str, CachedStrip]]


def measure_joins(
    session: Session,
    source: Callable[[], Source],
    measured: JoinMeasurements,
    store: Store,
    *,
    freeze: Freeze = lambda plan: {},
    notify: Callable[[], None] = lambda: None,
) -> None:
    """Measure all of a session that has to be measured first and is not, over the whole song.

    source: gives a source to read from 0 again. tell: called now and then; may raise to stop.
    """
    while True:
        plan = make_plan(session, measured=measured)
        waiting = [
            (item.strip.id, join)
            for item in plan.strips
            for join in item.joins
            if join.measured is None and join.ready
        ]
        if not waiting:
            return
        for strip, join in waiting:
            store(join.digest, measure_join(plan, strip, join, source(), freeze(plan), notify))


def measure_join(
    plan: Plan,
    strip: str,
    join: SteadyJoin,
    source: Source,
    frozen: Mapping[str, CachedStrip],
    notify: Callable[[], None] = lambda: None,
) -> JoinMeasurement:
    """Return the measurement of one steady join, or of a stage's loudness before and after.

    All that it depends on must be measured.
    """
    a_stage = any(s.id == join.name for s in plan.strip(strip).stages)
    if a_stage:
        plan = for_measuring(plan, strip, join.name)
    item, a_bus = plan.strip(strip), join.name.startswith("bus:")
    places = [] if a_bus else [join.name]
    if not (a_bus or a_stage):
        places = _branches(item.strip.chain, join.name)
    kept = {n: f for n, f in frozen.items() if n != strip}
    mixer = Mixer(plan, source, watched={strip: frozenset(places)}, frozen=kept, told=False)
    meter: JoinMeter | None = None
    blocks = max(-(-plan.frames // BLOCK), 1)  # of nothing a block of silence
    mixer.foresee(blocks)
    for k in range(0, blocks, AT_ONCE):
        notify()
        count = min(AT_ONCE, blocks - k)
        if a_bus:
            a, b = (mixer.faded(route, k, count) for route in item.feeds)
            mixer.pass_by(count)
        else:
            taps = mixer.chunk(strip, count).taps
            a, b = taps[join.name] if a_stage else (taps[name][1] for name in places)
        if meter is None:
            meter = JoinMeter(plan.rate, a.shape[1])
        meter.feed(a, b)
    assert meter is not None
    return meter.result()


def _branches(chain: list[Element], name: str) -> list[str]:
    split = next(e for e in elements(chain) if e.id == name)
    assert isinstance(split, Split)
    return [branch.id for branch in split.branches]
