"""Cautions that a whole analysis gives: distortion, a gate that chatters, a shared parallel bus."""

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.pictures import Viewer
from salt_anvil.analysis.strip_pass import analyse
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.measure.cautions import Caution
from salt_anvil.core.session import Session, checked
from tests.routing import reader

RATE, SECONDS = 48000, 6
FRAMES = RATE * SECONDS


def hits() -> np.ndarray:
    """Two hits a second over a quiet floor; their tails beat 60 times a second."""
    at = np.arange(FRAMES) / RATE
    tail = np.exp(-40 * (at % 0.5))
    ring = np.sin(2 * np.pi * 400 * at) + 0.35 * np.sin(2 * np.pi * 460 * at)
    floor = np.random.default_rng(1).standard_normal(FRAMES) * 1e-4
    return (0.5 * tail * ring + floor)[:, None]


def cautions(folder: Path, strips: list[dict[str, Any]], place: str, at: str) -> list[Caution]:
    session = checked(Session, {"name": "S", "rate": RATE, "strips": strips})
    cache = StripCache(folder)
    analyse(session, "code", reader({"a": hits()}), cache, None, lambda *told: True)
    plan = make_plan(session, observe_all=True)
    found, done = Viewer(session, plan, "code", cache).ledger(place, at, 0, FRAMES)
    assert found is not None
    assert done == 1
    return found.cautions


def track(name: str, *chain: dict[str, Any], **more: Any) -> dict[str, Any]:
    return {"id": name, "name": name.upper(), "kind": "track", "audio": "a", "channels": 1,
            "frames": FRAMES, "chain": list(chain), **more}  # fmt: skip


MAIN = {"id": "main", "name": "Main bus", "kind": "main"}


@pytest.mark.parametrize(("drive", "told"), [(0, False), (24, True)])
def test_distortion_of_a_clipper(tmp_path: Path, drive: float, told: bool) -> None:
    clip = {"id": "c", "kind": "clipper", "params": {"drive_db": drive}}
    found = cautions(tmp_path, [track("a", clip), MAIN], "a", "chain")
    assert ("distortion c" in [c.rule for c in found]) == told
    meant = clip | {"silenced_cautions": ["distortion c"]}
    found = cautions(tmp_path, [track("a", meant), MAIN], "a", "chain")
    assert "distortion c" not in [c.rule for c in found]


@pytest.mark.parametrize(("hysteresis", "told"), [(0, True), (12, False)])
def test_a_gate_without_hysteresis_on_tails_that_beat(
    tmp_path: Path, hysteresis: float, told: bool
) -> None:
    params = {"threshold_db": -18, "hysteresis_db": hysteresis, "hold_ms": 0, "release_ms": 5}
    gate = {"id": "g", "kind": "gate", "params": params}
    found = cautions(tmp_path, [track("a", gate), MAIN], "a", "g")
    assert ("chatter" in [c.rule for c in found]) == told


@pytest.mark.parametrize(("gain", "told"), [(0, True), (-24, False)])
def test_a_parallel_bus_of_two_strips(tmp_path: Path, gain: float, told: bool) -> None:
    """What it adds is alike: with everything at 0 dB both strips come twice, 6.02 dB."""
    send = {"sends": [{"to": "p", "gain_db": gain}]}
    squeeze = {"id": "s", "kind": "compressor", "params": {"threshold_db": 0, "knee_db": 0}}
    bus = {"id": "p", "name": "P", "kind": "bus", "chain": [squeeze]}
    strips = [track("a", **send), track("b", **send), bus, MAIN]
    found = cautions(tmp_path, strips, "p", "chain")
    raised = [c.value for c in found if c.rule == "parallel"]
    assert raised == (pytest.approx([6.02], abs=0.05) if told else [])
