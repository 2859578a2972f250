"""Proof and delivery by mouse and keys: what goes over on its way out, the ceiling, the queue."""

import base64
import json
from pathlib import Path

import numpy as np
import soundfile
from playwright.sync_api import Page, Route, expect

from tests.browser.test_job import open_demo
from tests.conftest import noise

WALL = (
    "saltAnvil.work.model.strips.find((s) => s.kind === 'main')"
    ".chain.find((e) => e.kind === 'limiter').params.ceiling_db"
)
OTHER = """async (text) => {
  const bytes = Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
  const asked = (method, path, body, headers = {}) =>
    fetch(`/api/sessions${path}`, { method, body, headers }).then((answer) => answer.json());
  const json = { 'content-type': 'application/json' };
  const { id } = await asked('POST', '', JSON.stringify({ name: 'Another' }), json);
  await asked('PUT', `/${id}/audio?name=one.wav`, bytes);
  await saltAnvil.work.open(await asked('GET', `/${id}`));
}"""
DONE = "saltAnvil.proving.state.state === 'done' && saltAnvil.proving.state.verdict"


def row(page: Page, name: str):  # type: ignore[no-untyped-def]
    return page.locator(f"[data-way='{name}']")


def test_over_after_coding_and_clean_with_the_ceiling_found(page: Page) -> None:
    open_demo(page, "foot-stomps")
    page.evaluate("saltAnvil.live.send({ type: 'loop', begin: 31 * 48000, end: 36 * 48000 })")
    page.wait_for_function("saltAnvil.live.transport.loop?.[1] === 36 * 48000")
    page.keyboard.press("4")
    expect(page.get_by_role("heading", name="Not proved yet.")).to_be_visible()
    page.wait_for_function("saltAnvil.proving.ways.length > 0")
    ways = "[{ rate: 44100, bits: 16, dither: 'last' }, { codec: 'mp3', kbps: 128 }]"
    page.evaluate(f"saltAnvil.proving.setWays({ways}.map((way) => ({{ way, on: true }})))")
    page.get_by_label("Passage").select_option("the loop")
    page.get_by_role("button", name="Prove it").click()
    page.wait_for_function(DONE)
    expect(page.locator("[role=status] h2")).to_contain_text("Not ready: over on")
    overs = page.evaluate(
        "saltAnvil.proving.proof.ways.map((w) => [w.name, w.overs.length]).filter(([, n]) => n)"
    )
    assert "mp3:128" in [name for name, _ in overs]
    for name, words in page.evaluate("saltAnvil.proving.proof.ways.map((w) => [w.name, w.words])"):
        expect(row(page, name)).to_have_text(words)
    assert page.evaluate("saltAnvil.proving.proof.as_it_stands.overs.length") == 0
    # A mark leads to its place, and its row is looked at; N goes on to the next.
    name, count = max(overs, key=lambda o: o[1])
    marks = page.locator(".row", has=row(page, name)).locator(".mark")
    expect(marks).to_have_count(count)
    marks.first.click()
    expect(row(page, name)).to_have_attribute("aria-pressed", "true")
    first = page.evaluate("saltAnvil.live.frame")
    if count > 1:
        page.keyboard.press("n")
        page.wait_for_function(f"saltAnvil.live.frame > {first}")
    # By keys from row to row.
    row(page, name).press("ArrowUp")
    expect(row(page, name)).to_have_attribute("aria-pressed", "false")
    # One undo step sets the wall that the mix ends in.
    before = page.evaluate(WALL)
    found = page.evaluate("saltAnvil.proving.ceiling.found_db")
    assert found < before
    page.get_by_role("button", name="Use it").click()
    page.wait_for_function(f"{WALL} === {found}")
    expect(page.get_by_text("These figures are from before the last change.")).to_be_visible()
    page.get_by_role("button", name="Prove it").click()
    page.wait_for_function(f"saltAnvil.proving.state.current && {DONE}")
    assert page.evaluate("saltAnvil.proving.proof.ways.every((w) => w.overs.length === 0)")
    page.keyboard.press("Control+z")
    page.wait_for_function(f"{WALL} === {before}")


def test_nothing_is_asked_to_be_proved_before_there_is_a_target(page: Page) -> None:
    """A button that would do nothing yet cannot be pressed."""
    held: list[Route] = []
    page.route("**/api/delivery", lambda route: held.append(route))
    open_demo(page, "foot-stomps")
    page.keyboard.press("4")
    prove = page.get_by_role("button", name="Prove it")
    expect(prove).to_be_disabled()
    for route in held:
        route.continue_()
    page.unroute("**/api/delivery")
    expect(prove).to_be_enabled()


def test_what_comes_back_is_heard_in_step_with_the_song(page: Page) -> None:
    open_demo(page, "foot-stomps")
    page.keyboard.press("4")
    page.wait_for_function("saltAnvil.proving.ways.length > 0")
    ways = "[{ rate: 44100, bits: 24, dither: 'last' }, { codec: 'mp3', kbps: 128 }]"
    page.evaluate(f"saltAnvil.proving.setWays({ways}.map((way) => ({{ way, on: true }})))")
    page.evaluate("saltAnvil.proving.limit = 6")  # nothing is over: no ceiling is looked for
    page.get_by_label("Passage").select_option("1. Gangway")
    page.get_by_role("button", name="Prove it").click()
    page.wait_for_function(DONE)
    element = "saltAnvil.proving.element"
    page.keyboard.press(" ")
    page.wait_for_function("saltAnvil.live.transport.playing")
    page.get_by_role("radio", name="decoded").click()
    page.wait_for_function(f"{element} && !{element}.paused && {element}.currentTime > 0.3")
    assert "audio/44100:24" in page.evaluate(f"{element}.src")
    expect(page.locator("aside")).to_contain_text("44.1 kHz, 24 bit, dither last")
    row(page, "mp3:128").click()
    page.get_by_role("radio", name="taken").click()
    page.wait_for_function(f"{element}.src.includes('mp3:128?taken=true') && !{element}.paused")
    page.get_by_role("radio", name="original").click()
    page.wait_for_function(f"{element}.paused")
    page.keyboard.press(" ")
    # Elsewhere only the engine is heard.
    page.get_by_role("radio", name="decoded").click()
    page.keyboard.press("2")
    page.wait_for_function(f"{element}.paused")


def test_ways_targets_and_a_service(page: Page) -> None:
    open_demo(page, "foot-stomps")
    page.keyboard.press("4")
    page.get_by_role("button", name="+ way out").click()
    page.get_by_label("Coder").select_option("Vorbis")
    page.get_by_label("kbit/s", exact=True).select_option("192 kbit/s")
    page.get_by_role("button", name="Add").click()
    expect(row(page, "vorbis:192")).to_be_visible()
    for name in ("44100:24", "44100:16", "aac:256", "opus:96"):
        page.get_by_role("switch", name=f"Go {row(page, name).inner_text()}").click()
    row(page, "mp3:128").press("Delete")
    expect(row(page, "mp3:128")).to_have_count(0)
    page.get_by_label("Target", exact=True).select_option("make one…")
    sheet = page.get_by_role("dialog", name="A target of your own")
    sheet.get_by_label("Name").fill("Our evening")
    sheet.get_by_label("Loudness LUFS").fill("loud")
    sheet.get_by_role("button", name="Keep it").click()
    expect(sheet.get_by_role("alert")).to_contain_text("“loud” is not a number")
    sheet.get_by_label("Loudness LUFS").fill("-20")
    sheet.get_by_label("Range at most").fill("")
    sheet.get_by_role("button", name="Keep it").click()
    expect(sheet).to_have_count(0)
    page.get_by_label("Passage").select_option("1. Gangway")
    page.get_by_role("button", name="Prove it").click()
    page.wait_for_function(DONE)
    assert page.evaluate("saltAnvil.proving.proof.target.name") == "Our evening"
    assert page.evaluate("saltAnvil.proving.proof.ways.map((w) => w.name)") == ["vorbis:192"]
    expect(page.get_by_role("table", name="Measured against the target")).to_contain_text(
        "−20.0 ± 1.0"
    )
    # The service turns it; quiet songs only if it turns up.
    lufs = page.evaluate("saltAnvil.proving.proof.figures.integrated_lufs")
    page.wait_for_function(
        f"Math.abs(saltAnvil.proving.played?.gain_db - Math.min(-14 - {lufs}, 99)) < 0.01"
    )
    page.get_by_role("switch", name="quiet songs turned up too").click()
    page.wait_for_function(f"saltAnvil.proving.played?.gain_db === {min(-14 - lufs, 0) or 0}")
    page.get_by_role("button", name="delete this target").click()
    page.wait_for_function("saltAnvil.proving.delivery.own.length === 0")


def test_a_dropped_file_is_proved_instead(page: Page, tmp_path: Path) -> None:
    open_demo(page, "foot-stomps")
    page.keyboard.press("4")
    path = tmp_path / "from elsewhere.wav"
    soundfile.write(path, np.clip(noise(96_000, 2, level=0.6, seed=2), -1, 1), 48000)
    page.evaluate(
        """([name, text]) => {
          const data = new DataTransfer();
          data.items.add(new File([Uint8Array.from(atob(text), (c) => c.charCodeAt(0))], name));
          window.dispatchEvent(new DragEvent('drop', { dataTransfer: data, cancelable: true }));
        }""",
        [path.name, base64.b64encode(path.read_bytes()).decode()],
    )
    page.wait_for_function(f"saltAnvil.proving.file !== null && {DONE}")
    expect(page.get_by_label("Proof of")).to_have_value("from elsewhere.wav")
    expect(page.get_by_label("Cautions", exact=True)).to_contain_text("Clipped")
    expect(page.get_by_role("button", name="Use it")).to_have_count(0)
    strips = page.evaluate("saltAnvil.work.model.strips.length")
    page.get_by_label("Proof of").select_option("")
    assert page.evaluate("saltAnvil.proving.file") is None
    assert page.evaluate("saltAnvil.work.model.strips.length") == strips


def test_another_session_begins_with_its_own_mix(page: Page, tmp_path: Path) -> None:
    open_demo(page, "foot-stomps")
    page.keyboard.press("4")
    page.get_by_label("Proof of").select_option("Fiddle")
    page.get_by_label("Passage").select_option("3. Reel")
    path = tmp_path / "one.wav"
    soundfile.write(path, noise(96_000, 1, level=0.1), 48000)
    page.evaluate(OTHER, base64.b64encode(path.read_bytes()).decode())
    expect(page.get_by_role("heading", name="Not proved yet.")).to_be_visible()
    expect(page.get_by_label("Proof of")).to_have_value("")
    expect(page.get_by_label("Passage")).to_have_value("the song")
    # A loop that is let go is no passage any more.
    page.keyboard.press("l")
    page.get_by_label("Passage").select_option("the loop")
    page.keyboard.press("l")
    expect(page.get_by_label("Passage")).to_have_value("the song")
    # A strip whose proof was chosen is taken away, and comes back with undo.
    page.get_by_label("Proof of").select_option("one")
    page.evaluate("saltAnvil.work.edit({ type: 'remove_strip', strip: 'one' })")
    expect(page.get_by_label("Proof of")).to_have_value("")
    page.keyboard.press("Control+z")
    page.wait_for_function("saltAnvil.work.model.strips.length === 2")


def test_a_proof_is_stopped_and_what_was_measured_stays(page: Page) -> None:
    open_demo(page, "foot-stomps")
    page.keyboard.press("4")
    page.get_by_label("Passage").select_option("1. Gangway")
    page.get_by_role("button", name="Prove it").click()
    page.wait_for_function("saltAnvil.proving.known >= 0 && saltAnvil.proving.running")
    page.get_by_role("button", name="Stop", exact=True).last.click()
    expect(page.get_by_role("heading", name="Stopped.")).to_be_visible()
    expect(page.get_by_role("table", name="Measured against the target")).to_contain_text("LUFS")
    expect(page.get_by_role("button", name="Prove it")).to_be_enabled()


def test_stems_of_a_loop_go_through_the_queue(page: Page) -> None:
    open_demo(page, "foot-stomps")
    page.evaluate("saltAnvil.live.send({ type: 'loop', begin: 720000, end: 864000 })")
    page.wait_for_function("saltAnvil.live.transport.loop?.[1] === 864000")
    page.keyboard.press("4")
    page.get_by_role("button", name="Print…").click()
    sheet = page.get_by_role("dialog", name="Print")
    sheet.get_by_label("What").select_option("stems: what goes to the main bus")
    expect(sheet).to_contain_text("They add up to the mix without")
    sheet.get_by_role("radio", name="loop", exact=True).click()
    sheet.get_by_role("radio", name="FLAC", exact=True).click()
    sheet.get_by_role("button", name="fades, names, markers…").click()
    sheet.get_by_label("Fade in").fill("soon")
    sheet.get_by_role("button", name="Print", exact=True).click()
    expect(sheet.get_by_role("alert")).to_contain_text("is no length of a fade")
    sheet.get_by_label("Fade in").fill("0")
    sheet.get_by_label("Title").fill("Evening")
    posted = lambda r: r.url.endswith("/stems") and r.request.method == "POST"  # noqa: E731
    with page.expect_response(posted) as asked:
        sheet.get_by_role("button", name="Print", exact=True).click()
    numbers = [item["id"] for item in asked.value.json()]
    sheet.get_by_role("button", name="Close").click()
    rows = page.get_by_label("Prints", exact=True).first
    last = rows.locator(f"tr[data-print='{numbers[-1]}']")
    # One that waits is moved, another cancelled.
    page.evaluate(f"fetch('/api/prints/{numbers[-2]}', {{ method: 'DELETE' }})")
    expect(rows.locator(f"tr[data-print='{numbers[-2]}'][data-state=cancelled]")).to_be_visible()
    expect(last).to_have_attribute("data-state", "done")
    expect(last).to_contain_text("sum of the stems")
    last.get_by_role("button", name="what differs").click()
    expect(rows).to_contain_text("since the print before:")
    report = json.loads(page.evaluate(
        f"fetch(`/api/sessions/${{saltAnvil.work.state.id}}/prints`).then((r) => r.json())"
        f".then((all) => JSON.stringify(all.find((p) => p.id === {numbers[-1]}).report))"
    ))  # fmt: skip
    assert len(report["sha256"]) == 64
    assert report["frames"] == 144_000
    assert report["options"]["title"] == "Evening"
    last.get_by_role("button", name="play").click()
    expect(last.get_by_role("button", name="stop")).to_be_visible()
