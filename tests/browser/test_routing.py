"""Splits, keys, blends, automation, Desk and levers, built by mouse and by keyboard."""

from typing import Any

import numpy as np
from playwright.sync_api import Locator, Page, expect

from tests.browser.sound import LIVE
from tests.browser.test_job import open_demo
from tests.server import Server


def strip_of(page: Page, strip: str) -> dict[str, Any]:
    """The strip as the server has it, once all that was done is stored."""
    return page.evaluate(
        f"""async () => {{
          await new Promise((done) => setTimeout(done, 300));
          for (let last; last !== saltAnvil.work.sending; ) await (last = saltAnvil.work.sending);
          const state = await (await fetch('/api/sessions/' + saltAnvil.work.state.id)).json();
          return state.model.strips.find((s) => s.id === '{strip}');
        }}"""
    )


SETTLED = "saltAnvil.work.settled()"
"""Until all that was done on the page is stored."""


def type_into(page: Page, name: str, text: str) -> None:
    """Type a value into a control, until it is stored: before that it is only in the hand."""
    control = page.get_by_role("slider", name=name, exact=True)
    control.focus()
    page.keyboard.type(text)
    page.keyboard.press("Enter")
    page.evaluate(SETTLED)


def wait_for_reduction(page: Page, stage: str, least_db: float) -> None:
    """Until a stage has reduced by so much during play."""
    page.wait_for_function(
        """([stage, least]) => new Promise((done) => {
          const stop = saltAnvil.live.onReports((batch) => {
            const told = batch.flatMap((b) => b.report.stages[stage]?.reduction ?? []);
            if (Math.max(...told) > least) { stop(); done(true); }
          });
        })""",
        arg=[stage, least_db],
    )


def out_loudness(page: Page, strip: str) -> float:
    """The loudness of a strip behind its chain over the song, once it is analysed."""
    return page.evaluate(
        f"""async () => {{
          const url = `/api/sessions/${{saltAnvil.work.state.id}}/strips/{strip}/ledger`;
          for (;;) {{
            const answer = await (await fetch(url)).json();
            if (answer.done === 1) return answer.ledger.after.integrated_lufs;
            await new Promise((done) => setTimeout(done, 300));
          }}
        }}"""
    )


def empty(page: Page, strip: str) -> None:
    """Take away what the demo has on a strip."""
    page.evaluate(
        """(id) => {
          const strip = saltAnvil.work.model.strips.find((s) => s.id === id);
          const all = strip.chain.map((e) => ({ type: 'remove_stage', stage: e.id }));
          return saltAnvil.work.edit(...all);
        }""",
        strip,
    )
    page.wait_for_function(
        "(id) => !saltAnvil.work.model.strips.find((s) => s.id === id).chain.length", arg=strip
    )


def block_on(page: Page, stave: str) -> Locator:
    """The compressor's block on a stave."""
    found = page.get_by_role("group", name=f"Stave of {stave}")
    return found.get_by_role("button", name="Compressor", exact=True)


def play_loop(page: Page, begin_s: float, end_s: float) -> None:
    page.evaluate(f"{LIVE}.send({{type: 'loop', begin: {begin_s} * 48000, end: {end_s} * 48000}})")
    page.get_by_role("button", name="Play").click()
    page.wait_for_function(f"{LIVE}.momentary > -60", polling=100)


def test_three_band_compressor_by_mouse(page: Page) -> None:
    open_demo(page, "shaker")
    empty(page, "shaker")
    page.get_by_label("Add at the end of Shaker").click()
    page.get_by_role("menuitem", name="3 bands").click()
    expect(page.get_by_role("heading", name="3 bands")).to_be_visible()
    row = page.locator(".rows tbody tr").first
    row.get_by_role("button", name="+ compressor").click()
    type_into(page, "Threshold of low", "-33")
    row.get_by_label("Copy the compressor").select_option("all")
    expect(page.get_by_role("slider", name="Threshold of high")).to_have_text("−33.0 dB")
    type_into(page, "Ratio of mid", "6")
    # To one other band alone; and a wall that a band never passes.
    row.get_by_label("Copy the compressor").select_option(label="high")
    type_into(page, "Wall of low", "-12")
    wall = "saltAnvil.work.strip.chain[0].branches[0].chain.at(-1)"
    page.wait_for_function(f"{wall}.kind === 'limiter' && {wall}.params.ceiling_db === -12")
    assert strip_of(page, "shaker")["chain"][0]["branches"][1]["chain"][0]["params"]["ratio"] == 6
    page.keyboard.press("Control+z")
    page.wait_for_function(f"{wall}.kind === 'compressor'")

    # Drag the lower crossover an octave up.
    expect(page.locator("path.response")).to_have_count(3)
    corner = page.get_by_role("slider", name="Crossover 1", exact=True)
    box = corner.locator("line").bounding_box()
    field = page.get_by_label("Spectrum and crossovers").bounding_box()
    assert box
    assert field
    octave = field["width"] / np.log2(1000)
    page.mouse.move(box["x"], box["y"] + 60)
    page.mouse.down()
    page.mouse.move(box["x"] + octave / 2, box["y"] + 60, steps=4)
    page.mouse.move(box["x"] + octave, box["y"] + 60, steps=4)
    page.mouse.up()
    page.wait_for_function("saltAnvil.work.split.crossovers_hz[0] > 300")
    split = strip_of(page, "shaker")["chain"][0]
    assert abs(split["crossovers_hz"][0] - 400) < 12
    ratios = [b["chain"][0]["params"]["ratio"] for b in split["branches"]]
    assert ratios == [4, 6, 4]

    # It can be heard and seen at work: the shaker is all high band.
    play_loop(page, 25, 30)
    top = split["branches"][2]["chain"][0]["id"]
    wait_for_reduction(page, top, 1)
    expect(page.locator("path.after")).to_be_visible()
    page.get_by_role("button", name="Solo high here").click()
    expect(page.get_by_text("Solo is on in a split: only high is heard.")).to_be_visible()
    page.get_by_role("button", name="take the split away").click()
    page.wait_for_function("saltAnvil.work.strip.chain.length === 3")
    assert [e["kind"] for e in strip_of(page, "shaker")["chain"]] == ["compressor"] * 3


def test_three_band_compressor_by_keyboard(page: Page) -> None:
    open_demo(page, "shaker")
    empty(page, "shaker")
    page.get_by_label("Add at the end of Shaker").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("menuitem").first).to_be_focused()
    while page.evaluate("document.activeElement.textContent") != "3 bands":
        page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(page.get_by_label("3 bands, opening bracket")).to_be_focused()
    for band in ("low", "mid", "high"):
        gap = page.get_by_label(f"Add at the end of {band}")
        gap.focus()
        page.keyboard.press("Enter")
        while page.evaluate("document.activeElement.textContent") != "Compressor":
            page.keyboard.press("ArrowDown")
        page.keyboard.press("Enter")
        block = block_on(page, band)
        expect(block).to_be_focused()
        type_into(page, "Threshold", "-30")
    split = strip_of(page, "shaker")["chain"][0]
    assert [b["chain"][0]["params"]["threshold_db"] for b in split["branches"]] == [-30] * 3

    # A stage walks from stave to stave, and the corner moves by arrow keys.
    block = block_on(page, "low")
    block.focus()
    page.keyboard.press("Alt+ArrowDown")
    expect(page.get_by_role("group", name="Stave of mid").locator("[data-stage]")).to_have_count(2)
    bracket = page.get_by_label("3 bands, opening bracket")
    bracket.focus()
    page.keyboard.press("Enter")
    corner = page.get_by_role("slider", name="Crossover 2", exact=True)
    corner.focus()
    for _ in range(12):
        page.keyboard.press("ArrowRight")
    page.wait_for_function("saltAnvil.work.state.words.includes('Hz')")
    page.wait_for_function("saltAnvil.work.split.crossovers_hz[1] > 3900")
    bracket.focus()
    page.keyboard.press("Enter")
    expect(bracket).to_have_attribute("aria-expanded", "false")
    page.keyboard.press("Enter")
    page.keyboard.press("Delete")
    page.wait_for_function("saltAnvil.work.strip.chain.length === 0")


def test_parallel_crushed_drums_automated_per_section(page: Page) -> None:
    open_demo(page, "foot-stomps")
    for name, value in (("Threshold", "-38"), ("Ratio", "12"), ("Attack", "0.4ms")):
        type_into(page, name, value)
    page.get_by_role("button", name="blend this").click()
    expect(page.get_by_role("heading", name="Blend")).to_be_visible()
    expect(page.get_by_text("matched by")).to_be_visible()
    # About as loud wherever the blend stands; a song with quiet parts is no steady material, on
    # which the engine's own test holds it within 0.3 LU.
    found = []
    for position in ("10", "90"):
        type_into(page, "Join position", position)
        page.wait_for_function(f"saltAnvil.work.state.words.endsWith('0.{position[0]}')")
        found.append(out_loudness(page, "foot-stomps"))
    assert abs(found[0] - found[1]) < 1

    type_into(page, "Join position", "35")
    page.get_by_label("Automation of Join position").click()
    type_into(page, "Join position in Reel", "0.8")
    page.wait_for_function("saltAnvil.work.state.model.automation.length === 2")
    expect(page.get_by_role("slider", name="Join position in Reel")).to_have_text("80 %")
    expect(page.get_by_role("slider", name="Join position in Verse")).to_have_text("35 %")
    # The stage keeps its own setting; the hand moves the point in force.
    session = page.evaluate("saltAnvil.work.state.model")
    lane = next(a for a in session["automation"] if "foot-stomps" in a["owner"])
    assert [p["shape"] for p in lane["points"]][1] == "stepped"
    editor = page.get_by_label("Automation of Join position: click")
    box = editor.bounding_box()
    assert box
    page.mouse.click(box["x"] + 0.3 * box["width"], box["y"] + 40)
    page.wait_for_function(
        f"saltAnvil.work.pointsOf({{owner: '{lane['owner']}', control: 'position'}}).length"
        f" === {len(lane['points']) + 1}"
    )
    page.keyboard.press("s")
    expect(page.locator(".head").get_by_role("button", name="curved")).to_be_visible()
    page.keyboard.press("Delete")
    page.get_by_label("Close the automation").click()


def test_a_control_moved_during_play_is_written(page: Page) -> None:
    open_demo(page, "foot-stomps")
    page.get_by_label("Automation of Make-up").click()
    page.get_by_role("button", name="write").click()
    play_loop(page, 25, 35)
    rule = page.get_by_role("slider", name="Make-up", exact=True)
    box = rule.bounding_box()
    assert box
    y = box["y"] + box["height"] / 2
    page.mouse.move(box["x"] + box["width"] * 0.5, y)
    page.mouse.down()
    for step in range(12):
        page.mouse.move(box["x"] + box["width"] * (0.5 + 0.02 * step), y)
        frame = page.evaluate(f"{LIVE}.frame")
        page.wait_for_function(f"frame => {LIVE}.frame > frame + 2048", arg=frame)
    page.mouse.up()
    page.wait_for_function("saltAnvil.work.state.model.automation.length === 2")
    lane = page.evaluate(
        "saltAnvil.work.pointsOf({owner: 'foot-stomps-compressor', control: 'makeup_db'})"
    )
    times = [p["at_s"] for p in lane]
    assert len(lane) > 5
    assert times == sorted(times)
    assert 24.9 < times[0] < 35
    assert max(p["value"] for p in lane) > 5
    assert strip_of(page, "foot-stomps")["chain"][0]["params"]["makeup_db"] == 3
    page.get_by_role("button", name="Stop").click()


def test_one_strip_ducks_under_another(page: Page) -> None:
    open_demo(page, "squeezebox")
    page.get_by_label("Add at the end of Squeezebox").click()
    page.get_by_role("menuitem", name="Compressor").click()
    page.wait_for_function("saltAnvil.work.stageId === 'squeezebox-compressor'")
    key = page.get_by_label("Key", exact=True)
    key.select_option(label="Lead voice")
    page.wait_for_function("saltAnvil.work.stage.key.source !== 'own'")
    # What is refused does not go on standing there.
    key.select_option("stage:squeezebox-compressor")
    expect(page.get_by_role("alert")).to_contain_text("the keys form a loop")
    expect(key).to_have_value("strip:lead-voice")
    type_into(page, "Threshold", "-40")
    expect(page.locator(".key", has_text="key: Lead voice").first).to_be_visible()
    stage = page.evaluate("saltAnvil.work.stageId")
    play_loop(page, 11, 24)
    wait_for_reduction(page, stage, 3)
    page.keyboard.down("k")
    page.wait_for_function("saltAnvil.work.at.startsWith('key:')")
    page.keyboard.up("k")
    page.wait_for_function("!saltAnvil.work.at.startsWith('key:')")
    page.keyboard.press("3")
    expect(
        page.get_by_role("button", name="Lead voice keys the compressor of Squeezebox")
    ).to_be_visible()
    # The other way round would be a loop, like all that hangs on the voice: it cannot be chosen.
    page.keyboard.press("2")
    page.click("[data-strip=lead-voice]")
    barred = page.get_by_label("Key", exact=True).locator("optgroup:disabled")
    named = barred.evaluate_all("groups => groups.map((g) => g.label)")
    assert named == ["Squeezebox", "Voice room", "Strings bus", "Voices bus", "Main bus"]
    # One channel has neither a middle nor sides.
    expect(page.get_by_role("button", name="mid and sides")).to_be_disabled()


def test_stages_are_dragged_onto_staves(page: Page) -> None:
    open_demo(page, "box-drum")
    page.wait_for_selector("[data-stave=box-drum-dry]")
    block = page.locator("[data-stage=box-drum-compressor] [data-focus]")
    gap = page.get_by_label("Add at the end of dry")
    a, b = block.bounding_box(), gap.bounding_box()
    assert a
    assert b
    page.mouse.move(a["x"] + 90, a["y"] + 40)
    page.mouse.down()
    page.mouse.move(a["x"] + 140, a["y"] + 30, steps=5)
    page.mouse.move(b["x"] + b["width"] / 2, b["y"] + b["height"] / 2, steps=5)
    page.mouse.up()
    page.wait_for_function("saltAnvil.work.strip.chain.length === 2")
    split = strip_of(page, "box-drum")["chain"][1]
    assert [e["id"] for e in split["branches"][0]["chain"]] == ["box-drum-compressor"]


def test_desk_adds_buses_and_sends(page: Page) -> None:
    open_demo(page)
    page.keyboard.press("3")
    page.get_by_role("button", name="add a bus").click()
    expect(page.locator("[data-row=bus-5]")).to_be_visible()
    # Esc takes back what is typed into a name.
    page.locator("[data-row=fiddle] .title").click()
    name = page.get_by_label("Name of the selected strip")
    name.fill("Nobody")
    name.press("Escape")
    expect(name).to_have_value("Fiddle")
    expect(name).not_to_be_focused()
    looping = page.get_by_label("Output of Percussion bus").locator("option:disabled")
    expect(looping).to_have_text(["Stomp press"])
    looping = page.get_by_label("Add a send from Percussion bus").locator("option:disabled")
    expect(looping).to_have_text(["Stomp press"])
    page.get_by_label("Add a send from Fiddle").select_option(label="Bus 5")
    type_into(page, "Send of Fiddle to Bus 5", "-12")
    page.get_by_label("Output of Shaker").select_option(label="Bus 5")
    # The row moves to its new bus, which takes the focus away from it.
    page.wait_for_function("saltAnvil.work.state.words.includes('Shaker to')")
    row = page.locator("[data-row=shaker]")
    fader = row.get_by_role("slider", name="Fader")
    fader.focus()
    page.keyboard.type("-14")
    page.keyboard.press("Enter")
    row.get_by_role("button", name="Solo Shaker").click()
    expect(page.get_by_text("Solo is on: Shaker")).to_be_visible()
    page.get_by_label("Branches of Box drum").click()
    expect(page.locator(".line", has_text="crushed")).to_be_visible()
    fiddle = strip_of(page, "fiddle")
    assert (fiddle["name"], fiddle["sends"][0]["gain_db"]) == ("Fiddle", -12)
    shaker = strip_of(page, "shaker")
    assert (shaker["output"], shaker["fader_db"], shaker["solo"]) == ("bus-5", -14, True)


def test_a_lever_is_moved_from_the_surface(page: Page, demo_server: Server) -> None:
    open_demo(page)
    page.keyboard.press("3")
    lever = page.get_by_role("slider", name="Lift")
    expect(lever).to_have_attribute("aria-valuenow", "0.4")
    surface = page.context.new_page()
    surface.goto(f"{demo_server.url}#surface")
    fader = surface.get_by_role("slider", name="Fader 1")
    expect(fader).to_be_enabled()
    box = fader.bounding_box()
    assert box
    surface.mouse.move(box["x"] + box["width"] / 2, box["y"] + 0.6 * box["height"])
    surface.mouse.down()
    surface.mouse.move(box["x"] + box["width"] / 2, box["y"] + 0.3 * box["height"], steps=6)
    page.wait_for_function("saltAnvil.work.model.levers[0].value > 0.55")
    assert page.evaluate("saltAnvil.work.state.model.levers[0].value") == 0.4
    surface.mouse.up()
    page.wait_for_function("saltAnvil.work.state.model.levers[0].value > 0.55")
    surface.get_by_role("button", name="Button 1").click()
    page.wait_for_function("saltAnvil.work.state.model.levers[0].value === 0")
    surface.close()


def test_a_gate_says_what_it_does_and_is_set_in_its_picture(page: Page) -> None:
    open_demo(page, "announcement")
    expect(page.get_by_role("heading", name="Gate")).to_be_visible()
    canvas = page.get_by_label("Level that the gate hears")
    box = canvas.bounding_box()
    assert box
    # The upper line stands at the threshold; dragged down, both go with it.
    y = box["y"] + 24 / 84 * (box["height"] - 34)
    page.mouse.move(box["x"] + 200, y)
    page.mouse.down()
    page.mouse.move(box["x"] + 200, y + 6, steps=3)
    page.mouse.up()
    page.wait_for_function("saltAnvil.work.state.words.includes('threshold')")
    gate = next(e for e in strip_of(page, "announcement")["chain"] if e["kind"] == "gate")
    assert gate["params"]["threshold_db"] < -25
    page.get_by_role("button", name="Play").click()
    expect(page.get_by_role("status").filter(has_text="open")).to_be_visible()
    expect(page.locator("[data-openings]")).not_to_have_attribute("data-openings", "0")
    page.get_by_role("button", name="Stop").click()


def test_several_stages_are_blended_together(page: Page) -> None:
    open_demo(page, "lead-voice")
    page.locator("[data-stage=lead-voice-trim] b").click()
    page.locator("[data-stage=lead-voice-compressor] b").click(modifiers=["Shift"])
    page.get_by_role("button", name="blend these 2").click()
    expect(page.get_by_role("heading", name="Blend")).to_be_visible()
    split = strip_of(page, "lead-voice")["chain"][0]
    inside = [[e["id"] for e in b["chain"]] for b in split["branches"]]
    assert inside == [[], ["lead-voice-trim", "lead-voice-compressor"]]


def test_a_bus_blends_two_tracks_and_its_position_is_automated(page: Page) -> None:
    open_demo(page)
    page.keyboard.press("3")
    page.get_by_role("button", name="add a bus").click()
    expect(page.locator("[data-row=bus-5]")).to_be_visible()
    for name in ("Fiddle", "Squeezebox"):
        page.get_by_label(f"Output of {name}").select_option(label="Bus 5")
        page.wait_for_function(f"saltAnvil.work.state.words.includes('{name} to')")
    page.locator("[data-row=bus-5]").get_by_role("button", name="Bus 5", exact=True).click()
    page.get_by_label("Join of Bus 5").select_option("steady")
    position = page.get_by_role("slider", name="Join position of Bus 5")
    expect(position).to_have_text("50 %")
    type_into(page, "Join position of Bus 5", "0.25")
    page.get_by_label("Automation of Join position of Bus 5").click()
    type_into(page, "Join position in Reel", "0.8")
    page.wait_for_function(
        "saltAnvil.work.pointsOf({owner: 'bus-5', control: 'position'})?.length > 2"
    )
    expect(page.get_by_role("slider", name="Join position in Verse")).to_have_text("25 %")
    # A third input: refused, with the reason, and nothing changed.
    page.keyboard.press("3")
    page.get_by_label("Output of Low fiddle").select_option(label="Bus 5")
    expect(page.get_by_role("alert")).to_contain_text("exactly 2 inputs")


def test_sends_pans_and_branch_gains_have_lanes(page: Page) -> None:
    open_demo(page)
    page.keyboard.press("3")
    page.get_by_label("Automation of Send of Foot stomps to Stomp press").click()
    # Before anything moves, every section shows where the send stands.
    expect(page.get_by_role("slider", name="Send in Verse")).to_have_text("−3.0 dB")
    type_into(page, "Send in Reel", "-12")
    page.wait_for_function(
        "saltAnvil.work.pointsOf({owner: 'foot-stomps', control: 'send:stomp-press'})"
    )
    expect(page.get_by_role("slider", name="Send in Reel", exact=True)).to_have_text("−12.0 dB")
    page.get_by_label("Automation of Pan").click()
    expect(page.get_by_role("slider", name="Pan in Verse")).to_have_text("R 5")


def test_a_midi_controller_moves_a_lever(page: Page, demo_server: Server) -> None:
    """With a stand-in for the browser's MIDI, which headless Chromium has no device for."""
    open_demo(page)
    surface = page.context.new_page()
    surface.add_init_script(
        """
        const input = { onmidimessage: null };
        navigator.requestMIDIAccess = async () => ({ inputs: new Map([['one', input]]) });
        window.turn = (data) => input.onmidimessage({ data: new Uint8Array(data) });
        """
    )
    surface.goto(f"{demo_server.url}#surface")
    expect(surface.get_by_role("slider", name="Fader 1")).to_be_enabled()
    surface.get_by_role("button", name="use a MIDI device").click()
    expect(surface.get_by_text("1 MIDI input")).to_be_visible()
    surface.evaluate("turn([0x90, 60, 100])")  # a note is no controller
    surface.evaluate("turn([0xb0, 7, 127])")
    page.wait_for_function("saltAnvil.work.state.model.levers[0].value === 1")
    surface.evaluate("turn([0xb3, 11, 0])")
    page.wait_for_function("saltAnvil.work.state.model.levers[1].value === 0")
    surface.close()
