"""The dynamics family on Bench: split over bands, and set by hand in the pictures."""

from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.sound import LIVE, recorded, start_recording
from tests.browser.test_job import open_demo
from tests.browser.test_routing import (
    empty,
    play_loop,
    strip_of,
    type_into,
    wait_for_reduction,
)


def add(page: Page, strip: str, title: str) -> str:
    """Add a stage at the end of a strip's stave by the menu; return its id."""
    before = page.evaluate("saltAnvil.work.stageId")
    page.get_by_label(f"Add at the end of {strip}").click()
    page.get_by_role("menuitem", name=title, exact=True).click()
    page.wait_for_function("(old) => saltAnvil.work.stageId !== old", arg=before)
    expect(page.get_by_role("heading", name=title, exact=True)).to_be_visible()
    return str(page.evaluate("saltAnvil.work.stageId"))


def test_every_stage_can_be_added_in_a_small_window(page: Page) -> None:
    """The menu stands whole within 1024 x 700, wherever it is opened; its last entry is clicked."""
    page.set_viewport_size({"width": 1024, "height": 700})
    open_demo(page, "shaker")
    page.get_by_label("Add at the end of Shaker").click()
    box = page.get_by_role("menu", name="Add").bounding_box()
    assert box
    assert box["y"] >= 0
    assert box["y"] + box["height"] <= 700
    assert box["x"] + box["width"] <= 1024
    page.keyboard.press("Escape")
    add(page, "Shaker", "Room")


def params(page: Page, strip: str, stage: str) -> dict[str, Any]:
    found = [e for e in strip_of(page, strip)["chain"] if e["id"] == stage]
    return dict(found[0]["params"])


def drag(page: Page, x: float, y: float, dx: float, dy: float) -> None:
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + dx / 2, y + dy / 2, steps=4)
    page.mouse.move(x + dx, y + dy, steps=4)
    page.mouse.up()


def test_on_bands(page: Page) -> None:
    """Multiband expander, transient shaper, and a compressor whose bands hear another strip."""
    open_demo(page, "shaker")
    for title, control, text, keyed in (
        ("Expander", "Threshold", "-10", False),
        ("Transient", "Sustain", "-12", False),
        ("Compressor", "Threshold", "-50", True),
    ):
        empty(page, "shaker")
        add(page, "Shaker", title)
        if keyed:
            page.get_by_label("Key", exact=True).select_option(label="Fiddle")
            expect(page.locator(".key", has_text="key: Fiddle").first).to_be_visible()
        page.get_by_role("button", name="into bands").click()
        expect(page.get_by_role("heading", name="3 bands")).to_be_visible()
        split = strip_of(page, "shaker")["chain"][0]
        kinds = {e["kind"] for b in split["branches"] for e in b["chain"]}
        assert kinds == {title.lower()}
        if keyed:
            sources = {e["key"]["source"] for b in split["branches"] for e in b["chain"]}
            assert sources == {"strip:fiddle"}
        # The high band alone is set, in its own panel; it alone works differently.
        high = split["branches"][2]["chain"][0]["id"]
        page.locator(f"[data-stage={high}] [data-focus]").click()
        expect(page.get_by_role("heading", name=title, exact=True)).to_be_visible()
        type_into(page, control, text)
        name = {"Threshold": "threshold_db", "Sustain": "sustain_db"}[control]
        branches = strip_of(page, "shaker")["chain"][0]["branches"]
        values = [b["chain"][0]["params"][name] for b in branches]
        assert values[2] == float(text)
        assert values[0] == values[1] != values[2]
        play_loop(page, 27, 30)
        wait_for_reduction(page, high, 2)
        page.get_by_role("button", name="Stop").click()


def test_a_limiter_holds_what_is_heard_under_the_ceiling_dragged(page: Page) -> None:
    open_demo(page, "shaker")
    empty(page, "shaker")
    stage = add(page, "Shaker", "Limiter")
    type_into(page, "Drive", "12")
    line = page.locator("[data-line=ceiling_db]")
    expect(line.locator(".label")).to_have_text("−1.0")
    box = line.bounding_box()
    assert box
    drag(page, box["x"] + 300, box["y"] + 6, 0, 20)
    expect(line.locator(".label")).not_to_have_text("−1.0")
    on_wave = params(page, "shaker", stage)["ceiling_db"]
    assert -20 < on_wave < -1.5
    # In its picture too: the line stands at the ceiling behind the drive.
    field = page.get_by_label("Peaks that come in").bounding_box()
    assert field
    y = field["y"] + (18 - on_wave) / 48 * field["height"]
    drag(page, field["x"] + 100, y, 0, 12)
    page.wait_for_function("(old) => saltAnvil.work.stage.params.ceiling_db < old - 1", arg=on_wave)
    ceiling = params(page, "shaker", stage)["ceiling_db"]
    page.get_by_role("switch", name="in the mix").click()
    play_loop(page, 26, 28)
    wait_for_reduction(page, stage, 3)
    start_recording(page)
    _, sound = recorded(page, 48000)
    top = np.abs(sound).max()
    assert 0.9 * 10 ** (ceiling / 20) < top <= 10 ** (ceiling / 20)
    expect(page.locator("[data-highest]")).to_contain_text("highest")
    page.get_by_role("button", name="Stop").click()


def test_points_of_a_curve_are_dragged_added_removed_and_smoothed(page: Page) -> None:
    open_demo(page, "shaker")
    empty(page, "shaker")
    stage = add(page, "Shaker", "Curve")
    box = page.get_by_label("Level in against level out").bounding_box()
    assert box

    def place(x_db: float, y_db: float) -> tuple[float, float]:
        return (box["x"] + (x_db + 90) / 96 * box["width"],
                box["y"] + (6 - y_db) / 96 * box["height"])  # fmt: skip

    middle = place(-24, -24)
    target = place(-30, -40)
    drag(page, *middle, target[0] - middle[0], target[1] - middle[1])
    page.wait_for_function("saltAnvil.work.state.words.includes('points')")
    moved = params(page, "shaker", stage)["points"]
    assert moved[1] == pytest.approx([-30, -40], abs=1.5)
    assert [moved[0], moved[2]] == [[-80, -80], [0, -12]]
    page.mouse.dblclick(*place(-15, -10))
    page.wait_for_function("saltAnvil.work.stage.params.points.length === 4")
    assert params(page, "shaker", stage)["points"][2] == pytest.approx([-15, -10], abs=1.5)
    page.get_by_role("switch", name="Smooth").click()
    point = page.get_by_role("slider", name="Point 3")
    point.focus()
    page.keyboard.press("ArrowDown")
    page.wait_for_function("saltAnvil.work.stage.params.smooth")
    page.keyboard.press("Delete")
    page.wait_for_function("saltAnvil.work.stage.params.points.length === 3")
    play_loop(page, 26, 28)
    wait_for_reduction(page, stage, 2)
    page.get_by_role("button", name="Stop").click()


def test_attack_and_sustain_are_dragged_on_a_hit(page: Page) -> None:
    open_demo(page, "shaker")
    empty(page, "shaker")
    stage = add(page, "Shaker", "Transient")
    for handle, name, way in (("attack", "attack_db", -14), ("sustain", "sustain_db", 14)):
        box = page.locator(f"[data-grab={handle}_db]").bounding_box()
        assert box
        drag(page, box["x"] + box["width"] / 2, box["y"] + box["height"] / 2, 0, way)
        page.wait_for_function(f"saltAnvil.work.state.words.includes('{handle}')")
        assert np.sign(params(page, "shaker", stage)[name]) == -np.sign(way)
    play_loop(page, 26, 28)
    page.wait_for_function(
        """(stage) => new Promise((done) => {
          const stop = saltAnvil.live.onReports((batch) => {
            const told = batch.flatMap((b) => b.report.stages[stage]?.attack ?? []);
            if (Math.max(...told) > 0.5) { stop(); done(true); }
          });
        })""",
        arg=stage,
    )
    wait_for_reduction(page, stage, 1)
    page.get_by_role("button", name="Stop").click()


def test_a_deessers_range_is_dragged_whole_and_by_an_edge_and_removed_is_heard(page: Page) -> None:
    open_demo(page, "lead-voice")
    page.locator("[data-stage=lead-voice-ess] [data-focus]").click()
    stage = "lead-voice-ess"
    page.get_by_role("radio", name="band", exact=True).click()
    page.wait_for_function("saltAnvil.work.stage.params.shape === 'band'")
    field = page.get_by_label("Spectrum and range").bounding_box()
    box = page.locator("[data-range]").bounding_box()
    assert field
    assert box
    octave = field["width"] / np.log2(1000)
    start = params(page, "lead-voice", stage)
    drag(page, box["x"] + box["width"] / 2, field["y"] + 100, octave / 2, 0)
    page.wait_for_function("(old) => saltAnvil.work.state.words.includes('frequency')", arg=None)
    whole = params(page, "lead-voice", stage)
    assert whole["frequency_hz"] == pytest.approx(start["frequency_hz"] * 2**0.5, rel=0.03)
    assert whole["width_oct"] == start["width_oct"]
    box = page.locator("[data-range]").bounding_box()
    assert box
    drag(page, box["x"] + 1, field["y"] + 100, -octave / 2, 0)
    page.wait_for_function("saltAnvil.work.state.words.includes('width')")
    wider = params(page, "lead-voice", stage)
    assert wider["width_oct"] == pytest.approx(start["width_oct"] + 0.5, abs=0.1)

    # What is taken away is high: heard alone, it has next to nothing below 2 kHz.
    page.get_by_role("switch", name="in the mix").click()
    page.evaluate(f"{LIVE}.send({{type: 'loop', begin: 25 * 48000, end: 30 * 48000}})")
    page.get_by_role("radio", name="removed").click()
    page.get_by_role("button", name="Play").click()
    wait_for_reduction(page, stage, 4)
    start_recording(page)
    _, sound = recorded(page, 96000)
    power = np.abs(np.fft.rfft(sound[:, 0] * np.hanning(len(sound)))) ** 2
    split_at = round(2000 * len(sound) / 48000)
    assert power[split_at:].sum() > 20 * power[:split_at].sum()
    page.get_by_role("radio", name="out", exact=True).click()
    page.get_by_role("button", name="Stop").click()


def test_a_clipper_cuts_at_the_ceiling_dragged_and_says_how_much(page: Page) -> None:
    open_demo(page, "shaker")
    empty(page, "shaker")
    stage = add(page, "Shaker", "Clipper")
    page.get_by_role("switch", name="Hold ceiling").click()
    line = page.locator("[data-line=ceiling_db]").bounding_box()
    assert line
    drag(page, line["x"] + 300, line["y"] + 6, 0, 45)
    page.wait_for_function("saltAnvil.work.state.words.includes('ceiling')")
    ceiling = params(page, "shaker", stage)["ceiling_db"]
    assert -36 < ceiling < -12
    page.get_by_role("switch", name="in the mix").click()
    play_loop(page, 26, 28)
    wait_for_reduction(page, stage, 1)
    start_recording(page)
    _, sound = recorded(page, 48000)
    assert 0.9 * 10 ** (ceiling / 20) < np.abs(sound).max() <= 10 ** (ceiling / 20) + 1e-7
    expect(page.locator("[data-most]")).not_to_have_text("0.0 dB")
    page.get_by_role("button", name="Stop").click()


def test_a_saturator_adds_harmonics_to_what_is_heard(page: Page) -> None:
    """All odd, driven hard; the picture names the third, and the crest of the sound falls."""
    open_demo(page, "shaker")
    empty(page, "shaker")
    stage = add(page, "Shaker", "Saturator")
    page.get_by_role("switch", name="in the mix").click()
    play_loop(page, 26, 28)

    def crest() -> float:
        start_recording(page)
        _, sound = recorded(page, 96000)
        return float(20 * np.log10(np.abs(sound).max() / sound.std()))

    before = crest()
    type_into(page, "Drive", "30")
    type_into(page, "Harmonics", "100")
    page.wait_for_function("saltAnvil.work.stage.params.harmonics === 1")
    # How soon it is heard is the machine's affair.
    assert any(crest() < before - 2 for _ in range(10))
    assert params(page, "shaker", stage)["drive_db"] == 30
    expect(page.locator("figcaption", has_text="harmonics at")).to_contain_text("3. at")
    page.get_by_role("button", name="Stop").click()


def test_another_key_filter_offers_the_threshold_that_keeps_the_same_hits(page: Page) -> None:
    """The high-passed key is quieter, so that the gate would miss its hits."""
    open_demo(page, "shaker")
    empty(page, "shaker")
    stage = add(page, "Shaker", "Gate")
    type_into(page, "Threshold", "-20")
    page.wait_for_function("saltAnvil.work.analysed.shaker === 1")
    openings = (
        f"fetch('/api/sessions/' + saltAnvil.work.state.id + '/strips/shaker/openings?at={stage}')"
    )
    count = page.evaluate(f"async () => (await (await {openings}).json()).frames.length")
    assert count > 20
    edge = page.get_by_label("Key filter from")
    edge.focus()
    page.keyboard.type("9000")
    page.keyboard.press("Enter")
    offer = page.get_by_role("button", name="keep the same hits")
    expect(offer).to_be_visible()
    offer.click()
    page.wait_for_function("saltAnvil.work.stage.params.threshold_db < -20")
    expect(offer).to_be_hidden()
