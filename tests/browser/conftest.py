"""A real Chromium on a real server; skipped, with a clear line, where there is none.

Every test begins with the demo as it comes, analysed already, and with no other session.
"""

import os
import shutil
from collections.abc import Generator, Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.browser.demo import analysed_demo, copied_demo, demo_session
from tests.conftest import made_once
from tests.server import Server, serving

CHROMIUM = shutil.which("chromium")
PATIENCE_MS = 600_000
"""How long anything is waited for: a busy machine is slow, and only what is stuck fails."""
FAILED = pytest.StashKey[bool]()
FLAGS = [
    "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
    "--disable-background-networking", "--disable-component-update", "--disable-sync",
]  # fmt: skip


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        if "browser" in item.path.parts:
            item.add_marker(pytest.mark.browser)
            if CHROMIUM is None and "CI" not in os.environ:
                item.add_marker(pytest.mark.skip(reason="Chromium is not installed"))


@pytest.fixture(scope="session")
def demo_data(installed_demo: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo, analysed by the first worker that needs it; treat as read-only."""
    with made_once(tmp_path_factory, "analysed-demo") as (place, missing):
        if missing:
            making = place.with_name("analysed-demo-in-the-making")
            analysed_demo(installed_demo, making).rename(place)
    return place


@pytest.fixture(scope="session")
def shared_demo(demo_data: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    data = tmp_path_factory.mktemp("browser") / "data"
    copied_demo(demo_data, data)
    with serving(data) as server:
        yield server


@pytest.fixture
def demo_server(shared_demo: Server, demo_data: Path) -> Server:
    for row in shared_demo.api("GET", "/sessions"):
        shared_demo.api("DELETE", f"/sessions/{row['id']}")
    shared_demo.begin(demo_session(demo_data))
    return shared_demo


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    expect.set_options(timeout=PATIENCE_MS)
    with sync_playwright() as playwright:
        running = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        yield running
        running.close()


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: pytest.Item) -> Generator[None, pytest.TestReport, Any]:
    report = yield
    if report.when == "call":
        item.stash[FAILED] = report.failed
    return report


def explain(page: Page, log: list[str]) -> None:
    """Print what a failed test leaves on the page, and what went wrong on the way to it."""
    print("\n".join(log))
    print(page.evaluate("document.body.innerText")[:3000])


class Told:
    """What happens on a page: its log, and the errors of its scripts."""

    def __init__(self, page: Page) -> None:
        self.errors: list[str] = []
        self.log: list[str] = []
        page.on("pageerror", lambda error: self.errors.append(str(error)))
        page.on("console", lambda message: self.log.append(message.text))
        page.on("requestfailed", lambda asked: self.log.append(f"{asked.url}: {asked.failure}"))
        page.on("response", lambda answer: self.log.append(f"{answer.status} {answer.url}"))


@pytest.fixture(scope="session")
def shared_page(browser: Browser) -> Iterator[tuple[Page, Told]]:
    # A page of one's own for every test is 1.5 s of processor time.
    # The pages' policy forbids eval, which Playwright's waiting uses.
    # Fewer pictures a second leave more of the machine to what is tested.
    context = browser.new_context(accept_downloads=True, bypass_csp=True, reduced_motion="reduce")
    context.set_default_timeout(PATIENCE_MS)
    opened = context.new_page()
    yield opened, Told(opened)
    context.close()


@pytest.fixture
def page(
    request: pytest.FixtureRequest, shared_page: tuple[Page, Told], demo_server: Server
) -> Iterator[Page]:
    """A page as one opens it for the first time; fails the test if a script of it does."""
    opened, told = shared_page
    told.log.clear()
    opened.set_viewport_size({"width": 1280, "height": 800})
    opened.goto(demo_server.url)
    yield opened
    if request.node.stash.get(FAILED, False):
        explain(opened, told.log[-200:])
    for other in opened.context.pages:
        if other is not opened:
            other.close()
    opened.unroute_all()
    client = opened.context.new_cdp_session(opened)
    kept = {"origin": demo_server.url, "storageTypes": "all"}
    client.send("Storage.clearDataForOrigin", kept)
    client.detach()
    # Of the same origin: its process goes on, for another costs half a second.
    opened.goto(f"{demo_server.url}/api/sessions")
    errors = told.errors[:]
    told.errors.clear()
    assert errors == []
