"""Aim on strips of the demo, and by keyboard: what was wanted is what the ledger says."""

import pytest
from playwright.sync_api import Page, expect

from tests.browser.test_job import open_demo
from tests.long import of

PLACES = [
    ("lead-voice", "lead-voice-compressor"), ("main", "main-wall"),
    ("box-drum", "box-drum-compressor"), ("lead-voice", "lead-voice-ess"),
][: of(2, 4)]  # fmt: skip


def aim(page: Page, wanted: str, over: str = "song") -> None:
    page.keyboard.press("a")
    page.get_by_label("Over which passage").select_option(over)
    page.get_by_label("How much is wanted").fill(wanted)
    page.get_by_role("button", name="Find it").click()
    page.wait_for_function("saltAnvil.aiming.result !== null && saltAnvil.aiming.number === null")


@pytest.mark.parametrize(("strip", "stage"), PLACES)
def test_four_decibels_at_95_percent_in_the_reel(page: Page, strip: str, stage: str) -> None:
    open_demo(page, strip)
    page.evaluate(f"saltAnvil.work.select('{strip}', '{stage}')")
    aim(page, "4", "Reel")
    expect(page.get_by_role("status").or_(page.locator("output"))).to_contain_text("gives")
    # What is measured has to be of what was found, not of what stood before.
    page.wait_for_function("saltAnvil.work.state.undo?.includes('aimed at')")
    page.wait_for_function(f"saltAnvil.work.analysed['{strip}'] === 1")
    row = page.get_by_role("row", name="Reel ").filter(has_text="Reel").first
    expect(row.get_by_role("cell").nth(1)).to_have_text("4.0")
    # One step back is where it was.
    page.keyboard.press("Escape")
    assert "aimed at 4 dB, 95 %" in page.evaluate("saltAnvil.work.state.undo")
    page.keyboard.press("Control+z")
    page.wait_for_function("saltAnvil.work.state.undo === null")


def test_beside_a_control_with_the_loudness_kept(page: Page) -> None:
    """Two controls move in one step; what the ledger says of both sides is as loud as before."""
    open_demo(page, "lead-voice")
    page.evaluate("saltAnvil.work.select('lead-voice', 'lead-voice-compressor')")
    page.get_by_role("button", name="Aim with Threshold").click()
    wanted = page.get_by_label("How much is wanted")
    expect(wanted).to_be_focused()
    expect(page.get_by_label("What is moved")).to_have_value("threshold_db")
    page.get_by_label("What is wanted").select_option("peaks lower behind it by")
    page.get_by_role("switch", name="loudness kept").click()
    page.get_by_label("Over which passage").select_option("Verse")
    wanted.fill("1")
    page.get_by_role("button", name="Find it").click()
    # Somebody looks at a stage without a make-up meanwhile.
    page.wait_for_function("saltAnvil.aiming.number !== null")
    page.evaluate("saltAnvil.work.select('main', 'main-wall')")
    page.wait_for_function("saltAnvil.aiming.result !== null && saltAnvil.aiming.number === null")
    page.evaluate("saltAnvil.work.select('lead-voice', 'lead-voice-compressor')")
    expect(page.locator("output")).to_contain_text("and Make-up at")
    page.wait_for_function("saltAnvil.work.state.undo?.includes('aimed at')")
    page.wait_for_function("saltAnvil.work.analysed['lead-voice'] === 1")
    found = page.evaluate("""async () => {
      const { work, aiming } = saltAnvil;
      const [, begin, end] = aiming.passages.find(([name]) => name === 'Verse');
      const path = `/api/sessions/${work.state.id}/strips/lead-voice/ledger`;
      const at = 'lead-voice-compressor';
      const answer = await fetch(`${path}?at=${at}&begin=${begin}&end=${end}`);
      return (await answer.json()).ledger;
    }""")
    loud = found["after"]["integrated_lufs"] - found["before"]["integrated_lufs"]
    assert abs(loud) < 0.15
    page.keyboard.press("Escape")
    page.keyboard.press("Control+z")
    page.wait_for_function("saltAnvil.work.state.undo === null")


def test_what_cannot_be_had_is_said_and_changes_nothing(page: Page) -> None:
    open_demo(page, "lead-voice")
    aim(page, "59")
    expect(page.locator("output")).to_contain_text("the whole range gives")
    assert page.evaluate("saltAnvil.work.state.undo") is None
    # The loudness of the whole by the limiter's drive, at the end of the main bus.
    page.evaluate("saltAnvil.work.select('main', 'main-wall')")
    page.get_by_label("What is moved").select_option("Drive")
    page.get_by_label("What is wanted").select_option("loudness at the end of the chain")
    page.get_by_role("button", name="Find it").click()
    page.wait_for_function("saltAnvil.aiming.number !== null")
    page.wait_for_function("saltAnvil.aiming.number === null")
    expect(page.locator("output")).to_contain_text("gives −1")
    page.wait_for_function("saltAnvil.work.analysed.main === 1")
    page.keyboard.press("Control+z")
    # Esc leaves the figure, then the box; on another strip the keys are the page's.
    wanted = page.get_by_label("How much is wanted")
    wanted.focus()
    page.keyboard.press("Escape")
    page.keyboard.press("Escape")
    expect(wanted).to_have_count(0)
    page.keyboard.press("a")
    expect(wanted).to_be_focused()
    page.click("[data-strip=shaker]")
    expect(page.get_by_label("What is moved")).to_be_visible()
    page.keyboard.press(" ")
    page.wait_for_function("saltAnvil.live.transport.playing")
    page.get_by_role("button", name="Stop", exact=True).click()


def test_a_gate_is_set_by_marked_hits(page: Page) -> None:
    open_demo(page, "foot-stomps")
    gate = page.evaluate("saltAnvil.work.strip.chain.find((e) => e.kind === 'gate')?.id ?? null")
    if gate is None:
        page.evaluate(
            "saltAnvil.work.edit({ type: 'add_stage', place: 'foot-stomps', index: 0,"
            " kind: 'gate', params: {} })"
        )
        page.wait_for_function("saltAnvil.work.strip.chain[0].kind === 'gate'")
        gate = page.evaluate("saltAnvil.work.strip.chain[0].id")
    page.evaluate(f"saltAnvil.work.select('foot-stomps', '{gate}')")
    page.keyboard.press("a")
    find = page.get_by_role("button", name="Set the gate by them")
    expect(find).to_be_disabled()
    # The stomps of bar 11 are on the beats; between them is only what leaks.
    beat = 60 / 96
    for fate, at in (("keep", 40), ("keep", 42), ("refuse", 40.5)):
        frame = round(at * beat * 48000)
        page.evaluate(f"saltAnvil.live.send({{ type: 'seek', frame: {frame} }})")
        page.wait_for_function(f"Math.abs(saltAnvil.live.frame - {frame}) < 100")
        page.get_by_role("button", name=f"{fate} the hit here").click()
    before = page.evaluate("saltAnvil.work.state.undo?.words ?? null")
    find.click()
    expect(page.get_by_label("Hits to keep").locator("output")).to_contain_text("dB apart")
    # Marks stand in the waveform; there a click makes one and takes one away.
    field = page.get_by_label("Waveform in and out, and reduction")
    strip = page.get_by_role("region", name="Time strip")
    marks = strip.get_by_role("button", name="Take the mark")
    expect(marks).to_have_count(3)
    group = page.get_by_role("group", name="Hits to keep")
    group.get_by_role("button", name="refuse", exact=True).click()
    box = field.bounding_box()
    assert box
    frame = page.evaluate("saltAnvil.live.frame")
    page.mouse.click(box["x"] + box["width"] * 0.7, box["y"] + box["height"] / 2)
    expect(marks).to_have_count(4)
    assert page.evaluate("saltAnvil.live.frame") == frame
    last = "Math.max(...saltAnvil.aiming.marking.of('refuse'))"
    share = page.evaluate(f"saltAnvil.span.share({last})")
    assert abs(share - 0.7) < 0.01
    marks.last.click()
    expect(marks).to_have_count(3)
    threshold = page.evaluate("saltAnvil.work.stage.params.threshold_db")
    assert -60 < threshold < 0
    page.keyboard.press("Escape")
    page.keyboard.press("Control+z")
    page.wait_for_function(f"saltAnvil.work.stage.params.threshold_db !== {threshold}")
    assert page.evaluate("saltAnvil.work.state.undo?.words ?? null") == before
