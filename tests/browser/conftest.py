"""A real Chromium on a real server; skipped, with a clear line, where there is none.

Every test begins with the demo as it comes, analysed already, and with no other session.
"""

import fcntl
import os
import shutil
from collections.abc import Generator, Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.browser.demo import analysed_demo, copied_demo, demo_session
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
def demo_data(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo, made by the first worker that needs it; treat as read-only."""
    shared = tmp_path_factory.getbasetemp()
    if "PYTEST_XDIST_WORKER" in os.environ:
        shared = shared.parent
    made = shared / "analysed-demo"
    with (shared / "analysed-demo.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not made.exists():
            analysed_demo(shared / "demo-in-the-making").rename(made)
    return made


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


@pytest.fixture
def page(request: pytest.FixtureRequest, browser: Browser, demo_server: Server) -> Iterator[Page]:
    """A page that fails the test if a script of it does."""
    errors: list[str] = []
    log: list[str] = []
    # The pages' policy forbids eval, which Playwright's waiting uses.
    context = browser.new_context(
        viewport={"width": 1280, "height": 800}, accept_downloads=True, bypass_csp=True
    )
    context.set_default_timeout(PATIENCE_MS)
    opened = context.new_page()
    opened.on("pageerror", lambda error: errors.append(str(error)))
    opened.on("console", lambda message: log.append(message.text))
    opened.on("requestfailed", lambda asked: log.append(f"{asked.url}: {asked.failure}"))
    opened.on("response", lambda answer: log.append(f"{answer.status} {answer.url}"))
    opened.goto(demo_server.url)
    yield opened
    if request.node.stash.get(FAILED, False):
        explain(opened, log[-200:])
    context.close()
    assert errors == []
