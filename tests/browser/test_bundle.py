"""A session saved as a bundle, and opened again, on the page."""

import zipfile
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.test_job import open_demo


def test_a_session_goes_out_and_comes_in_again(page: Page, tmp_path: Path) -> None:
    open_demo(page)
    page.keyboard.press("1")
    # What is beside a session can be reached on a small screen too.
    page.set_viewport_size({"width": 1024, "height": 700})
    page.get_by_role("button", name="Delete").click(trial=True)
    with page.expect_download() as download:
        page.get_by_role("button", name="as a bundle").click()
    path = tmp_path / "kept.zip"
    download.value.save_as(path)
    with zipfile.ZipFile(path) as archive:
        assert archive.testzip() is None
        recordings = [n for n in archive.namelist() if n.startswith("media/")]
    tracks = page.evaluate("saltAnvil.work.model.strips.filter(s => s.audio).length")
    assert len(recordings) == tracks
    before = page.evaluate("JSON.stringify(saltAnvil.work.model.strips.map(s => [s.id, s.chain]))")
    number = page.evaluate("saltAnvil.work.state.id")
    page.set_input_files("input[type=file]", str(path))
    page.wait_for_function(f"saltAnvil.work.state.id !== {number}")
    page.wait_for_selector("[data-strip=box-drum]")
    after = page.evaluate("JSON.stringify(saltAnvil.work.model.strips.map(s => [s.id, s.chain]))")
    assert after == before
    page.keyboard.press("1")
    expect(page.locator("[data-session]")).to_have_count(2)

    # What is damaged is refused in a sentence, and what is there stays.
    damaged = tmp_path / "damaged.zip"
    damaged.write_bytes(path.read_bytes()[:-2000])
    page.set_input_files("input[type=file]", str(damaged))
    expect(page.get_by_role("alert")).to_contain_text("damaged.zip is no bundle that can be read")
    expect(page.locator("[data-session]")).to_have_count(2)
