"""Takes the pictures in docs/screenshots, from the demo session."""

import tempfile
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from salt_anvil.client import ServerProcess
from salt_anvil.demo.install import install_demo

FOLDER = Path(__file__).parent.parent / "docs" / "screenshots"
FLAGS = ["--headless=new", "--no-sandbox", "--disable-gpu", "--disable-background-networking"]


def look(page: Page, theme: str) -> None:
    """Open the demo, loop the Reel on the lead voice, and play a little."""
    page.evaluate(f"localStorage.setItem('theme', '{theme}')")
    page.reload()
    page.get_by_role("button", name="Open the demo").click()
    page.wait_for_selector("[data-strip=lead-voice]")
    page.click("[data-strip=lead-voice]")
    page.wait_for_function("saltAnvil.work.analysed.main === 1", timeout=120_000)
    page.evaluate("saltAnvil.span.show(23 * 48000, 42 * 48000)")
    page.evaluate("saltAnvil.live.send({ type: 'loop', begin: 25 * 48000, end: 40 * 48000 })")
    page.get_by_role("button", name="Play").click()
    page.wait_for_function("saltAnvil.live.frame > 30 * 48000", timeout=30_000)
    page.screenshot(path=FOLDER / f"bench-{theme}.png")
    page.get_by_role("button", name="Stop").click()


def main() -> None:
    """Take them all."""
    with tempfile.TemporaryDirectory() as name, sync_playwright() as playwright:
        install_demo(Path(name))
        server = ServerProcess(Path(name))
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        context = browser.new_context(viewport={"width": 1280, "height": 800}, bypass_csp=True)
        page = context.new_page()
        page.goto(server.url)
        page.evaluate("localStorage.setItem('theme', 'light')")
        page.reload()
        page.wait_for_selector("[data-session]")
        page.screenshot(path=FOLDER / "sessions.png")
        look(page, "light")
        look(page, "dark")
        browser.close()
        server.stop()


if __name__ == "__main__":
    main()
