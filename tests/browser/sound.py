"""What is heard: recorded from the AudioWorklet while it plays, in runs that nothing interrupts."""

import base64

import numpy as np
from playwright.sync_api import Page

from salt_anvil.core.measure.rows import RowMeter, figures

LIVE = "saltAnvil.live"
QUANTUM = 128
"""Frames that the worklet is asked for at a time."""

# The first block of a run of so many that nothing is missing from, -1 while there is none.
# looped: it has to begin where the loop does, when all that was on its way has been heard.
# next: a run like that has just been taken away, and this one follows it.
_RUN = f"""([count, looped, next]) => {{
  const heard = window.heard;
  let start = looped && !next ? -1 : 0;
  for (let i = 1; i < heard.length; i++) {{
    const back = heard[i].frame < heard[i - 1].frame && i * {QUANTUM} >= window.onTheirWay;
    if (heard[i].frame !== heard[i - 1].frame + {QUANTUM}) start = looped && !back ? -1 : i;
    if (start >= 0 && i - start + 1 >= count) return start;
  }}
  return -1;
}}"""


def start_recording(page: Page) -> None:
    """Record from here on: what was asked of the worklet before is done before."""
    page.evaluate(
        """() => {
          const heard = (window.heard = []);
          // What is computed ahead, the last few blocks of it in one go, and something over.
          window.onTheirWay = 1.2 * 48 * saltAnvil.live.ahead.ms + 12 * 1024;
          const port = saltAnvil.live.node.port;
          port.onmessage = (e) => heard.push(e.data);
          port.postMessage({ type: 'record', on: true });
        }"""
    )


def recorded(
    page: Page, frames: int, *, looped: bool = False, after: bool = False, on: bool = False
) -> tuple[int, np.ndarray]:
    """Return so many frames without a gap, when they have been heard: the first one, the sound.

    on: go on recording; after: what follows a turn of the loop that was returned so.
    """
    count = -(-frames // QUANTUM)
    run = [count, looped, after]
    page.wait_for_function(f"run => ({_RUN})(run) >= 0", arg=run, polling=200)
    first = page.evaluate(_RUN, run)
    reported = page.evaluate(
        """([first, count, on]) => {
          if (!on) saltAnvil.live.node.port.postMessage({ type: 'record', on: false });
          const run = window.heard.splice(0, first + count).slice(first);
          const all = new Float32Array(run.length * 256);
          run.forEach((h, i) => {
            all.set(h.left, i * 256);
            all.set(h.right, i * 256 + 128);
          });
          const bytes = new Uint8Array(all.buffer);
          let text = '';
          for (let i = 0; i < bytes.length; i += 8192)
            text += String.fromCharCode(...bytes.subarray(i, i + 8192));
          return [run[0].frame, btoa(text)];
        }""",
        [first, count, on],
    )
    sound = np.frombuffer(base64.b64decode(reported[1]), "<f4").reshape(-1, 2, QUANTUM)
    return reported[0], np.concatenate([block.T for block in sound])[:frames]


def whole_loop(page: Page, *, on: bool = False) -> np.ndarray:
    """Return one turn of the loop, from its start, as it is after all that was asked for."""
    start_recording(page)
    return recorded(page, _turn(page), looped=True, on=on)[1]


def _turn(page: Page) -> int:
    """Return the frames of the loop."""
    return int(page.evaluate(f"{LIVE}.transport.loop[1] - {LIVE}.transport.loop[0]"))


def settled_loop(page: Page) -> np.ndarray:
    """Return a turn of the loop that is as loud as the one before: slow stages have settled."""
    turn = whole_loop(page, on=True)
    for _ in range(100):
        before, turn = turn, recorded(page, _turn(page), looped=True, after=True, on=True)[1]
        if abs(loudness(turn) - loudness(before)) < 0.02:
            return turn
    raise AssertionError("no two turns of the loop are alike")


def loudness(sound: np.ndarray) -> float:
    meter = RowMeter(48000, 2)
    return figures(
        np.concatenate([meter.feed(sound.astype(np.float64)), meter.flush()])
    ).integrated_lufs
