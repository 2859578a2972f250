"""Every view in both themes by axe-core's rules (WCAG 2 A and AA, and its best practices)."""

from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.test_job import open_demo

AXE = Path(__file__).parents[2] / "web" / "node_modules" / "axe-core" / "axe.min.js"

FINDINGS = """async ([rules, seen]) => {
  const how = { resultTypes: ['violations'], preload: false, ...rules };
  return (await axe.run({ include: document, exclude: seen }, how)).violations.map(
    (v) => `${v.id}: ${v.help}: ${v.nodes.slice(0, 4).map((n) => n.html.slice(0, 160)).join(' | ')}`
  );
}"""


def bench(page: Page) -> None:
    page.click("[data-strip=lead-voice]")


def split(page: Page) -> None:
    page.click("[data-strip=box-drum]")
    page.get_by_label("Blend, opening bracket").click()


def settings(page: Page) -> None:
    bench(page)
    page.keyboard.press("v")
    page.get_by_text("back to the stage").wait_for()


def blind(page: Page) -> None:
    bench(page)
    page.keyboard.press("t")
    page.get_by_role("button", name="Begin").wait_for()


def recipes(page: Page) -> None:
    bench(page)
    page.keyboard.press("e")
    page.locator("[data-recipe]").nth(3).click()


def keeping(page: Page) -> None:
    recipes(page)
    page.get_by_role("button", name="keep what stands").click()


def by_key(key: str) -> Callable[[Page], None]:
    return lambda page: page.keyboard.press(key)


def revisions(page: Page) -> None:
    page.get_by_title("Revisions of this session").click()


def printing(page: Page) -> None:
    page.get_by_role("button", name="print", exact=True).click()


def stage(strip: str, name: str) -> Callable[[Page], None]:
    def choose(page: Page) -> None:
        page.click(f"[data-strip={strip}]")
        page.locator(f"[data-stage={name}] [data-focus]").click()

    return choose


def back(page: Page) -> None:
    """Leave what is open, for Bench."""
    page.keyboard.press("Escape")
    page.keyboard.press("Escape")
    page.keyboard.press("2")


VIEWS: dict[str, Callable[[Page], None]] = {
    "bench": bench,
    "split": split,
    "settings": settings,
    "blind": blind,
    "recipes": recipes,
    "keeping": keeping,
    "tone": stage("squeezebox", "squeezebox-mud"),
    "tamer": stage("squeezebox", "squeezebox-tamer"),
    "gate": stage("foot-stomps", "foot-stomps-boom"),
    "curve": stage("voice-room", "voice-room-curve"),
    "desk": by_key("3"),
    "proof": by_key("4"),
    "lab": by_key("5"),
    "sessions": by_key("1"),
    "keys": by_key("?"),
    "revisions": revisions,
    "print": printing,
}


THEMES: dict[str, dict[str, list[str]]] = {"light": {}, "dark": {"runOnly": ["color-contrast"]}}
"""A theme is colours: what they do not touch is looked at once."""


def test_nothing_is_found(page: Page) -> None:
    open_demo(page)
    page.add_script_tag(path=AXE)
    found = {}
    for name, show in VIEWS.items():
        show(page)
        expect(page.locator("body")).to_be_visible()
        # The strips beside are the same in every view.
        seen = [] if name == "bench" else [["[data-strip]"]]
        for theme, rules in THEMES.items():
            page.evaluate("(theme) => (document.documentElement.dataset.theme = theme)", theme)
            found[name, theme] = page.evaluate(FINDINGS, [rules, seen])
        back(page)
    assert {at: lines for at, lines in found.items() if lines} == {}


STICKS_OUT = """() => {
  const middle = document.querySelector('.middle');
  const edge = document.querySelector('.middle + *').getBoundingClientRect().left + 1;
  const clipped = (e) => {
    for (let up = e.parentElement; up && up !== middle; up = up.parentElement)
      if (getComputedStyle(up).overflowX !== 'visible') return true;
    return false;
  };
  return [...middle.querySelectorAll('section *, .aim *')]
    .filter((e) => e.getBoundingClientRect().right > edge && !clipped(e))
    .map((e) => `${e.tagName} ${e.textContent.trim().slice(0, 40)}`);
}"""


# The rows of a split may, which have a column for each control, and so may a long chain.
SCROLLS_SIDEWAYS = """() => [...document.querySelectorAll('.middle section, .middle section *')]
  .filter((e) => /auto|scroll/.test(getComputedStyle(e).overflowX))
  .filter((e) => e.scrollWidth > e.clientWidth + 1 && !e.matches('.rows, .score'))
  .map((e) => `${e.tagName}.${e.className} ${e.scrollWidth} > ${e.clientWidth}`)"""


def finding(page: Page) -> None:
    bench(page)
    page.keyboard.press("a")
    page.get_by_role("button", name="Find it").wait_for()


def test_at_1024_by_700_nothing_lies_on_the_ledger(page: Page) -> None:
    page.set_viewport_size({"width": 1024, "height": 700})
    open_demo(page)
    for show in (bench, finding, split, settings, blind, recipes, keeping):
        show(page)
        assert page.evaluate(STICKS_OUT) == [], show.__name__
        assert page.evaluate(SCROLLS_SIDEWAYS) == [], show.__name__
        back(page)
        page.get_by_role("complementary", name="Ledger").wait_for()


def test_who_asks_for_less_motion_sees_fewer_pictures(page: Page) -> None:
    page.emulate_media(reduced_motion="reduce")
    open_demo(page, "lead-voice")
    page.get_by_role("button", name="Play", exact=True).click()
    page.wait_for_function("saltAnvil.live.tick >= 200")
    page.get_by_role("button", name="Stop", exact=True).click()
