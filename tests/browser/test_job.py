"""The job in a real browser: look, play, drag, compare at the same loudness, undo, print, read.

Sound is recorded from the AudioWorklet while it plays.
"""

import re
from pathlib import Path

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from tests.browser.demo import LENGTH_S, copied_demo
from tests.browser.sound import LIVE, loudness, recorded, start_recording, whole_loop
from tests.conftest import noise
from tests.server import Server


def open_demo(page: Page, strip: str = "main") -> None:
    page.get_by_role("button", name="Open the demo").click()
    page.wait_for_selector("[data-strip=box-drum]")
    if strip != "main":
        page.click(f"[data-strip={strip}]")
    wait_for_analysis(page, strip)


def wait_for_analysis(page: Page, strip: str = "main") -> None:
    """Until the picture is whole and a strip, with all that it needs, has been gone through."""
    page.wait_for_function(
        f"saltAnvil.work.analysed['{strip}'] === 1 &&"
        " document.querySelector('canvas[data-done]').dataset.done === '1'",
        polling=200,
    )


def printed(page: Page, what: str, width: str, tmp_path: Path) -> Path:
    page.get_by_role("button", name="print", exact=True).click()
    sheet = page.get_by_role("dialog", name="Print")
    sheet.get_by_label("What").select_option(what)
    sheet.get_by_role("radio", name="WAV", exact=True).click()
    sheet.get_by_role("radio", name=width, exact=True).click()
    with page.expect_response(lambda r: "/prints" in r.url and r.request.method == "POST") as asked:
        sheet.get_by_role("button", name="Print").click()
    number = asked.value.json()["id"]
    row = sheet.locator(f"tr[data-print='{number}'][data-state=done]")
    expect(row).to_be_visible()
    with page.expect_download() as download:
        row.get_by_role("link", name="save").click()
    path = tmp_path / download.value.suggested_filename
    download.value.save_as(path)
    sheet.get_by_role("button", name="Close").click()
    return path


def test_the_job(page: Page, tmp_path: Path) -> None:
    open_demo(page, "foot-stomps")
    page.evaluate("saltAnvil.work.edit({ type: 'remove_stage', stage: 'foot-stomps-boom' })")
    wait_for_analysis(page, "foot-stomps")
    label = page.locator("[data-line=threshold_db] .label")
    expect(label).to_have_text("−20.0")
    before = ledger_reduction(page, "Reel")

    # Play the Reel in a loop, this strip alone.
    ruler = page.locator(".ruler")
    box = ruler.bounding_box()
    assert box
    ruler.dblclick(position={"x": box["width"] * 0.75, "y": 26})
    page.wait_for_function(f"{LIVE}.transport.loop?.[0] === 25 * 48000")
    page.evaluate(f"{LIVE}.send({{ type: 'loop', begin: 25 * 48000, end: 28 * 48000 }})")
    page.wait_for_function(f"{LIVE}.transport.loop?.[1] === 28 * 48000")
    page.get_by_role("switch", name="in the mix").click()
    page.get_by_role("button", name="Play").click()
    page.wait_for_function(f"{LIVE}.transport.playing && {LIVE}.frame > 25.2 * 48000")
    loud = whole_loop(page)

    # Drag the threshold down on the waveform, by hand.
    line = page.locator("[data-line=threshold_db]").bounding_box()
    assert line
    x, y = line["x"] + 200, line["y"] + line["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    for step in range(1, 11):
        page.mouse.move(x, y + 4 * step)
    expect(label).not_to_have_text("−20.0")
    page.mouse.up()
    expect(page.get_by_role("button", name="undo")).to_be_enabled()
    threshold = page.evaluate("saltAnvil.work.stage.params.threshold_db")
    assert -50 < threshold < -26
    page.wait_for_function("saltAnvil.work.state.words.includes('threshold')")
    # The analysis leaves play the machine where both do not fit in: it goes on when play stops.
    page.get_by_role("button", name="Stop").click()
    page.wait_for_function(
        "least => Number([...document.querySelectorAll('table.taken tr')]"
        ".find((r) => r.cells[0].textContent === 'Reel')?.cells[3].textContent) > least",
        arg=before + 3,
        polling=200,
    )
    wait_for_analysis(page, "foot-stomps")
    page.get_by_role("button", name="Play").click()
    page.wait_for_function(f"{LIVE}.transport.playing && {LIVE}.frame > 25.2 * 48000")
    soft = whole_loop(page)
    assert loudness(soft) < loudness(loud) - 2

    # Compare at the same loudness: what is heard of both sides differs by less than 0.2 LU.
    page.get_by_role("switch", name="same loudness").click()
    expect(page.locator("[data-matched]")).to_have_text(re.compile("down$|^as loud"))
    sides = {}
    for side in ("in", "out"):
        page.get_by_role("radio", name=side, exact=True).click()
        sides[side] = whole_loop(page)
    assert abs(loudness(sides["in"]) - loudness(sides["out"])) < 0.2

    # Hold C: what is removed; with nothing after make-up it is neither side.
    page.keyboard.down("c")
    expect(page.get_by_role("radio", name="removed")).to_be_checked()
    page.keyboard.up("c")
    expect(page.get_by_role("radio", name="out", exact=True)).to_be_checked()
    page.get_by_role("button", name="Stop").click()

    page.keyboard.press("Control+z")
    expect(label).to_have_text("−20.0")
    page.keyboard.press("Control+Shift+z")
    expect(label).not_to_have_text("−20.0")

    path = printed(page, "Foot stomps after its chain", "24", tmp_path)
    sound, rate = soundfile.read(path)
    assert (rate, sound.ndim, len(sound)) == (48000, 1, LENGTH_S * 48000)
    # The print holds what was heard: the loop as loud as it was recorded.
    passage = np.repeat(sound[25 * 48000 : 28 * 48000, None], 2, axis=1)
    assert loudness(passage) == pytest.approx(loudness(soft), abs=0.2)


def ledger_reduction(page: Page, section: str) -> float:
    """The greatest reduction of a section, as the ledger says."""
    cell = page.locator("table.taken tr", has=page.get_by_text(section, exact=True)).locator("td")
    expect(cell.nth(2)).not_to_have_text("–")
    return float(cell.nth(2).inner_text().replace("−", "-"))


def test_what_the_worklet_plays_after_a_seek_is_what_is_printed(page: Page, tmp_path: Path) -> None:
    open_demo(page)
    canvas = page.get_by_label("Waveform in and out, and reduction")
    box = canvas.bounding_box()
    assert box
    canvas.click(position={"x": box["width"] * 0.6, "y": box["height"] * 0.42})
    page.wait_for_function(f"Math.abs({LIVE}.frame - {0.6 * LENGTH_S} * 48000) < 48000")
    page.keyboard.press(" ")
    page.wait_for_function(f"{LIVE}.transport.playing && {LIVE}.node !== null")
    start_recording(page)
    start, sound = recorded(page, 72_000)
    start, sound = start + 24_000, sound[24_000:]  # behind the fade at the start
    page.keyboard.press(" ")
    path = printed(page, "main mix", "32f", tmp_path)
    whole = soundfile.read(path, dtype="float32")[0]
    error = sound - whole[start : start + len(sound)]
    assert np.abs(sound).max() > 0.05
    # -120 dBFS is asked for; the samples are the same floats.
    assert np.abs(error).max() < 1e-6


def test_bringing_in_files_by_choosing(page: Page, tmp_path: Path) -> None:
    soundfile.write(tmp_path / "first.wav", noise(48000, 1), 44100)
    soundfile.write(tmp_path / "second.flac", noise(48000, 2), 48000)
    (tmp_path / "broken.wav").write_text("no sound")
    page.get_by_label("Name of the new session").fill("My own take")
    page.set_input_files(
        "input[type=file]", [str(tmp_path / n) for n in ("first.wav", "second.flac")]
    )
    page.wait_for_selector("[data-strip=second]")
    expect(page.get_by_role("navigation", name="Strips")).to_contain_text("first")
    page.click("[data-strip=second]")
    offer = page.get_by_role("region", name="Begin with")
    offer.get_by_role("button", name="Compressor", exact=True).click()
    expect(page.get_by_role("heading", name="Compressor")).to_be_visible()
    page.keyboard.press("1")
    page.set_input_files("input[type=file]", str(tmp_path / "broken.wav"))
    expect(page.get_by_role("alert")).to_have_text(
        "broken.wav is not audio that can be read; WAV, FLAC, AIFF, OGG and MP3 can"
    )


def test_controls_by_keyboard_and_typing(page: Page) -> None:
    open_demo(page, "box-drum")
    page.click("[data-strip=voice-room]")
    ratio = page.get_by_role("slider", name="Ratio")
    ratio.focus()
    page.keyboard.type("8:1")
    page.keyboard.press("Enter")
    expect(ratio).to_have_attribute("aria-valuenow", "8")
    ratio.press("ArrowRight")
    expect(ratio).not_to_have_attribute("aria-valuenow", "8")
    release = page.get_by_role("slider", name="Release", exact=True)
    release.focus()
    page.keyboard.type("0.12 s")
    page.keyboard.press("Enter")
    expect(release).to_have_attribute("aria-valuenow", "120")
    release.dblclick()
    page.keyboard.press("Shift+Digit2")
    expect(page.get_by_role("radio", name="B", exact=True)).to_be_checked()
    page.get_by_role("slider", name="Knee").focus()
    page.keyboard.type("12")
    page.keyboard.press("Enter")
    expect(page.get_by_role("complementary", name="Ledger")).to_contain_text(
        "B: compressor: knee 12 dB instead of 6 dB"
    )
    page.keyboard.press("Escape")
    page.locator("h2").click()
    page.keyboard.press("]")
    expect(page.get_by_role("status")).to_contain_text("trying “Even hand”")
    page.keyboard.press("Escape")
    expect(page.get_by_role("slider", name="Knee")).to_have_attribute("aria-valuenow", "12")
    page.keyboard.press("]")
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="undo")).to_have_attribute(
        "title", "Voice room: compressor: starting point “Even hand”"
    )
    page.keyboard.press("?")
    expect(page.get_by_role("dialog", name="Keys")).to_contain_text("hear what is removed")


def test_values_typed_one_after_the_other_are_stored_once_each(page: Page) -> None:
    """However fast: each is one step back."""
    open_demo(page, "lead-voice")
    before = page.evaluate("JSON.stringify(saltAnvil.work.stage.params)")
    page.evaluate("""() => {
      const { work } = saltAnvil;
      work.hold('ratio', 7);
      work.drop();
      work.hold('knee_db', 3);
      return work.drop();
    }""")
    page.wait_for_function("saltAnvil.work.stage.params.knee_db === 3")
    page.evaluate("saltAnvil.work.undo()")
    page.wait_for_function("saltAnvil.work.state.words.includes('ratio')")
    page.evaluate("saltAnvil.work.undo()")
    page.wait_for_function("saltAnvil.work.state.undo === null")
    assert page.evaluate("JSON.stringify(saltAnvil.work.stage.params)") == before


def test_the_chain_by_mouse_and_keyboard(page: Page) -> None:
    open_demo(page, "box-drum")
    page.click("[data-strip=lead-voice]")
    blocks = page.locator("[data-stage]")
    names = lambda: [b.get_attribute("data-stage") for b in blocks.all()]  # noqa: E731
    assert names() == ["lead-voice-trim", "lead-voice-compressor", "lead-voice-ess"]
    source, target = blocks.nth(0).bounding_box(), blocks.nth(1).bounding_box()
    assert source
    assert target
    page.mouse.move(source["x"] + 60, source["y"] + 35)
    page.mouse.down()
    page.mouse.move(target["x"] + 60, target["y"] + 35, steps=4)
    page.mouse.move(target["x"] + target["width"] + 10, target["y"] + 35, steps=4)
    page.mouse.up()
    page.wait_for_function(
        "document.querySelector('[data-stage]').dataset.stage === 'lead-voice-compressor'"
    )
    blocks.nth(1).locator("[data-focus]").focus()
    page.keyboard.press("Alt+ArrowLeft")
    page.wait_for_function(
        "document.querySelector('[data-stage]').dataset.stage === 'lead-voice-trim'"
    )
    page.get_by_label("Add at the end of Lead voice").click()
    page.get_by_role("menuitem", name="Compressor").click()
    expect(blocks).to_have_count(4)
    page.get_by_role("button", name="take away").click()
    expect(blocks).to_have_count(3)


def test_a_closed_tab_and_a_killed_server_lose_nothing(
    browser, demo_data: Path, tmp_path: Path
) -> None:
    data = tmp_path / "data"
    copied_demo(demo_data, data)
    server = Server(data)
    page = browser.new_page(bypass_csp=True)
    page.goto(server.url)
    page.get_by_role("button", name="Open the demo").click()
    page.locator("[data-stage=box-drum-compressor] [data-focus]").click()
    page.get_by_role("slider", name="Ratio").focus()
    page.keyboard.type("9")
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="undo")).to_be_enabled()
    server.stop(kill=True)
    expect(page.get_by_text("not connected")).to_be_visible()
    page.close()
    again = Server(data)
    model = again.api("GET", "/sessions/1")["model"]
    again.stop()
    assert model["strips"][0]["chain"][1]["params"]["ratio"] == 9


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_nothing_is_cut_off_or_overlaps(page: Page, theme: str) -> None:
    page.evaluate(f"localStorage.setItem('theme', '{theme}')")
    page.reload()
    open_demo(page)
    for width, height in ((1280, 800), (1920, 1080), (1024, 700)):
        page.set_viewport_size({"width": width, "height": height})
        page.wait_for_function(f"innerWidth === {width} && innerHeight === {height}")
        page.evaluate("() => new Promise((done) => requestAnimationFrame(() => setTimeout(done)))")
        nothing_is_cut_off(page, width)


def nothing_is_cut_off(page: Page, width: int) -> None:
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    cut = page.evaluate(
        """() => [...document.querySelectorAll('button, [role=slider], td, th, b')]
          .filter((e) => e.checkVisibility() && !e.closest('.list, .panel, .ledger, .score'))
          .filter((e) => { const r = e.getBoundingClientRect();
            return r.width > 0 && (r.right > innerWidth + 1 || r.bottom > innerHeight + 1); })
          .map((e) => e.textContent)"""
    )
    assert cut == []
    overflowing = page.evaluate(
        """() => [...document.querySelectorAll('.ledger, .panel, .rule .head, .ledger table, .top')]
          .filter((e) => e.checkVisibility() && e.scrollWidth > e.clientWidth + 1)
          .map((e) => e.className + ': ' + e.textContent.slice(0, 40))"""
    )
    assert overflowing == []
    unnamed = page.evaluate(
        """() => [...document.querySelectorAll('button, [role=slider], input, select')]
          .filter((e) => e.checkVisibility())
          .filter((e) => !e.getAttribute('aria-label') && !e.textContent.trim())
          .filter((e) => !e.labels?.length)
          .length"""
    )
    assert unnamed == 0


def test_dropping_several_files_on_the_bench(page: Page, tmp_path: Path) -> None:
    open_demo(page)
    strips = page.locator("[data-strip]").count()
    soundfile.write(tmp_path / "x.wav", noise(9600, 1), 48000)
    raw = list((tmp_path / "x.wav").read_bytes())
    transfer = page.evaluate_handle(
        """(raw) => {
          const data = new DataTransfer();
          for (const name of ['tin whistle.wav', 'bones.wav'])
            data.items.add(new File([new Uint8Array(raw)], name));
          return data;
        }""",
        raw,
    )
    page.dispatch_event("main.bench", "drop", {"dataTransfer": transfer})
    expect(page.locator("[data-strip]")).to_have_count(strips + 2)
    expect(page.get_by_role("navigation", name="Strips")).to_contain_text("tin whistle")
    page.keyboard.press("Control+z")
    expect(page.locator("[data-strip]")).to_have_count(strips + 1)
    page.keyboard.press("Control+z")
    expect(page.locator("[data-strip]")).to_have_count(strips)


def test_two_tabs_see_each_other_s_changes(page: Page, demo_server: Server) -> None:
    open_demo(page)
    other = page.context.new_page()
    other.goto(demo_server.url)
    open_demo(other)
    page.click("[data-strip=shaker]")
    page.keyboard.press("m")
    expect(
        other.get_by_role("button", name="Muted (M)").or_(other.locator(".states"))
    ).to_be_visible()
    other.keyboard.press("Control+z")
    expect(page.locator(".states")).to_have_count(0)
    other.close()


def test_the_time_strip_zooms_and_revisions_are_named(page: Page) -> None:
    open_demo(page)
    canvas = page.get_by_label("Waveform in and out, and reduction")
    canvas.hover(position={"x": 300, "y": 130})
    page.mouse.wheel(0, -600)
    page.wait_for_function(f"saltAnvil.span.end - saltAnvil.span.begin < {0.9 * LENGTH_S} * 48000")
    page.keyboard.press("+")
    before = page.evaluate("saltAnvil.span.end - saltAnvil.span.begin")
    page.keyboard.press("-")
    assert page.evaluate("saltAnvil.span.end - saltAnvil.span.begin") > before
    page.get_by_role("button", name="dB axis").click()
    expect(page.get_by_role("button", name="linear axis")).to_be_visible()
    page.click("[data-strip=shaker]")
    page.keyboard.press("m")
    page.wait_for_function("saltAnvil.work.strip.mute")
    page.get_by_title("Revisions of this session").click()
    sheet = page.get_by_role("dialog", name="Revisions")
    first = sheet.get_by_role("listitem").last
    first.get_by_role("button", name="Name").click()
    sheet.get_by_label("Name of this revision").fill("As it came")
    sheet.get_by_role("button", name="Keep").click()
    expect(first).to_contain_text("As it came")
    sheet.get_by_role("button", name="What differs").last.click()
    expect(sheet.locator(".differences")).to_contain_text("muted")
