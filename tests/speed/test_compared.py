"""A stored run against another: what is told as slower, and what is not; the chart as SVG."""

import json
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest

from salt_anvil.core.errors import FileError
from salt_anvil.speed import beside, compared
from salt_anvil.speed.report import SIZE_WORDS, table


def factor(median: float, best: float) -> dict[str, float]:
    return {"median": median, "best": best}


def made(live: dict[str, float], printed: dict[str, float]) -> dict[str, Any]:
    row = {"live": live, "print": printed}
    return {
        "machine": "one <of> them",
        "rate": 48000,
        "compressor": {"as it comes": {"kernel": factor(500, 600), **row}},
        "dynamics": {"limiter & wall": row},
        "split": {"two copies": row},
        "trim": row,
        "meter": factor(90, 95),
        "demo": {
            "strips": 3,
            "stages": 5,
            "live, pieces": live,
            "print, all cores": printed,
            **row,
        },
    }


def test_the_table_tells_of_small_large_and_busy_sessions() -> None:
    run = made(factor(100, 110), factor(200, 220))
    costs = {n: dict.fromkeys(SIZE_WORDS, float(i)) for i, n in enumerate(("8", "48", "ratio"))}
    busy = {
        "missed_at_first_ms": 0.0,
        "missed_ms": 21.0,
        "control_to_sound_ms": 150,
        "ahead_ms": 240,
    }
    told = table(run | {"size": costs | {"busy": busy}}).splitlines()
    assert "0 ms missed in the first four seconds, 21 ms while a strip is edited" in told[-1]
    assert "control to sound 150 ms, 240 ms ahead" in told[-1]
    assert len(told) == len(table(run).splitlines()) + 3 + len(SIZE_WORDS)


def test_slower_is_what_even_its_best_does_not_reach() -> None:
    before = made(factor(100, 110), factor(200, 220))
    slower = made(factor(85, 99), factor(190, 215))
    said = compared.against(slower, before)
    assert "  slower  dynamics, limiter & wall, live: 100.0 → 85.0" in said
    assert not any(", print" in line for line in said)
    assert said[-1].endswith("both: 8")
    faster = made(factor(111, 120), factor(200, 220))
    assert any("faster  trim, live" in line for line in compared.against(faster, before))
    assert len(compared.against(before, before)) == 3


def test_what_is_new_or_gone_is_left_out() -> None:
    before, now = (made(factor(1, 1), factor(1, 1)) for _ in range(2))
    del before["dynamics"], now["split"]
    assert compared.against(now, before)[-1].endswith("both: 10")


@pytest.mark.parametrize("text", ["", "[]", "{}", '{"a": 1}', "\x00"])
def test_what_is_no_run_is_refused(tmp_path: Path, text: str) -> None:
    path = tmp_path / "run.json"
    path.write_text(text)
    with pytest.raises(FileError, match=r"run\.json is no run"):
        compared.stored(path)
    with pytest.raises(FileError, match="is no run"):
        compared.stored(tmp_path / "nowhere.json")
    path.write_text(json.dumps(made(factor(1, 2), factor(3, 4))))
    assert compared.stored(path)["meter"] == factor(90, 95)


def test_the_chart_shows_every_row_by_its_length() -> None:
    drawn = ElementTree.fromstring(compared.chart(made(factor(10, 11), factor(100, 110))))
    names = ["".join(e.itertext()) for e in drawn.iter("{http://www.w3.org/2000/svg}text")]
    assert {"limiter & wall", "trim", "split: two copies", "compressor"} <= set(names)
    bars = [e for e in drawn.iter("{http://www.w3.org/2000/svg}rect") if len(e)]
    widths = [float(bar.get("width", 0)) for bar in bars]
    assert len(bars) == 8
    assert widths[1] == pytest.approx(2 * widths[0], abs=0.2)


def test_without_the_other_program_there_are_no_figures_beside_it(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(beside.shutil, "which", lambda name: None)
    assert beside.measure_beside() == {}
    assert beside.lines({}) == []


def test_start_up_is_taken_out_of_both() -> None:
    """61 s in 1.5 s after a start of 0.5 s; the other 61 s in 3 s after 0.1 s."""
    took = {"ours short": 0.5, "ours long": 1.5, "theirs short": 0.1, "theirs long": 3.0}
    assert beside._ratio(took) == pytest.approx(2.9)
