"""Takes the pictures in docs/screenshots, from the demo session."""

import tempfile
from collections.abc import Callable
from functools import partial
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from salt_anvil.demo.install import install_demo
from salt_anvil.speed.client import ServerProcess

FOLDER = Path(__file__).parent.parent / "docs" / "screenshots"
TRIES = 5
FLAGS = ["--headless=new", "--no-sandbox", "--disable-gpu", "--disable-background-networking"]


def begin(page: Page, theme: str = "light") -> None:
    """Open the demo in a page that has played nothing yet."""
    page.evaluate(f"localStorage.setItem('theme', '{theme}')")
    page.reload()
    page.get_by_role("button", name="Open the demo").click()
    page.wait_for_selector("[data-strip=lead-voice]")
    # Drawing, taking pictures and playing on two cores: more time ahead than by itself.
    page.evaluate("saltAnvil.live.send({ type: 'set_ahead', ms: 640 })")
    page.click("[data-strip=lead-voice]")
    page.wait_for_function("saltAnvil.work.analysed.main === 1")


def whole(page: Page, shot: Callable[[Page], None], theme: str = "light") -> None:
    """Take pictures until no block was missed in them: a picture of a fault is none."""
    for _ in range(TRIES):
        begin(page, theme)
        shot(page)
        if page.evaluate("saltAnvil.live.missed") == 0:
            return
    raise SystemExit(f"{shot}: blocks were missed {TRIES} times; is the machine busy?")


def look(page: Page, theme: str) -> None:
    """Loop the Reel on the lead voice, and play a little."""
    page.evaluate("saltAnvil.span.show(23 * 48000, 42 * 48000)")
    page.evaluate("saltAnvil.live.send({ type: 'loop', begin: 25 * 48000, end: 40 * 48000 })")
    page.get_by_role("button", name="Play").click()
    page.wait_for_function("saltAnvil.live.frame > 30 * 48000")
    page.screenshot(path=FOLDER / f"bench-{theme}.png")
    page.get_by_role("button", name="Stop").click()


def play(page: Page, begin_s: float, end_s: float) -> None:
    """Loop a stretch and play some of it."""
    page.evaluate(
        f"saltAnvil.live.send({{type: 'loop', begin: {begin_s} * 48000, end: {end_s} * 48000}})"
    )
    page.get_by_role("button", name="Play").click()
    page.wait_for_timeout(5000)


def nested(page: Page) -> None:
    """Bands within the middle of the squeezebox: an open nested split, and the bands' panel."""
    page.click("[data-strip=squeezebox]")
    page.locator("[data-stage=squeezebox-mid-compressor] b").click()
    page.get_by_role("button", name="into bands").click()
    page.get_by_role("heading", name="3 bands").wait_for()
    page.evaluate("saltAnvil.span.whole()")
    page.wait_for_function("saltAnvil.work.analysed.squeezebox === 1")
    play(page, 25, 40)
    page.screenshot(path=FOLDER / "bands.png")
    page.get_by_role("button", name="Stop").click()
    page.keyboard.press("Control+z")


def sections(page: Page) -> None:
    """A part of the song is drawn on the ruler and about to be named."""
    page.click("[data-strip=box-drum]")
    page.evaluate("saltAnvil.span.show(20 * 48000, 46 * 48000)")
    page.wait_for_timeout(800)
    edge = page.locator(".section .edge.end").nth(1).bounding_box()
    assert edge
    y = edge["y"] + 6
    page.mouse.move(edge["x"] + 2, y)
    page.mouse.down()
    page.mouse.move(edge["x"] - 170, y, steps=6)
    page.mouse.up()
    page.wait_for_timeout(800)
    page.mouse.move(edge["x"] - 150, y)
    page.mouse.down()
    page.mouse.move(edge["x"] - 20, y, steps=6)
    page.screenshot(path=FOLDER / "sections.png")
    page.keyboard.press("Escape")
    page.mouse.up()
    page.wait_for_timeout(500)
    for _ in range(2):
        page.evaluate("saltAnvil.work.undo()")
    page.wait_for_function("saltAnvil.work.model.sections.length === 5")


def blended(page: Page) -> None:
    """The crushed copy under the box drum, with the automation of its position."""
    page.click("[data-strip=box-drum]")
    page.get_by_label("Blend, opening bracket").click()
    page.get_by_label("Automation of Join position").click()
    page.get_by_text("matched by").wait_for(timeout=60_000)
    page.wait_for_timeout(500)
    page.screenshot(path=FOLDER / "blend.png")
    page.get_by_label("Close the automation").click()


STAGES = [
    ("main", "main-wall", "limiter"), ("lead-voice", "lead-voice-ess", "deesser"),
    ("squeezebox", "squeezebox-tamer", "tamer"), ("squeezebox", "squeezebox-mud", "tone"),
]  # fmt: skip


def set_in(page: Page, strip: str, stage: str, name: str) -> None:
    """The picture in which a processor is set, over one part of the song."""
    page.click(f"[data-strip={strip}]")
    page.wait_for_function(f"saltAnvil.work.analysed['{strip}'] === 1")
    page.locator(f"[data-stage={stage}] [data-focus]").click()
    page.evaluate("saltAnvil.span.show(25 * 48000, 35 * 48000)")
    if name == "tone":
        page.get_by_role("button", name="2", exact=True).click()
    if name == "tamer":
        page.get_by_label("Passage to scan").select_option("Reel")
        page.get_by_role("button", name="Scan again").click()
        page.wait_for_function("!saltAnvil.taming.busy && saltAnvil.taming.answer?.changes")
        page.wait_for_function("saltAnvil.work.analysed.squeezebox === 1")
        page.locator("[data-place]").last.click()
        page.get_by_role("row", name="Loudness LUFS").wait_for()
    play(page, 25, 35)
    page.screenshot(path=FOLDER / f"{name}.png")
    page.get_by_role("button", name="Stop").click()


def lab(page: Page) -> None:
    """How the voice's compressor moves, and the clipper's hard cases."""
    page.get_by_role("button", name="Lab", exact=True).click()
    for strip, place, title, name in (
        ("lead-voice", "lead-voice-compressor", "Steps", "lab-steps"),
        ("percussion-bus", "percussion-tips", "Hard cases", "lab-hard-cases"),
    ):
        page.get_by_role("combobox").first.select_option(strip)
        page.locator(f"[data-place={place}]").click()
        page.get_by_role("radio", name=title, exact=True).click()
        page.get_by_role("slider", name="Level").focus()
        page.keyboard.type("0")
        page.keyboard.press("Enter")
        page.wait_for_timeout(1500)
        page.wait_for_selector("section[aria-busy=false] .plot svg")
        page.screenshot(path=FOLDER / f"{name}.png")


def desk(page: Page) -> None:
    """All strips, with the branches of the box drum."""
    page.get_by_role("button", name="Desk", exact=True).click()
    page.get_by_label("Branches of Box drum").click()
    play(page, 25, 40)
    page.screenshot(path=FOLDER / "desk.png")
    page.get_by_role("button", name="Stop").click()


def delivered(page: Page) -> None:
    """The mix proved, with prints in the queue; and the sheet that asks for stems."""
    page.keyboard.press("4")
    page.get_by_role("button", name="Prove it").click()
    page.wait_for_function("saltAnvil.proving.state.state === 'done'", timeout=400_000)
    ask = """(format) => fetch(`/api/sessions/${saltAnvil.work.state.id}/prints`, {
      method: 'POST', headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ format }) })"""
    for format in ("bwf-24", "mp3-192", "flac-16"):
        page.evaluate(ask, format)
    page.get_by_role("table", name="Prints").locator("[data-state=done]").first.wait_for()
    page.locator("[data-way='opus:96']").click()
    page.wait_for_timeout(1500)
    page.screenshot(path=FOLDER / "proof.png")
    page.get_by_role("button", name="Print…").click()
    sheet = page.get_by_role("dialog", name="Print")
    sheet.get_by_label("What").select_option("stems: what goes to the main bus")
    sheet.get_by_role("radio", name="Broadcast WAV").click()
    sheet.get_by_role("button", name="fades, names, markers…").click()
    sheet.locator("[data-state=done]").nth(1).wait_for()
    page.screenshot(path=FOLDER / "prints.png")
    sheet.get_by_role("button", name="Close").click()
    page.keyboard.press("2")


MEASURED = "saltAnvil.compare.letters.every((s) => saltAnvil.compare.row(s)?.plays_db != null)"


def compared(page: Page) -> None:
    """The lead voice: two settings side by side, a blind test of them, recipes, an aim."""
    page.click("[data-strip=lead-voice]")
    page.locator("[data-stage=lead-voice-compressor] [data-focus]").click()
    page.evaluate("saltAnvil.span.show(23 * 48000, 42 * 48000)")
    page.keyboard.press("v")
    page.keyboard.press("g")
    page.keyboard.press("Shift+Digit2")
    page.wait_for_function("saltAnvil.compare.chosen === 'B'")
    settings = "{ threshold_db: -30, ratio: 8, makeup_db: 9 }"
    page.evaluate(
        "saltAnvil.work.edit({ type: 'set_params', stage: 'lead-voice-compressor',"
        f" params: {settings}, whole: false }})"
    )
    page.get_by_role("button", name="no name, setting B").click()
    page.keyboard.type("held tight")
    page.keyboard.press("Enter")
    play(page, 25, 40)
    page.wait_for_function(MEASURED)
    page.screenshot(path=FOLDER / "compare.png")
    page.keyboard.press("t")
    page.wait_for_function("saltAnvil.blind.problem === null && saltAnvil.blind.table.length")
    page.get_by_role("button", name="Begin").click()
    page.keyboard.press("Shift+P")
    page.wait_for_timeout(1500)
    page.screenshot(path=FOLDER / "blind.png")
    page.evaluate("saltAnvil.blind.stop()")
    page.get_by_role("button", name="back to the ledger").click()
    page.keyboard.press("e")
    page.get_by_role("button", name="voice", exact=True).click()
    page.get_by_role("option", name="Voice in three steps").click()
    page.wait_for_function("saltAnvil.library.row('tried')?.plays_db != null")
    page.wait_for_timeout(1500)
    page.screenshot(path=FOLDER / "recipes.png")
    page.keyboard.press("Escape")
    page.keyboard.press("Shift+Digit1")
    page.wait_for_function("saltAnvil.compare.chosen === 'A'")
    page.keyboard.press("a")
    page.get_by_role("button", name="Find it").click()
    page.wait_for_function("saltAnvil.aiming.result !== null")
    page.wait_for_timeout(1000)
    page.wait_for_function("saltAnvil.work.analysed.main === 1")
    page.wait_for_timeout(3000)
    page.screenshot(path=FOLDER / "aim.png")
    page.get_by_role("button", name="Stop", exact=True).click()
    page.keyboard.press("Escape")
    page.keyboard.press("g")
    while page.evaluate("saltAnvil.work.state.undo"):
        page.evaluate("saltAnvil.work.undo()")


def main() -> None:
    """Take them all."""
    with tempfile.TemporaryDirectory() as name, sync_playwright() as playwright:
        install_demo(Path(name))
        server = ServerProcess(Path(name))
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        context = browser.new_context(viewport={"width": 1280, "height": 800}, bypass_csp=True)
        context.set_default_timeout(600_000)
        page = context.new_page()
        page.goto(server.url)
        page.evaluate("localStorage.setItem('theme', 'light')")
        page.reload()
        page.wait_for_selector("[data-session]")
        page.screenshot(path=FOLDER / "sessions.png")
        for theme in ("light", "dark"):
            whole(page, partial(look, theme=theme), theme)
        for shot in (sections, nested, blended, compared, delivered, lab, desk):
            whole(page, shot)
        for strip, stage, title in STAGES:
            whole(page, partial(set_in, strip=strip, stage=stage, name=title))
        browser.close()
        server.stop()


if __name__ == "__main__":
    main()
