"""Taming by mouse and by keyboard: scan, list, picture, one place alone; undone in one step."""

import numpy as np
from playwright.sync_api import Page, Route, expect

from tests.browser.sound import recorded, start_recording
from tests.browser.test_job import open_demo
from tests.browser.test_routing import SETTLED

STAGE = "squeezebox-tamer"


def open_tamer(page: Page) -> None:
    open_demo(page, "squeezebox")
    page.evaluate(f"saltAnvil.work.select('squeezebox', '{STAGE}')")
    page.get_by_role("button", name="Scan again").wait_for()
    # The picture of a list that is there is drawn by a look of its own.
    page.wait_for_function("saltAnvil.taming.answer !== null")


def places(page: Page) -> list[dict[str, float]]:
    found: list[dict[str, float]] = page.evaluate("saltAnvil.work.stage.params.places")
    return found


def test_a_scan_finds_what_rings_in_the_squeezebox(page: Page) -> None:
    open_tamer(page)
    assert page.evaluate("saltAnvil.work.state.undo") is None
    page.get_by_role("button", name="take away", exact=True).wait_for()
    # Without its places: a scan of the Reel brings the plate back, in one step.
    page.evaluate("saltAnvil.work.set('places', [])")
    expect(page.get_by_role("button", name="Scan", exact=True)).to_be_visible()
    page.get_by_label("Passage to scan").select_option("Reel")
    page.get_by_role("button", name="Scan", exact=True).click()
    row = page.get_by_role("button", name="hard")
    expect(row).to_be_visible()
    [plate] = [p for p in places(page) if abs(np.log2(p["hz"] / 2450)) < 1 / 6]
    assert plate["over_db"] > 8
    assert page.evaluate("saltAnvil.work.state.undo").startswith("Squeezebox")
    # Again: nothing has changed, and it says so; what a hand set stays.
    page.evaluate(
        "saltAnvil.work.set('places', saltAnvil.work.stage.params.places"
        ".map((p) => ({ ...p, depth_db: 3 })))"
    )
    page.get_by_role("button", name="Scan again").click()
    expect(page.get_by_role("status").filter(has_text="nothing changed")).to_be_visible()
    assert {p["depth_db"] for p in places(page)} == {3}


def test_a_scan_is_stopped_grows_stale_and_a_note_is_tamed_all_the_same(page: Page) -> None:
    open_tamer(page)
    before = places(page)
    page.get_by_label("Passage to scan").select_option("song")
    page.get_by_role("button", name="Scan again").click()
    page.get_by_role("button", name="Stop scanning").click()
    expect(page.get_by_text("the scan was stopped; nothing was changed")).to_be_visible()
    assert places(page) == before
    page.get_by_label("Passage to scan").select_option("Reel")
    page.get_by_role("button", name="Scan again").click()
    expect(page.get_by_text("s looked at.")).to_be_visible()
    stale = page.get_by_text("What comes in was changed since")
    expect(stale).to_have_count(0)
    # Something behind it changes nothing in front of it; its own trim does.
    strip = "{ type: 'set_strip', strip: 'squeezebox', field: "
    page.evaluate(f"saltAnvil.work.edit({strip} 'fader_db', value: -3 }})")
    page.wait_for_function("saltAnvil.work.strip.fader_db === -3")
    expect(stale).to_have_count(0)
    page.evaluate(f"saltAnvil.work.edit({strip} 'trim_db', value: -3 }})")
    expect(stale).to_be_visible()
    count = len(places(page))
    page.get_by_role("button", name="set aside").click()
    page.get_by_role("button", name="all the same").first.click()
    page.wait_for_function(f"saltAnvil.work.stage.params.places.length === {count + 1}")


def test_a_list_changed_while_it_is_scanned_stays_as_it_is(page: Page) -> None:
    """Though another strip is looked at when the answer comes."""
    open_tamer(page)
    answer = page.evaluate("saltAnvil.taming.answer")
    asked: list[Route] = []
    page.route("**/scans", lambda route: asked.append(route))
    page.get_by_role("button", name="Scan again").click()
    expect(page.get_by_role("button", name="Stop scanning")).to_be_visible()
    page.evaluate("saltAnvil.work.set('places', [])")
    page.evaluate("saltAnvil.work.select('lead-voice')")
    page.wait_for_function("saltAnvil.taming.busy && saltAnvil.work.stage.id !== '" + STAGE + "'")
    asked[0].fulfill(json=answer)
    page.wait_for_function("!saltAnvil.taming.busy")
    page.evaluate(f"saltAnvil.work.select('squeezebox', '{STAGE}')")
    expect(page.get_by_text("the list was changed while it was scanned")).to_be_visible()
    assert places(page) == []
    assert page.evaluate("saltAnvil.work.state.undo").endswith("places 0")


def test_places_by_keyboard(page: Page) -> None:
    open_tamer(page)
    before = places(page)
    first = page.locator("[data-place='0']")
    first.focus()
    page.keyboard.press("ArrowDown")
    expect(page.locator("[data-place='1']")).to_be_focused()
    page.keyboard.press("Alt+ArrowDown")
    page.wait_for_function("saltAnvil.work.stage.params.places[1].depth_db === 8")
    page.keyboard.press("ArrowRight")
    hz = round(before[1]["hz"] * 2 ** (1 / 24))
    page.wait_for_function(f"saltAnvil.work.stage.params.places[1].hz === {hz}")
    page.keyboard.press("b")
    page.wait_for_function("saltAnvil.work.stage.params.places[1].on === false")
    page.keyboard.press("Delete")
    page.wait_for_function("saltAnvil.work.stage.params.places.length === 1")
    page.evaluate(SETTLED)
    for _ in range(4):
        assert places(page) != before
        page.keyboard.press("Control+z")
        page.evaluate(SETTLED)
    assert places(page) == before
    page.wait_for_function("saltAnvil.work.state.undo === null")


def test_a_flag_drags_to_another_frequency_and_depth(page: Page) -> None:
    open_tamer(page)
    flag = page.locator("rect.flag").nth(1)
    box = flag.bounding_box()
    assert box
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 20, y + 24, steps=5)
    page.mouse.up()
    page.wait_for_function("saltAnvil.work.stage.params.places[1].hz > 2600")
    assert places(page)[1]["depth_db"] == 11.5


def test_one_place_is_heard_alone_and_never_printed(page: Page) -> None:
    open_tamer(page)
    hear = page.get_by_role("button", name="hear place 2")
    hear.click()
    expect(page.get_by_text("2451 Hz alone").first).to_be_visible()
    expect(hear).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("Space")
    page.wait_for_function("saltAnvil.live.frame > 24000")
    hear.click()
    assert page.evaluate("saltAnvil.live.monitor.place") is None
    # By keyboard it is held.
    page.locator("[data-place='1']").focus()
    page.keyboard.down("h")
    page.wait_for_function("saltAnvil.live.monitor.place?.hz === 2451")
    page.keyboard.up("h")
    page.wait_for_function("saltAnvil.live.monitor.place === null")


def test_what_is_taken_is_the_place(page: Page) -> None:
    open_tamer(page)
    page.get_by_role("switch", name="in the mix").click()
    page.get_by_role("radio", name="removed").click()
    page.keyboard.press("Space")
    page.wait_for_function("saltAnvil.live.frame > 24000")
    start_recording(page)
    _, sound = recorded(page, 96_000)
    page.keyboard.press("Space")
    power = np.square(np.abs(np.fft.rfft(sound[:, 0] * np.hanning(len(sound)))))
    hz = np.fft.rfftfreq(len(sound), 1 / 48000)
    near = np.abs(np.log2(np.maximum(hz, 1) / 2451)) < 0.35
    assert power[near].sum() > 0.5 * power.sum()
