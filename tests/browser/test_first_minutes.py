"""The first ten minutes with one's own song: sections, strips, typed values, a bus during play.

Nothing here knows how long anything takes: it waits for what the page shows.
"""

import re
from pathlib import Path

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Locator, Page, Route, expect

from tests.browser.sound import LIVE, QUANTUM, start_recording
from tests.browser.test_job import open_demo
from tests.conftest import noise, sine
from tests.files.test_files import with_cues

STORED = (
    "saltAnvil.work.state.model.strips.find((s) => s.id === 'lead-voice')"
    ".chain.find((e) => e.kind === 'compressor').params"
)


def model(page: Page) -> dict:
    return page.evaluate("JSON.parse(JSON.stringify(saltAnvil.work.model))")


def own_song(
    page: Page,
    folder: Path,
    names: tuple[str, ...],
    rate: int = 44100,
    sound: np.ndarray | None = None,
) -> None:
    files = []
    for index, name in enumerate(names):
        path = folder / f"{name}.wav"
        mine = noise(12 * rate, 2, seed=index) * 0.3 if sound is None else sound
        soundfile.write(path, mine, rate)
        files.append(path)
    page.locator("input[type=file]").first.set_input_files(files)
    page.wait_for_selector("[data-strip]")


def drag(page: Page, place: Locator, begin: float, end: float, y: float = 9) -> None:
    box = place.bounding_box()
    assert box
    page.mouse.move(box["x"] + begin * box["width"], box["y"] + y)
    page.mouse.down()
    page.mouse.move(box["x"] + (begin + end) / 2 * box["width"], box["y"] + y)
    page.mouse.move(box["x"] + end * box["width"], box["y"] + y)
    page.mouse.up()


def spans(page: Page) -> list[tuple[str, float, float | None]]:
    return [(s["name"], s["start_s"], s["end_s"]) for s in model(page)["sections"]]


def test_sections_are_made_named_moved_and_taken_away(page: Page, tmp_path: Path) -> None:
    own_song(page, tmp_path, ("one", "two"))
    row = page.get_by_role("group", name=re.compile("Sections of the song"))
    expect(row).to_contain_text("drag here to name a part of the song")
    # Without a tempo a section snaps to seconds.
    drag(page, row, 0.25, 0.5)
    name = page.get_by_label("Name of the section")
    expect(name).to_be_focused()
    name.fill("Verse")
    name.press("Enter")
    page.wait_for_function("saltAnvil.work.model.sections[0]?.name === 'Verse'")
    assert spans(page) == [("Verse", 3, 6)]
    # By keyboard: at the playhead, its end further on, then away with it; one undo step each.
    page.evaluate(f"{LIVE}.frame = 8 * 44100")
    page.keyboard.press("i")
    expect(name).to_be_focused()
    name.press("Escape")
    page.wait_for_function("saltAnvil.work.model.sections.length === 2")
    row = page.get_by_role("group", name=re.compile("section 1 of 2"))
    row.focus()
    for key in ("ArrowDown", "ArrowDown", "ArrowRight"):
        row.press(key)
    page.wait_for_function("saltAnvil.work.model.sections[0].end_s === 7")
    row.press("l")
    page.wait_for_function(f"{LIVE}.transport.loop?.[1] === 7 * 44100")
    row.press("Delete")
    page.wait_for_function("saltAnvil.work.model.sections.length === 1")
    page.keyboard.press("Control+z")
    page.wait_for_function("saltAnvil.work.model.sections.length === 2")
    # What works by section works here too: the ledger has a row for each.
    page.wait_for_function("saltAnvil.work.analysed.one === 1")
    offer = page.get_by_role("region", name="Begin with")
    offer.get_by_role("button", name="Compressor", exact=True).click()
    expect(page.locator("table.taken")).to_contain_text("Verse")


def test_the_analysis_may_be_told_before_the_revision_arrives(page: Page, tmp_path: Path) -> None:
    own_song(page, tmp_path, ("one",))
    whole = "saltAnvil.work.analysed.one === 1 && saltAnvil.work.analysed.main === 1"
    page.wait_for_function(whole)
    page.locator("[data-strip=one]").press("d")
    page.wait_for_function("saltAnvil.work.model.strips.length === 3")
    page.wait_for_function(whole)
    page.evaluate(
        "() => { window.told = {}; saltAnvil.live.onEvent((event) => {"
        " if (event.type === 'analysed' && event.done === event.frames)"
        " window.told[event.strip] = true; }); }"
    )

    def late(route: Route) -> None:
        answer = route.fetch()
        page.wait_for_function("told.one && told.main")
        route.fulfill(response=answer)

    page.route("**/undo", late)
    page.keyboard.press("Control+z")
    page.wait_for_function("saltAnvil.work.model.strips.length === 2")
    page.wait_for_function(whole)


def test_strips_are_renamed_moved_marked_doubled_and_taken_together(
    page: Page, tmp_path: Path
) -> None:
    own_song(page, tmp_path, ("one", "two", "three"))
    order = "saltAnvil.work.model.strips.map((s) => s.name).join()"
    page.wait_for_function(f"{order} === 'one,two,three,Main bus'")
    first = page.locator("[data-strip=one]")
    first.dblclick()
    field = page.get_by_label("Name of the strip")
    field.fill("Bell")
    field.press("Enter")
    page.wait_for_function(f"{order} === 'Bell,two,three,Main bus'")
    first.press("F2")
    expect(field).to_be_focused()
    field.press("Escape")
    first.press("Alt+ArrowDown")
    page.wait_for_function(f"{order} === 'two,Bell,three,Main bus'")
    box = page.locator("[data-strip=two]").bounding_box()
    assert box
    last = page.locator("[data-strip=three]").bounding_box()
    assert last
    page.mouse.move(last["x"] + 20, last["y"] + 10)
    page.mouse.down()
    page.mouse.move(box["x"] + 20, box["y"] + 14)
    page.mouse.move(box["x"] + 20, box["y"] + 10)
    page.mouse.up()
    page.wait_for_function(f"{order} === 'three,two,Bell,Main bus'")
    page.get_by_label("Mark of Bell").select_option("K")
    page.wait_for_function("saltAnvil.work.model.strips[2].mark === 'K'")
    page.locator("[data-strip=one]").press("d")
    page.wait_for_function(f"{order} === 'three,two,Bell,Bell 2,Main bus'")
    # Several at once: mute them together, in one step.
    page.locator("[data-strip=three]").click()
    page.locator("[data-strip=one]").click(modifiers=["Shift"])
    page.keyboard.press("m")
    muted = "saltAnvil.work.model.strips.filter((s) => s.mute).length"
    page.wait_for_function(f"{muted} === 3")
    page.keyboard.press("Control+z")
    page.wait_for_function(f"{muted} === 0")


def test_stages_travel_on_the_clipboard(page: Page) -> None:
    open_demo(page, "foot-stomps")
    chain = "saltAnvil.work.strip.chain"
    page.locator("[data-stage=foot-stomps-compressor] b").click()
    page.keyboard.press("Control+c")
    page.click("[data-strip=shaker]")
    count = page.evaluate(f"{chain}.length")
    page.keyboard.press("Control+v")
    page.wait_for_function(f"{chain}.length === {count + 1}")
    pasted = page.evaluate("JSON.parse(JSON.stringify(saltAnvil.work.stage))")
    assert pasted["kind"] == "compressor"
    assert pasted["params"]["attack_ms"] == 18
    page.keyboard.press("Control+x")
    page.wait_for_function(f"{chain}.length === {count}")
    page.evaluate("saltAnvil.work.undo()")
    page.wait_for_function(f"{chain}.length === {count + 1}")
    page.evaluate("saltAnvil.work.undo()")
    page.wait_for_function(f"{chain}.length === {count}")


def test_what_cannot_be_a_threshold_is_refused_in_words(page: Page) -> None:
    open_demo(page, "lead-voice")
    before = page.evaluate("saltAnvil.work.stage.params.threshold_db")
    rule = page.locator("[data-control=threshold_db]").first
    for text, words in (
        ("2k5", "−60 to 0 dB can be typed"), ("4:1", "not understood"),
        ("-200", "out of range; −60 to 0 dB is allowed"), ("abc", "not understood"),
    ):  # fmt: skip
        rule.focus()
        rule.press("Enter")
        field = page.get_by_label("Threshold, typed")
        field.fill(text)
        field.press("Enter")
        expect(page.get_by_role("alert")).to_contain_text(words)
        expect(field).to_be_focused()
        assert page.evaluate("saltAnvil.work.stage.params.threshold_db") == before
        field.fill("-21")
        field.press("Enter")
        page.wait_for_function(f"{STORED}.threshold_db === -21")
        page.keyboard.press("Control+z")
        page.wait_for_function(f"{STORED}.threshold_db === {before}")


def test_a_note_on_release_goes_to_the_tempo(page: Page) -> None:
    open_demo(page, "lead-voice")
    rule = page.locator("[data-control=release_ms]").first
    rule.focus()
    rule.press("Enter")
    page.get_by_label("Release, typed").fill("1/8.")
    page.get_by_label("Release, typed").press("Enter")
    page.wait_for_function(f"{STORED}.release_mode === 'tempo'")
    assert page.evaluate("saltAnvil.work.stage.params.release_note") == "1/8."
    page.keyboard.press("Control+z")


def test_digits_on_a_crossover_are_typed_and_change_no_view(page: Page) -> None:
    open_demo(page, "squeezebox")
    page.locator("[data-stage=squeezebox-mid-compressor] b").click()
    page.get_by_role("button", name="into bands").click()
    page.get_by_role("heading", name="3 bands").wait_for()
    corner = page.get_by_role("slider", name="Crossover 1", exact=True)
    corner.focus()
    corner.press("3")
    field = page.get_by_label("Crossover 1, typed")
    expect(field).to_have_value("3")
    field.fill("9k")
    field.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("out of range")
    field.fill("310")
    field.press("Enter")
    page.wait_for_function("saltAnvil.work.split?.crossovers_hz[0] === 310")
    expect(page.get_by_role("button", name="Bench")).to_have_attribute("aria-current", "true")
    for _ in range(2):
        page.evaluate("saltAnvil.work.undo()")


def test_a_bus_added_during_play_and_another_session(page: Page, tmp_path: Path) -> None:
    open_demo(page)
    page.get_by_role("button", name="Play").click()
    page.wait_for_function(f"{LIVE}.frame > 24000")
    page.get_by_role("button", name="Desk", exact=True).click()
    page.get_by_role("button", name="add a bus").click()
    page.wait_for_function("saltAnvil.work.model.strips.some((s) => s.name.startsWith('Bus'))")
    at = page.evaluate(f"{LIVE}.frame")
    page.wait_for_function(f"{LIVE}.frame > {at} + 96000")
    page.evaluate("saltAnvil.work.undo()")
    # Another session in the tab that has played: it is heard, from its own beginning.
    page.get_by_role("button", name="Sessions").click()
    page.get_by_label("Name of the new session").fill("Mine")
    page.get_by_role("button", name="Make it").click()
    page.wait_for_function("saltAnvil.work.model?.name === 'Mine'")
    page.get_by_role("button", name="Sessions").click()
    path = tmp_path / "take.wav"
    soundfile.write(path, noise(10 * 48000, 2) * 0.3, 48000)
    bad = tmp_path / "bad.wav"
    bad.write_bytes(b"nothing")
    page.locator("input[type=file]").first.set_input_files([path, bad])
    page.wait_for_selector("[data-strip=take]")
    expect(page.get_by_role("alert")).to_contain_text("bad.wav")
    # What is missed is counted anew for each session.
    assert page.evaluate(f"{LIVE}.missed") == 0
    page.get_by_role("button", name="Play").click()
    page.wait_for_function(f"{LIVE}.frame > 4800 && {LIVE}.frame < 48000 * 9")
    assert page.evaluate(f"{LIVE}.silent") is None
    page.get_by_role("button", name="Stop").click()


def test_what_was_refused_stands_when_somebody_else_changes_the_session(
    page: Page, tmp_path: Path
) -> None:
    bad = tmp_path / "bad.wav"
    bad.write_bytes(b"nothing")
    own_song(page, tmp_path, ("one",))
    page.get_by_role("button", name="Sessions").click()
    page.locator("input[type=file]").first.set_input_files([tmp_path / "one.wav", bad])
    refused = page.get_by_role("alert").filter(has_text="bad.wav")
    expect(refused).to_be_visible()
    page.wait_for_selector("[data-strip]")
    page.evaluate("""async () => {
        const {id, revision: base} = saltAnvil.work.state;
        await fetch(`/api/sessions/${id}/edits`, {
            method: 'POST', headers: {'Content-Type': 'application/json'},
            body: JSON.stringify({
                base, edits: [{type: 'set_strip', strip: 'one', field: 'trim_db', value: -3}],
            }),
        });
    }""")
    page.wait_for_function("saltAnvil.work.strip?.trim_db === -3")
    expect(refused).to_be_visible()
    page.evaluate("saltAnvil.work.undo()")
    expect(refused).to_be_hidden()


def test_the_time_ahead_is_shown_and_can_be_chosen(page: Page) -> None:
    open_demo(page)
    button = page.get_by_title("How far sound is computed ahead, and what was missed")
    button.click()
    card = page.get_by_role("dialog", name="Sound on its way")
    card.get_by_role("radio", name="320").click()
    page.wait_for_function(f"{LIVE}.ahead.chosen === 320")
    expect(card).to_contain_text("Now 320 ms")
    card.get_by_role("radio", name="as needed").click()
    page.wait_for_function(f"{LIVE}.ahead.chosen === null")
    page.mouse.click(300, 600)
    expect(card).to_be_hidden()


def test_a_change_takes_the_place_of_sound_that_is_ready(page: Page, tmp_path: Path) -> None:
    """It is taken back from the worklet: nothing jumps, and the change is heard whole."""
    rate, hz = 44100, 1000
    own_song(page, tmp_path, ("tone",), sound=sine(hz, 12, rate, level_db=-20, channels=1))
    page.click("[data-strip=tone]")
    page.evaluate(f"{LIVE}.send({{ type: 'set_ahead', ms: 640 }})")
    page.wait_for_function(f"{LIVE}.ahead.chosen === 640")
    page.evaluate(f"{LIVE}.send({{ type: 'loop', begin: 0, end: 10 * {rate} }})")
    page.get_by_role("button", name="Play").click()
    page.wait_for_function(f"{LIVE}.heard === {LIVE}.transport.epoch")
    page.evaluate(
        """() => {
          window.again = 0;
          saltAnvil.live.worker.addEventListener('message', (e) => {
            for (const r of e.data.reports ?? []) window.again += r.again > 0;
          });
        }"""
    )
    start_recording(page)
    turn = 0
    # A busy machine is late now and then, and does not go back then.
    while turn < 4 or not page.evaluate("window.again"):
        assert turn < 100
        trim = 0 if turn % 2 else -12
        edit = {"type": "set_strip", "strip": "tone", "field": "trim_db", "value": trim}
        page.evaluate("edit => saltAnvil.work.edit(edit)", edit)
        turn += 1
        some = page.evaluate("window.heard.length") + 300
        page.wait_for_function("some => window.heard.length > some", arg=some)
    frames = np.array(page.evaluate("window.heard.map((h) => h.frame)"))
    sound = np.array(page.evaluate("window.heard.map((h) => [...h.left])"))
    page.get_by_role("button", name="Stop", exact=True).click()
    runs = np.split(sound, np.flatnonzero(np.diff(frames) != QUANTUM) + 1)
    # What a sine of this frequency is not; a frame lost or heard twice is 0.007 of it here.
    turn_by = 2 * np.cos(2 * np.pi * hz / rate)
    for heard in (run.ravel()[rate // 20 :] for run in runs):
        if len(heard) > 2:
            assert np.abs(heard[2:] - turn_by * heard[1:-1] + heard[:-2]).max() < 0.001
    peaks = np.abs(sound).max(axis=1)
    assert peaks.max() == pytest.approx(4 * peaks[rate // 20 // QUANTUM :].min(), rel=0.02)


def test_a_deleted_session_goes_back_to_the_list(page: Page, tmp_path: Path) -> None:
    own_song(page, tmp_path, ("gone",))
    number = page.evaluate("saltAnvil.work.state.id")
    page.evaluate(f"fetch('/api/sessions/{number}', {{ method: 'DELETE' }})")
    expect(page.get_by_role("heading", name="Sessions")).to_be_visible()
    expect(page.get_by_role("alert")).to_contain_text("deleted")


OUT_OF_REACH = """() => {
  const scrolls = (e) => e && (/auto|scroll/.test(getComputedStyle(e).overflowX) ||
    scrolls(e.parentElement));
  return [...document.querySelectorAll('button, a, input, select, [tabindex]')]
    .filter((e) => e.checkVisibility() && !scrolls(e))
    .filter((e) => e.getBoundingClientRect().right > innerWidth + 1)
    .map((e) => `${e.tagName} ${e.textContent.trim().slice(0, 40)}`);
}"""


def test_at_1024_by_700_every_view_can_be_reached_whole_and_nothing_is_a_sliver(page: Page) -> None:
    page.set_viewport_size({"width": 1024, "height": 700})
    open_demo(page, "lead-voice")
    found = {}
    for key, name in zip("12345", ("Sessions", "Bench", "Desk", "Proof", "Lab"), strict=True):
        page.keyboard.press(key)
        page.locator("main").wait_for()
        tab = page.get_by_role("button", name=name, exact=True)
        expect(tab).to_have_attribute("aria-current", "true")
        wide = page.evaluate("document.documentElement.scrollWidth")
        found[name] = (wide, page.evaluate(OUT_OF_REACH))
    assert found == dict.fromkeys(found, (1024, []))
    page.keyboard.press("2")
    page.wait_for_selector("[data-strip]")
    for name, least in (("Play", 24), ("Boathouse", 64)):
        box = page.get_by_role("button", name=name).first.bounding_box()
        assert box
        assert box["width"] >= least, name
    # However much is said of what lies between the sound and the ear.
    page.evaluate(
        "Object.keys(saltAnvil.live.monitor.on).forEach((w) => saltAnvil.live.monitor.turn(w))"
    )
    expect(page.get_by_title("Between the sound and the ear")).to_be_visible()
    wide = page.evaluate(
        "[document.documentElement.scrollWidth, document.querySelector('header').scrollWidth]"
    )
    page.evaluate("saltAnvil.live.hearAll()")
    assert max(wide) <= 1024
    names = page.locator("[data-strip]").evaluate_all(
        "rows => rows.filter((r) => r.scrollWidth > r.clientWidth).map((r) => r.textContent)"
    )
    assert len(names) <= 1, names


def test_the_first_stages_are_offered_where_there_are_none(page: Page, tmp_path: Path) -> None:
    own_song(page, tmp_path, ("bare",))
    offer = page.get_by_role("region", name="Begin with")
    offer.get_by_role("button", name="Gate", exact=True).click()
    page.wait_for_function("saltAnvil.work.stage?.kind === 'gate'")
    page.evaluate("saltAnvil.work.undo()")
    point = offer.locator(".points button").first
    point.click()
    page.wait_for_function("saltAnvil.work.strip.chain.length === 1")
    assert np.isfinite(page.evaluate("saltAnvil.work.strip.chain.length"))


def test_cue_markers_are_offered_and_taken_when_asked(page: Page, tmp_path: Path) -> None:
    path = tmp_path / "marked.wav"
    soundfile.write(path, noise(10 * 48000, 1) * 0.2, 48000)
    with_cues(path, [(1, 0, "Verse"), (2, 5 * 48000, "Reel")])
    page.locator("input[type=file]").first.set_input_files([path])
    offer = page.get_by_role("status").filter(has_text="2 cue markers")
    expect(offer).to_be_visible()
    assert model(page)["sections"] == []
    offer.get_by_role("button", name="Take them as sections").click()
    page.wait_for_function("saltAnvil.work.model.sections.length === 2")
    assert spans(page) == [("Verse", 0, None), ("Reel", 5, None)]
    page.evaluate("saltAnvil.work.undo()")
    page.wait_for_function("saltAnvil.work.model.sections.length === 0")


def test_pictures_before_play_show_what_the_analysis_knows(page: Page) -> None:
    open_demo(page)
    for strip, stage, picture in (
        ("box-drum", "box-drum-peaks", "peaks behind the drive"),
        ("foot-stomps", "foot-stomps-boom", "whole song; up: added"),
        ("announcement", "announcement-gate", "not playing"),
    ):
        page.click(f"[data-strip={strip}]")
        page.locator(f"[data-stage={stage}] [data-focus]").click()
        expect(page.locator("main")).to_contain_text(picture)
        canvas = page.locator("section[aria-label] canvas, figure canvas, .field canvas").last
        page.wait_for_function(
            """(canvas) => {
              const { width, height } = canvas;
              const all = canvas.getContext('2d').getImageData(0, 0, width, height).data;
              let drawn = 0;
              for (let i = 3; i < all.length; i += 4) if (all[i] > 0) drawn += 1;
              return drawn > 500;
            }""",
            arg=canvas.element_handle(),
        )
