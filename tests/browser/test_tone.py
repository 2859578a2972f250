"""Tone by hand, in Chromium, heard in the worklet's sound; and Lab."""

import csv
import io
import json
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from playwright.sync_api import Page, expect
from scipy import signal

from tests.browser.sound import whole_loop
from tests.browser.test_dynamics import add, drag, params
from tests.browser.test_job import open_demo
from tests.browser.test_routing import empty, play_loop, type_into


def change_db(page: Page, *ranges: tuple[float, float]) -> list[float]:
    """What the watched stage does to ranges of what is heard, in dB; ranges in Hz."""
    levels = []
    for side in ("in", "out"):
        page.get_by_role("radio", name=side, exact=True).click()
        sound = whole_loop(page)
        hz, power = signal.welch(sound[:, 0], 48000, nperseg=8192)
        levels.append(
            [10 * np.log10(power[(hz >= low) & (hz < high)].sum()) for low, high in ranges]
        )
    return [after - before for before, after in zip(*levels, strict=True)]


def test_bands_are_added_dragged_turned_and_taken_away(page: Page) -> None:
    open_demo(page, "shaker")
    empty(page, "shaker")
    stage = add(page, "Shaker", "Tone")
    field = page.get_by_label("Response over the spectrum").bounding_box()
    assert field

    def place(hz: float, gain_db: float) -> tuple[float, float]:
        return (field["x"] + np.log2(hz / 20) / np.log2(1000) * field["width"],
                field["y"] + (1 - gain_db / 18) / 2 * field["height"])  # fmt: skip

    page.mouse.dblclick(*place(2000, 4))
    page.wait_for_function("saltAnvil.work.stage.params.bands.length === 1")
    start, target = place(2000, 4), place(6000, -12)
    drag(page, *start, target[0] - start[0], target[1] - start[1])
    page.wait_for_function("saltAnvil.work.stage.params.bands[0].gain_db < -8")
    band = params(page, "shaker", stage)["bands"][0]
    assert band["hz"] == pytest.approx(6000, rel=0.05)
    assert band["gain_db"] == pytest.approx(-12, abs=1)
    # By keyboard and typing too, and another type.
    handle = page.get_by_role("slider", name="Band 1, bell")
    handle.focus()
    page.keyboard.press("ArrowDown")
    page.wait_for_function(
        "(old) => saltAnvil.work.stage.params.bands[0].gain_db === old - 1", arg=band["gain_db"]
    )
    type_into(page, "Gain", "-15")
    type_into(page, "Frequency", "5k")
    page.get_by_label("Add a band").click()
    page.get_by_role("radio", name="low-cut").click()
    type_into(page, "Frequency", "3k")
    page.get_by_role("radio", name="24", exact=True).click()
    page.wait_for_function("saltAnvil.work.stage.params.bands[1].slope === '24'")
    bands = params(page, "shaker", stage)["bands"]
    assert (bands[0]["hz"], bands[0]["gain_db"]) == (5000, -15)
    assert (bands[1]["type"], bands[1]["hz"]) == ("low-cut", 3000)
    page.get_by_role("switch", name="in the mix").click()
    play_loop(page, 26, 28)
    bell, cut, top = change_db(page, (4700, 5300), (300, 900), (12000, 16000))
    assert bell < -12
    assert cut < -24
    assert -5 < top < 0.5  # the wide bell's edge
    page.get_by_role("button", name="Stop").click()
    page.get_by_role("button", name="take this band away").click()
    page.wait_for_function("saltAnvil.work.stage.params.bands.length === 1")
    page.get_by_role("slider", name="Band 1, bell").focus()
    page.keyboard.press("Delete")
    page.wait_for_function("saltAnvil.work.stage.params.bands.length === 0")


def test_a_band_moves_by_level_and_shows_it(page: Page) -> None:
    open_demo(page, "shaker")
    empty(page, "shaker")
    stage = add(page, "Shaker", "Tone")
    page.get_by_label("Add a band").click()
    type_into(page, "Frequency", "7k")
    type_into(page, "Moves by", "-12")
    type_into(page, "Threshold", "-60")
    page.wait_for_function("saltAnvil.work.stage.params.bands[0].threshold_db === -60")
    play_loop(page, 26, 28)
    page.wait_for_function("document.querySelector('line.moved.less') !== null")
    page.get_by_role("radio", name="linear").click()
    page.wait_for_function("saltAnvil.work.stage.params.phase === 'linear'")
    page.wait_for_function("saltAnvil.work.state.latency > 1900")
    page.get_by_role("button", name="Stop").click()
    assert params(page, "shaker", stage)["bands"][0]["move_db"] == -12


def test_a_band_a_point_and_a_crossover_have_lanes(page: Page) -> None:
    """Set for one section, then moved by hand where they stand: the automation takes it."""
    open_demo(page, "shaker")
    empty(page, "shaker")
    tone = add(page, "Shaker", "Tone")
    page.get_by_label("Add a band").click()
    page.get_by_label("Add a band").click()
    page.get_by_label("Automation of Gain").click()
    type_into(page, "Band 2 gain in Reel", "-9")
    page.wait_for_function(
        f"saltAnvil.work.pointsOf({{owner: '{tone}', control: 'bands.1.gain_db'}})?.length > 2"
    )
    page.wait_for_function("saltAnvil.work.lanes.length > 0")
    lanes = page.evaluate("saltAnvil.work.state.model.automation")
    # By hand at rest: the point that the control stands on is moved, not the setting.
    type_into(page, "Gain", "4")
    page.wait_for_function(
        "(old) => JSON.stringify(saltAnvil.work.state.model.automation) !== old",
        arg=json.dumps(lanes, separators=(",", ":")),
    )
    assert params(page, "shaker", tone)["bands"][1]["gain_db"] == 0
    type_into(page, "Frequency", "5k")  # what has no automation is set
    page.wait_for_function("saltAnvil.work.stage.params.bands[1].hz === 5000")
    # The band before it goes: the automation stays with its band.
    page.get_by_role("button", name="1", exact=True).click()
    page.get_by_role("button", name="take this band away").click()
    page.wait_for_function(
        f"saltAnvil.work.pointsOf({{owner: '{tone}', control: 'bands.0.gain_db'}})"
    )
    page.wait_for_function("saltAnvil.work.lane === null")  # there is no second band any more
    curve = add(page, "Shaker", "Curve")
    page.get_by_label("Point 2").first.focus()
    page.get_by_label("Automation of Point 2 out").click()
    type_into(page, "Point 2 out in Verse", "-40")
    page.wait_for_function(
        f"saltAnvil.work.pointsOf({{owner: '{curve}', control: 'points.1.out'}})"
    )
    page.get_by_role("button", name="into bands").click()
    page.get_by_label("Automation of Frequency of crossover 1").click()
    type_into(page, "Crossover 1 in Verse", "400")
    page.wait_for_function(
        "saltAnvil.work.state.model.automation.some((a) => a.control === 'crossovers_hz.0')"
    )
    play_loop(page, 26, 28)
    page.wait_for_function("saltAnvil.live.frame > 27 * 48000")
    page.get_by_role("button", name="Stop").click()
    # All of it by a lever, too.
    page.keyboard.press("3")
    page.get_by_role("button", name="add a lever").click()
    page.get_by_role("button", name="moves 0 controls").click()
    moved = page.get_by_label("Move another control")
    expect(moved.locator("option", has_text="Shaker, Tone: band 1 frequency")).to_have_count(1)
    expect(moved.locator("option", has_text="Shaker, 3 bands: crossover 2")).to_have_count(1)


def test_an_enhancers_range_is_dragged_and_its_harmonics_are_heard(page: Page) -> None:
    open_demo(page, "low-fiddle")
    empty(page, "low-fiddle")
    stage = add(page, "Low fiddle", "Enhancer")
    box = page.locator("[data-range]").bounding_box()
    assert box
    drag(page, box["x"] + box["width"] - 1, box["y"] + 60, 40, 0)
    page.wait_for_function("saltAnvil.work.stage.params.high_hz > 150")
    assert params(page, "low-fiddle", stage)["low_hz"] == 40
    type_into(page, "Amount", "6")
    expect(page.locator("figcaption", has_text="harmonics at")).to_contain_text("at 6.0 dB")
    page.get_by_role("switch", name="in the mix").click()
    play_loop(page, 26, 28)
    assert change_db(page, (300, 700))[0] > 3
    page.get_by_role("button", name="Stop").click()


def test_emphasis_and_colour_and_sides(page: Page) -> None:
    open_demo(page, "squeezebox")
    empty(page, "squeezebox")
    saturator = add(page, "Squeezebox", "Saturator")
    page.get_by_label("Add a band").click()
    page.get_by_role("radio", name="low-shelf").click()
    page.get_by_role("radio", name="emphasis", exact=True).click()
    expect(page.get_by_role("slider", name="Band 1, low shelf")).to_be_visible()
    page.wait_for_function("saltAnvil.work.stage.params.emphasis[0]?.type === 'low-shelf'")
    assert params(page, "squeezebox", saturator)["undo_emphasis"] is True
    compressor = add(page, "Squeezebox", "Compressor")
    type_into(page, "Colour", "40")
    page.wait_for_function("saltAnvil.work.stage.params.colour === 0.4")
    width = add(page, "Squeezebox", "Width")
    type_into(page, "Width", "0")
    page.wait_for_function("saltAnvil.work.stage.params.width === 0")
    page.get_by_role("switch", name="in the mix").click()
    play_loop(page, 26, 28)
    expect(page.locator("figcaption", has_text="correlation")).to_contain_text("1.00")
    page.get_by_role("button", name="Stop").click()
    assert params(page, "squeezebox", width)["width"] == 0
    assert params(page, "squeezebox", compressor)["colour"] == 0.4


def test_lab_measures_what_is_on_the_bench(page: Page, tmp_path: Path) -> None:
    open_demo(page, "shaker")
    empty(page, "shaker")
    add(page, "Shaker", "Clipper")
    type_into(page, "Drive", "18")
    page.keyboard.press("Shift+Digit2")  # setting B, from here on its own
    page.wait_for_function("saltAnvil.compare.chosen === 'B'")
    type_into(page, "Drive", "3")
    page.wait_for_function("saltAnvil.work.stage.params.drive_db === 3")
    page.get_by_role("button", name="Lab", exact=True).click()

    def reported(name: str) -> str:
        row = page.locator("dl div").filter(has=page.get_by_text(name, exact=True))
        return row.locator("dd").last.inner_text()

    expect(page.locator("dl")).to_contain_text("THD")
    page.get_by_role("radio", name="A", exact=True).click()
    expect(page.locator("dl")).to_contain_text("odd, A")
    softer, harder = (
        float(reported(f"odd, {s}").removesuffix(" dB").replace("−", "-")) for s in "BA"
    )
    assert harder > softer + 10
    page.get_by_role("radio", name="nothing").click()
    for title, words in [
        ("Sweep", "folded back, at most"),
        ("Steps", "gain when louder"),
        ("Curve", "gain at 0 dBFS"),
        ("Response", "latency"),
        ("Difference", "difference"),
        ("Hard cases", "jump, above 4 kHz"),
    ]:
        page.get_by_role("radio", name=title, exact=True).click()
        expect(page.locator("dl")).to_contain_text(words)
        assert page.locator(".plot svg").count() >= 1
    page.get_by_role("radio", name="Response", exact=True).click()
    page.get_by_role("radio", name="96", exact=True).click()
    expect(page.locator("section")).to_contain_text("96 kHz")
    page.get_by_role("radio", name="16 bit", exact=True).click()
    expect(page.locator("section")).to_contain_text("rounded to 16 bit")
    page.get_by_role("radio", name="float", exact=True).click()
    expect(page.locator("section")).not_to_contain_text("rounded")
    for words, name in (("save as CSV", "response.csv"), ("save as SVG", "response.svg")):
        with page.expect_download() as download:
            page.get_by_role("button", name=words).click()
        assert download.value.suggested_filename == name
        download.value.save_as(tmp_path / name)
    rows = list(csv.reader(io.StringIO((tmp_path / "response.csv").read_text())))
    assert ["rate", "96000", "Hz"] in rows
    ElementTree.parse(tmp_path / "response.svg")
    # The whole chain of another strip.
    page.get_by_role("combobox").first.select_option("lead-voice")
    whole = page.get_by_role("button", name="the whole chain")
    whole.click()
    expect(whole).to_have_attribute("aria-pressed", "true")
    expect(page.locator("dl")).to_contain_text("latency")
    page.get_by_role("button", name="Bench", exact=True).click()
