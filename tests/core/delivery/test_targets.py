"""Targets: EBU R 128's figures, limits of all kinds; and the stand-in for a service."""

import dataclasses

import numpy as np
import pytest

from salt_anvil.core.delivery.service import Service, played
from salt_anvil.core.delivery.targets import SHIPPED, Target, judged
from salt_anvil.core.measure.rows import Figures, RowMeter, figures
from tests.conftest import sine


def measured(lufs: float, true_peak: float) -> Figures:
    rows = RowMeter(48000, 2)
    found = figures(np.concatenate([rows.feed(sine(997, 4, level_db=-20)), rows.flush()]))
    return dataclasses.replace(
        found, integrated_lufs=lufs, true_peak_dbtp=true_peak, loudness_range_lu=6.0,
        peak_to_loudness_db=true_peak - lufs, short_term_max_lufs=lufs + 3,
    )  # fmt: skip


def kept(target: Target, found: Figures) -> dict[str, bool | None]:
    return {line.label: line.kept for line in judged(target, found)}


def test_ebu_r128() -> None:
    """-23.0 LUFS within 0.5 LU, at most -1 dBTP (EBU R 128, 2020)."""
    r128 = next(t for t in SHIPPED if "R 128" in t.name)
    assert (r128.loudness, r128.tolerance, r128.true_peak) == (-23, 0.5, -1)
    assert kept(r128, measured(-23.5, -1.0)) == {
        "Loudness": True, "True peak": True, "Range": None, "Peak to loudness": None,
        "Short-term, most": None, "Momentary, most": None,
    }  # fmt: skip
    assert kept(r128, measured(-22.4, -0.9))["Loudness"] is False
    assert kept(r128, measured(-22.4, -0.9))["True peak"] is False


def test_every_kind_of_limit() -> None:
    target = Target(
        name="All", loudness=-14, tolerance=1, true_peak=-1, least_range=7, most_range=9,
        least_peak_to_loudness=12, most_short_term=-12, most_momentary=-3,
    )  # fmt: skip
    found = kept(target, measured(-14, -1))
    assert found["Range"] is False
    assert found["Peak to loudness"] is True
    assert found["Short-term, most"] is False
    assert {line.label: line.wanted for line in judged(target, measured(-14, -1))} == {
        "Loudness": "−14.0 ± 1.0", "True peak": "−1.0 at most", "Range": "7 to 9",
        "Peak to loudness": "12 or more", "Short-term, most": "−12.0 at most",
        "Momentary, most": "−3.0 at most",
    }  # fmt: skip


def test_silence_is_on_no_loudness_and_under_every_peak() -> None:
    rows = RowMeter(48000, 2)
    nothing = figures(np.concatenate([rows.feed(np.zeros((96000, 2))), rows.flush()]))
    found = kept(SHIPPED[0], nothing)
    assert found["Loudness"] is False
    assert found["True peak"] is True


@pytest.mark.parametrize(
    ("lufs", "peak", "service", "gain", "limited", "then"),
    [
        (-10, -0.5, Service(), -4, 0, -4.5),
        (-18, -6, Service(), 4, 0, -2),
        (-18, -3, Service(), 4, 2, -1),
        (-18, -3, Service(limits=False), 2, 0, -1),
        (-18, 0.5, Service(limits=False), 0, 0, 0.5),
        (-18, -3, Service(up=False), 0, 0, -3),
        (-10, 0.5, Service(loudness=-16, up=False), -6, 0, -5.5),
    ],
)  # fmt: skip
def test_as_a_service_plays_it(
    lufs: float, peak: float, service: Service, gain: float, limited: float, then: float
) -> None:
    found = played(service, measured(lufs, peak))
    assert found.gain_db == pytest.approx(gain)
    assert found.limited_db == pytest.approx(limited)
    assert found.true_peak_dbtp == pytest.approx(then)
