"""The guard in a process of its own: a turn without end and memory without bound end it."""

import subprocess
import sys

import pytest

PROGRAM = """
import time, sys
from salt_anvil.live import watch
watch.YOUNG_S, watch.EVERY_S = 0.0, 0.01
watch.TURN_S, watch.MEMORY_MB = {turn}, {memory}
w = watch.Watch(lambda: None, lambda why: print(why, flush=True))
held = []
{body}
print("went on", flush=True)
"""


def run(body: str, turn: float = 0.3, memory: float = 10_000) -> tuple[int, str]:
    text = PROGRAM.format(body=body, turn=turn, memory=memory)
    done = subprocess.run(
        [sys.executable, "-c", text], capture_output=True, text=True, timeout=120, check=False
    )
    return done.returncode, done.stdout


@pytest.mark.parametrize(
    ("body", "limits", "words"),
    [
        ("while True: pass", {}, "one turn took over 0.3 s"),
        ("while True: held.append(bytearray(1 << 20)); w.turn(); time.sleep(0.001)",
         {"memory": 300}, "MB of memory"),
    ],
)  # fmt: skip
def test_what_runs_away_is_ended(body: str, limits: dict[str, float], words: str) -> None:
    code, said = run(body, **limits)
    assert code == 70
    assert words in said
    assert "went on" not in said


def test_waiting_is_no_turn_without_end() -> None:
    """Only its own processor time counts: a busy machine is not the engine's fault."""
    assert run("time.sleep(1.5)") == (0, "went on\n")


def test_many_short_turns_are_fine() -> None:
    assert run("for _ in range(4000): w.turn(); sum(range(3000))")[0] == 0
