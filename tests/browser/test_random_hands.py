"""Hands that press, drag and type anything, anywhere: nothing breaks, and Esc leads out of it."""

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Page

from tests.browser.demo import copied_demo, demo_session
from tests.browser.test_job import open_demo
from tests.long import LONG
from tests.server import Server, serving

KEYS = [
    *"12345vetagbmsnild+-[]xck?", *(f"Arrow{way}" for way in ("Up", "Down", "Left", "Right")),
    "Escape", "Enter", " ", "Tab", "Shift+Tab", "Delete", "Home", "End", "F2", "Control+z",
    "Control+Shift+z", "Control+c", "Control+x", "Control+v", "Shift+Digit1", "Shift+Digit2",
    "Alt+ArrowLeft", "Alt+ArrowRight",
]  # fmt: skip
TEXTS = ["-12", "0", "1e9", "abc", "", "4:1", "1/8", "2k5", "99999999999999999999", "NaN", "é中"]
# What a hand can reach: visible, and nothing lies over it. Files are chosen by no hand.
IN_REACH = """() => [...document.querySelectorAll(
    'button, input:not([type=file]), select, [role=slider], [tabindex], canvas')]
  .filter((e) => e.checkVisibility() && !e.disabled)
  .map((e) => [e, e.getBoundingClientRect()])
  .filter(([e, { left, top, width, height }]) =>
    e.contains(document.elementFromPoint(left + width / 2, top + height / 2)))
  .map(([e, { left, top, width, height }], i) => {
    e.dataset.hand = i;
    const kind = e.matches('select') ? 'select' : e.matches('input[type=checkbox]') ? 'press' :
      e.matches('input, textarea') ? 'text' : e.matches('canvas, [role=slider]') ? 'drag' : 'press';
    return { i, kind, left, top, width, height };
  })"""
MODELS = """async () => {
  for (;;) {
    await saltAnvil.work.settled();
    const { state } = saltAnvil.work;
    if (!state) return null;
    const stored = await (await fetch(`/api/sessions/${state.id}`)).json();
    // Not while another session or revision is on its way.
    if (saltAnvil.work.state === state) return [stored.model, state.model];
  }
}"""
TYPING = "['INPUT', 'SELECT', 'TEXTAREA'].includes(document.activeElement?.tagName)"


def move(page: Page, rng: np.random.Generator) -> None:
    """Do one thing."""
    reach = page.evaluate(IN_REACH)
    if rng.random() < 0.35 or not reach:
        page.keyboard.press(KEYS[rng.integers(len(KEYS))])
        return
    found = reach[rng.integers(len(reach))]
    x = found["left"] + found["width"] * rng.uniform(0.2, 0.8)
    y = found["top"] + found["height"] * rng.uniform(0.2, 0.8)
    if found["kind"] == "select":
        page.evaluate(
            """([i, share]) => {
              const select = document.querySelector(`[data-hand="${i}"]`);
              const open = [...select?.options ?? []].filter((o) => !o.matches(':disabled'));
              if (!open.length) return;
              select.value = open[Math.floor(share * open.length)].value;
              select.dispatchEvent(new Event('change', { bubbles: true }));
            }""",
            [found["i"], rng.random()],
        )
    elif found["kind"] == "drag" and rng.random() < 0.6:
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + rng.uniform(-150, 150), y + rng.uniform(-80, 80), steps=3)
        page.mouse.up()
    else:
        page.mouse.click(x, y)
        if found["kind"] == "text":
            page.keyboard.press("Control+a")
            page.keyboard.type(TEXTS[rng.integers(len(TEXTS))])
            page.keyboard.press(("Enter", "Tab", "Escape")[rng.integers(3)])


@pytest.fixture
def demo_server(demo_data: Path, tmp_path: Path) -> Iterator[Server]:
    """One of its own: what hands leave behind is in nobody else's way."""
    copied_demo(demo_data, tmp_path / "data")
    with serving(tmp_path / "data") as server:
        for row in server.api("GET", "/sessions"):
            server.api("DELETE", f"/sessions/{row['id']}")
        server.begin(demo_session(demo_data))
        yield server


@pytest.mark.skipif(not LONG, reason="part of `make test-long`")
@pytest.mark.parametrize("seed", range(12))
def test_any_hand_in_any_order(page: Page, seed: int) -> None:
    """The page errors of a script fail the test by themselves; so do answers from 500 on."""
    rng = np.random.default_rng(seed)
    broken: list[str] = []
    page.on("response", lambda r: broken.append(r.url) if r.status >= 500 else None)
    width, height = ((1280, 800), (1024, 700))[seed % 2]
    page.set_viewport_size({"width": width, "height": height})
    open_demo(page)
    for _ in range(15):
        for _ in range(40):
            move(page, rng)
        for _ in range(4):
            page.keyboard.press("Escape")
        assert not page.evaluate(TYPING)
        assert page.locator("dialog[open]").count() == 0
        wide, inner = page.evaluate("[document.documentElement.scrollWidth, innerWidth]")
        assert wide <= inner
        models = page.evaluate(MODELS)
        if models is None:  # on Sessions, after one was taken away
            page.get_by_role("button", name="Open the demo").click()
            page.wait_for_selector("[data-strip]")
        else:
            assert models[0] == models[1]
    assert broken == []
