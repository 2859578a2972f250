"""What is drawn for a split against what it does: its bands' responses, the travel of a join."""

import numpy as np
import pytest

from salt_anvil.core.dsp import crossover
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.measure.split_curves import bus_drawing, split_drawing
from salt_anvil.core.session import Split, Strip, checked

RATE = 48000


def band_split(phase: str, slope: int, corners: list[float]) -> Split:
    parts = [{"id": f"b{i}", "name": f"b{i}"} for i in range(len(corners) + 1)]
    return checked(
        Split,
        {
            "id": "s",
            "kind": "split",
            "by": "bands",
            "crossovers_hz": corners,
            "slope": slope,
            "phase": phase,
            "branches": parts,
        },
    )


@pytest.mark.parametrize("phase", ["minimum", "linear"])
@pytest.mark.parametrize("slope", [24, 48])
def test_drawn_bands_are_those_that_sound(phase: str, slope: int) -> None:
    """Against the spectrum of a pulse through the division, where a band is over -18.5 dB."""
    corners = [200.0, 2000.0]
    picture = split_drawing(band_split(phase, slope, corners), RATE, None)
    pulse = np.zeros((2 * RATE, 1))
    pulse[0] = 1
    if phase == "linear":
        linear = crossover.linear_phase(corners, slope, RATE)
        state = crossover.linear_state(linear, 1)
        found = crossover.divide_linear(pulse, linear, state)
        assert picture.latency == linear.half
    else:
        bands = crossover.minimum_phase(corners, slope, RATE)
        found, _ = crossover.divide(pulse, bands, crossover.minimum_state(bands, 1))
        assert picture.latency == 0
    hz = np.array(picture.hz)
    # Near half the rate the digital filters are steeper than the drawn analogue ones.
    inside = hz < 9000
    for band, drawn in zip(found, picture.bands, strict=True):
        spectrum = np.abs(np.fft.rfft(band[:, 0]))
        seen = 20 * np.log10(np.interp(hz, np.fft.rfftfreq(len(band), 1 / RATE), spectrum))
        # The same steepness reaches 0.28 dB where the middle band is 18 dB down, at 3.2 kHz.
        loud = inside & (np.array(drawn) > -18.5)
        assert np.abs(seen - drawn)[loud].max() < 0.35


def test_the_travel_of_a_steady_join_is_level() -> None:
    split = checked(
        Split,
        {
            "id": "s",
            "kind": "split",
            "by": "copies",
            "branches": [
                {"id": "a", "name": "dry", "gain_db": -3},
                {"id": "b", "name": "wet", "gain_db": 6},
            ],
            "join": {"law": "steady", "position": 0.3},
        },
    )
    join = split_drawing(split, RATE, JoinMeasurement.even(1.0, 0.1, 0.05)).join
    assert np.abs(join.loudness).max() < 1e-9
    assert join.first[0] == pytest.approx(0)
    # k makes up for 10 dB of power, and for both branches' own gains.
    assert join.match_db == pytest.approx(10 - 3 - 6)
    assert join.alike == pytest.approx(0.05 / np.sqrt(0.1))
    unmeasured = split_drawing(split, RATE, None).join
    assert not unmeasured.measured
    assert unmeasured.loudness is None


def test_a_bus_has_a_travel_too() -> None:
    strip = Strip(id="g", name="G", kind="bus")
    linear = strip.model_copy(update={"join": strip.join.model_copy(update={"law": "linear"})})
    join = bus_drawing(linear, None).join
    assert join.second[-1] == pytest.approx(0)
    assert join.first[20] == pytest.approx(20 * np.log10(0.5))
