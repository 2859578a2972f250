"""tamer: what it takes of what was put in, the gain that it gives back, what it leaves alone.

The resonance is scipy's bell (see the beds), its exact inverse the reference of what a cut can be.
"""

from typing import Any

import numpy as np
import pytest
from scipy import signal

from salt_anvil.core.dsp import resonance_cut as r
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.edits import AddStage, SetParams
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.errors import SettingError
from salt_anvil.core.measure.blends import JoinMeter
from salt_anvil.core.measure.loudness import integrated
from salt_anvil.core.measure.rows import K, RowMeter
from salt_anvil.core.processors import Context, processor
from salt_anvil.core.processors.tamer import q_of, width_of
from salt_anvil.core.session import Session, checked
from tests.conftest import noise
from tests.core.processors.test_contract import run, stage
from tests.core.resonances import beds
from tests.core.resonances.beds import RATE, Ring
from tests.core.test_edits import chain, done
from tests.routing import run_strip
from tests.sessions import small_session


def tamer(*places: dict[str, Any], rate: int = RATE, channels: int = 1, **more: Any) -> Unit:
    params = {"places": list(places), "given_back_db": 0, "amount": 1, "most_db": 18, **more}
    return Unit(stage("tamer", params), Context(rate, channels))


def place(ring: Ring, **more: Any) -> dict[str, Any]:
    found = {"hz": ring.hz, "width_oct": width_of(ring.q), "over_db": ring.gain_db, "depth_db": 18}
    return found | more


def over_db(sound: np.ndarray, ring: Ring, before: np.ndarray) -> float:
    """How much more power there is around the ring's middle than there was before it."""
    hz, powers = signal.welch(np.stack([sound, before]), RATE, nperseg=1 << 15)
    near = np.abs(np.log2(np.maximum(hz, 1) / ring.hz)) < 0.25 / ring.q
    return float(10 * np.log10(powers[0, near].sum() / powers[1, near].sum()))


RINGS = [Ring(250, 4, 9), Ring(1000, 8, 12), Ring(4000, 15, 6), Ring(160, 12, 15)]


@pytest.mark.parametrize("bed", ["pink", "drums"])
@pytest.mark.parametrize("ring", RINGS)
def test_what_stood_over_its_surroundings_is_taken(bed: str, ring: Ring) -> None:
    """Design 11: at full amount -0.4 to +1.3 dB are left against the sound before the ring."""
    before = getattr(beds, bed)(5).sound
    rung = beds.ringing(before, [ring])
    out, _ = run(tamer(place(ring)), rung[:, None])
    assert over_db(rung, ring, before) > 0.8 * ring.gain_db
    assert -1.5 < over_db(out[:, 0], ring, before) < 2.0


def test_where_nothing_stands_over_its_surroundings_hardly_anything_is_taken() -> None:
    """The place was scanned elsewhere, and this passage has no ring: its noise alone moves it."""
    before = beds.pink(6).sound
    out, _ = run(tamer(place(RINGS[1])), before[:, None])
    assert over_db(out[:, 0], RINGS[1], before) > -2.5


@pytest.mark.parametrize("ring", [Ring(1000, 8, 12), Ring(400, 2, 6)])
def test_the_detector_reads_what_is_expected_of_it(ring: Ring) -> None:
    """Flanks catch the skirts: measured through scipy's band passes on ten seconds of noise."""
    sound = beds.ringing(beds.pink(7, 30.0).sound, [ring])
    away = 2 ** r.flank_octaves(ring.q)
    powers = []
    for hz in (ring.hz, ring.hz / away, ring.hz * away):
        b, a = signal.iirpeak(hz, ring.q, RATE)
        powers.append(np.mean(np.square(signal.lfilter(b, a, sound))))
    read = 10 * np.log10(powers[0] / np.sqrt(powers[1] * powers[2]))
    assert read == pytest.approx(r.expected_db(ring.q, ring.gain_db), abs=0.7)


def test_depth_most_amount_and_range_are_limits() -> None:
    ring = RINGS[1]
    rung = beds.ringing(beds.pink(5).sound, [ring])[:, None]

    def most(**more: Any) -> float:
        of_place = {n: more.pop(n) for n in ("depth_db", "on") if n in more}
        _, cells = run(tamer(place(ring, **of_place), **more), rung)
        return float(cells["reduction_db"].max())

    whole = most()
    assert whole > 12
    assert most(depth_db=5) == pytest.approx(5, abs=0.01)
    assert most(most_db=3) == pytest.approx(3, abs=0.01)
    assert most(depth_db=8, amount=0.5) == pytest.approx(4, abs=0.01)
    assert most(low_hz=1100) == most(high_hz=900) == most(on=False) == 0


def test_amount_0_and_an_empty_list_leave_the_sound_to_the_bit() -> None:
    sound = noise(30000, channels=2)
    for params in ({"amount": 0, "places": [place(RINGS[0])]}, {}):
        for how in ("left-right", "mid-side"):
            out, _ = run(Unit(stage("tamer", {**params, "stereo": how}), Context(RATE, 2)), sound)
            assert np.array_equal(out, sound)


def test_linked_channels_are_cut_alike() -> None:
    ring = RINGS[1]
    sound = np.stack([beds.ringing(beds.pink(8).sound, [ring]), beds.pink(9).sound], axis=1)
    _, together = run(tamer(place(ring), channels=2), sound)
    out, _ = run(tamer(place(ring), channels=2, link=0), sound)
    linked, _ = run(tamer(place(ring), channels=2), sound)
    right = sound[:, 1]
    assert over_db(out[:, 1], ring, right) > over_db(linked[:, 1], ring, right) + 2
    assert together["reduction_db"].max() > 5


def test_middle_and_sides() -> None:
    ring, side = RINGS[1], beds.pink(9).sound
    middle = beds.ringing(beds.pink(8).sound, [ring])
    sound = np.stack([middle + side, middle - side], axis=1)
    out, _ = run(tamer(place(ring), channels=2, stereo="mid-side", link=0), sound)
    assert over_db(out.sum(axis=1) / 2, ring, middle) < -8
    assert abs(over_db((out[:, 0] - out[:, 1]) / 2, ring, side)) < 2.5


def lufs(sound: np.ndarray) -> float:
    meter = RowMeter(RATE, sound.shape[1])
    return integrated(meter.feed(sound)[:, K])


@pytest.mark.parametrize("bed", ["pink", "drums", "speech", "melody"])
def test_loudness_is_kept_when_measured(bed: str) -> None:
    """0.05 LU in a print: the gain is held from the loudness before and after."""
    rung = beds.ringing(getattr(beds, bed)(2).sound, RINGS)[:, None]
    places = [place(x) for x in RINGS]
    raw, _ = run(tamer(*places), rung)
    meter = JoinMeter(RATE, 1)
    meter.feed(rung, raw)
    item, params = processor("tamer"), stage("tamer", {"places": places, "amount": 1}).params
    settled = item.settled(params, meter.result(), 1.0)
    given = settled.model_dump()["given_back_db"]
    kept, _ = run(tamer(*places, given_back_db=given), rung)
    assert given != 0
    assert lufs(kept) == pytest.approx(lufs(rung), abs=0.05)


@pytest.mark.parametrize("mix", [1.0, 0.5, 0.2])
def test_in_a_session_the_loudness_is_kept_at_any_mix(mix: float) -> None:
    """Measured first, like a steady join: what comes out of the engine is as loud as went in."""
    rung = beds.ringing(beds.drums(2).sound, RINGS)[:, None] * 0.3
    params = {"amount": 1, "most_db": 18, "places": [place(x) for x in RINGS]}
    strips = [
        {"id": "in", "name": "In", "kind": "track", "audio": "in", "channels": 1,
         "frames": len(rung), "chain": [
            {"id": "t", "kind": "tamer", "params": params, "mix": mix}]},
        {"id": "main", "name": "Main", "kind": "main"},
    ]  # fmt: skip
    session = checked(Session, {"name": "S", "rate": RATE, "strips": strips})
    out = run_strip(session, "in", {"in": rung})[: len(rung)]
    assert lufs(out) == pytest.approx(lufs(rung), abs=0.05)
    bare = strips[0] | {"chain": [{"id": "t", "kind": "tamer", "mix": mix,
                                   "params": params | {"loudness": False}}]}  # fmt: skip
    session = checked(Session, {"name": "S", "rate": RATE, "strips": [bare, strips[1]]})
    assert lufs(run_strip(session, "in", {"in": rung})[: len(rung)]) < lufs(rung) - 0.1


def test_a_range_that_is_upside_down_is_refused() -> None:
    with pytest.raises(SettingError, match="From"):
        tamer(place(RINGS[0]), low_hz=5000, high_hz=200)


@pytest.mark.parametrize("bed", ["pink", "drums", "speech", "melody"])
def test_until_then_it_is_followed(bed: str) -> None:
    """0.3 LU while playing, over ten seconds from a cold start."""
    rung = beds.ringing(getattr(beds, bed)(2).sound, RINGS)[:, None]
    kept, _ = run(tamer(*[place(x) for x in RINGS], given_back_db=None), rung)
    assert lufs(kept) == pytest.approx(lufs(rung), abs=0.3)


def test_silence_gives_back_nothing() -> None:
    params = stage("tamer", {"places": [place(RINGS[0])]}).params
    item = processor("tamer")
    assert item.measures_loudness(params)
    nothing = item.settled(params, JoinMeasurement.even(0, 0, 0), 1.0)
    assert nothing.model_dump()["given_back_db"] == 0
    out, _ = run(tamer(place(RINGS[0]), given_back_db=None), np.zeros((20000, 1)))
    assert not out.any()


@pytest.mark.parametrize("q", [0.8, 4, 30])
def test_a_width_in_octaves_is_that_q(q: float) -> None:
    """The half-gain points of scipy's bell lie so far apart."""
    width = width_of(q)
    assert q_of(width) == pytest.approx(q)
    hz = 1000 * 2 ** (np.array([-0.5, 0.5]) * width)
    _, response = signal.sosfreqz(beds.bell(1000, q, 12)[None], hz, fs=RATE)
    assert 20 * np.log10(np.abs(response)) == pytest.approx([6, 6], abs=0.2)


def test_settings_that_are_put_in_leave_the_places_that_were_found() -> None:
    session = done(
        small_session(),
        AddStage(place="a", index=0, kind="tamer", params={"places": [place(RINGS[0])]}),
    )
    tamed = chain(session, "a")[0]
    put_in = SetParams(stage=tamed.id, params={"amount": 0.3, "speed_ms": 90}, whole=True)
    params = chain(done(session, put_in), "a")[0].params
    assert (params.amount, params.speed_ms) == (0.3, 90)
    assert [p.hz for p in params.places] == [250]
