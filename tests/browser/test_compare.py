"""Settings side by side and in a blind test, heard in the worklet's sound."""

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from salt_anvil.core.guessing import by_guessing
from tests.browser.sound import loudness, settled_loop, whole_loop
from tests.browser.test_job import open_demo
from tests.browser.test_routing import play_loop, type_into
from tests.conftest import sine

MEASURED = "saltAnvil.compare.letters.every((s) => saltAnvil.compare.row(s)?.plays_db != null)"


def crushed(page: Page, setting: str) -> None:
    """Make another setting of the selected compressor that is a good deal louder or quieter."""
    page.keyboard.press(f"Shift+Digit{'ABCD'.index(setting) + 1}")
    page.wait_for_function(f"saltAnvil.compare.chosen === '{setting}'")
    type_into(page, "Threshold", "-36")
    page.wait_for_function("saltAnvil.work.stage.params.threshold_db === -36")


def alone(page: Page) -> None:
    """Hear only this strip, so that what is heard is what its settings make of it."""
    solo = "{ type: 'set_strip', strip: 'lead-voice', field: 'solo', value: true }"
    page.evaluate(f"saltAnvil.work.edit({solo})")


def settings(page: Page) -> list[dict[str, Any]]:
    return list(page.evaluate("saltAnvil.work.state.model.settings"))


@pytest.mark.parametrize("mixed", [True, False])
def test_a_against_b_at_the_same_loudness(page: Page, mixed: bool) -> None:
    """Heard to within 0.2 LU, both inside the mix and alone; the difference is said in words."""
    open_demo(page, "lead-voice")
    alone(page)
    if not mixed:
        page.get_by_role("switch", name="in the mix").click()
    crushed(page, "B")
    page.keyboard.press("v")
    page.keyboard.press("g")
    play_loop(page, 31, 32)
    page.wait_for_function(MEASURED)
    heard = {}
    for setting in "BA":
        page.locator(f"[data-setting={setting}] th button").click()
        page.wait_for_function(f"saltAnvil.compare.chosen === '{setting}'")
        page.wait_for_function(MEASURED)
        heard[setting] = loudness(whole_loop(page))
    page.locator("tr", has_text="before the").locator("th button").click()
    heard["in"] = loudness(whole_loop(page))
    if mixed:
        # What the buses do to what is louder or quieter is part of the mix.
        assert abs(heard["A"] - heard["B"]) < 0.2
    else:
        assert max(heard.values()) - min(heard.values()) < 0.2
    expect(page.locator("[data-setting=B] .said")).to_contain_text(
        "threshold −36 dB instead of −15 dB"
    )
    expect(page.get_by_text("nothing is turned up")).to_be_visible()
    page.get_by_role("button", name="Stop").click()


def test_a_chain_is_copied_named_cleared_and_comes_back(page: Page) -> None:
    open_demo(page, "lead-voice")
    before = page.evaluate("JSON.stringify(saltAnvil.work.strip.chain)")
    page.keyboard.press("v")
    page.get_by_role("radiogroup", name="Settings of").get_by_role("radio", name="chain").click()
    page.locator("[data-setting=C]").get_by_role("button", name="copy A here").click()
    page.keyboard.press("Shift+Digit3")
    page.wait_for_function("saltAnvil.compare.chosen === 'C'")
    page.evaluate(
        "saltAnvil.work.edit({ type: 'add_stage', place: 'lead-voice', index: 0, kind: 'clipper' })"
    )
    page.get_by_role("button", name="no name, setting C").click()
    page.keyboard.type("clipped first")
    page.keyboard.press("Enter")
    expect(page.locator("[data-setting=C]")).to_contain_text("clipped first")
    expect(page.locator("[data-setting=C]")).to_contain_text("clipper first, drive 0 dB")
    page.keyboard.press("Shift+Digit1")
    page.wait_for_function("saltAnvil.compare.chosen === 'A'")
    assert page.evaluate("JSON.stringify(saltAnvil.work.strip.chain)") == before
    page.get_by_role("button", name="clear C").click()
    page.wait_for_function("saltAnvil.work.state.model.settings.length === 0")
    page.keyboard.press("Control+z")
    page.wait_for_function("saltAnvil.work.state.model.settings.length === 1")
    assert settings(page)[0]["names"] == {"C": "clipped first"}
    # What was copied over comes back by undo as well; Esc goes back to the stage.
    page.get_by_role("button", name="copy A over C").click()
    page.wait_for_function("saltAnvil.work.state.words.includes('copied')")
    page.keyboard.press("Control+z")
    page.wait_for_function(
        "saltAnvil.work.state.model.settings[0].held.C.chain[0].kind === 'clipper'"
    )
    page.keyboard.press("Escape")
    expect(page.get_by_role("heading", name="Compressor")).to_be_visible()


def test_a_blind_test_by_keyboard(page: Page) -> None:
    """All answers right: the score, how likely it is, kept; and nothing is given away before."""
    open_demo(page, "lead-voice")
    alone(page)
    crushed(page, "B")
    play_loop(page, 31, 32)
    page.keyboard.press("t")
    rounds = page.get_by_label("Rounds")
    rounds.fill("5")
    rounds.blur()
    page.wait_for_function("saltAnvil.blind.problem === null && saltAnvil.blind.table.length")
    page.get_by_role("button", name="Begin").click()
    expect(page.get_by_text("Round 1 of 5")).to_be_visible()
    # The waveform is what comes in, whatever stands.
    wave = page.get_by_label("Waveform in and out, and reduction")
    expect(wave).to_have_attribute("data-covered", "true")
    sounds = {}
    for letter in "PQX":
        page.keyboard.press(letter.lower())
        sounds[letter] = settled_loop(page)
    assert abs(loudness(sounds["P"]) - loudness(sounds["Q"])) < 0.1
    # Withheld: whatever is playing, the page shows no level of it, and its settings do not move.
    assert page.evaluate("Object.keys(saltAnvil.live.meters).length") == 0
    assert page.evaluate("saltAnvil.work.stage.params.threshold_db") == -36
    assert page.locator("tr.heard").count() == 0
    page.keyboard.press("Shift+Digit1")  # lent to the test
    for number in range(5):
        ear = {s: s for s in "PQ"}
        if number == 0:  # by ear: X is the one that sounds like it
            # A busy machine begins a turn as the last one ended: its first half is not compared.
            late = {s: np.split(sounds[s], 2)[1] for s in sounds}
            unlike = {s: np.square(late[s] - late["X"]).mean() for s in "PQ"}
            assert min(unlike.values()) < 0.03 * max(unlike.values()), unlike
            answer = min(unlike, key=lambda s: unlike[s])
        else:
            answer = page.evaluate("saltAnvil.blind.x === saltAnvil.blind.order[0] ? 'P' : 'Q'")
        page.keyboard.press(f"Shift+{ear[answer]}")
    score = page.get_by_label("Uncovered")
    expect(wave).to_have_attribute("data-covered", "false")
    expect(score).to_contain_text("5 of 5")
    expect(score).to_contain_text(f"{100 * by_guessing(5, 5):.1f} %")
    trial = page.evaluate("saltAnvil.work.state.model.trials[0]")
    assert (trial["rounds"], trial["right"], trial["chance"]) == (5, 5, 1 / 32)
    assert page.evaluate("saltAnvil.compare.chosen") == "B"
    # Begun again and left: nothing more is kept, and what stands is heard.
    page.get_by_role("button", name="Another").click()
    page.get_by_role("button", name="Begin").click()
    page.keyboard.press("Escape")
    expect(page.get_by_text("Stop the test?")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("button", name="Begin")).to_be_visible()
    assert page.evaluate("saltAnvil.work.state.model.trials.length") == 1
    page.get_by_role("button", name="back to the ledger").click()
    expect(page.get_by_role("complementary", name="Ledger")).to_be_visible()
    page.get_by_role("button", name="Stop", exact=True).click()


def test_the_best_of_three_is_picked_by_mouse(page: Page) -> None:
    open_demo(page, "lead-voice")
    crushed(page, "B")
    page.keyboard.press("t")
    page.get_by_role("radio", name="pick the better").click()
    page.get_by_role("group", name="What takes part").get_by_role("button", name="before").click()
    page.get_by_label("Rounds").fill("3")
    page.get_by_label("Rounds").blur()
    page.wait_for_function("saltAnvil.blind.problem === null")
    page.get_by_role("button", name="Begin").click()
    for number in range(2):
        expect(page.get_by_text(f"Round {number + 1} of 3")).to_be_visible()
        best = page.evaluate("'PQU'[saltAnvil.blind.order.indexOf('B')]")
        page.get_by_role("button", name=f"{best} is best").click()
    page.get_by_role("button", name="Uncover now").click()
    expect(page.get_by_label("Uncovered")).to_contain_text("B 2 of 2")
    expect(page.get_by_label("Uncovered")).to_contain_text("stopped early")
    trial = page.evaluate("saltAnvil.work.state.model.trials[0]")
    assert trial["chance"] == pytest.approx(1 / 9)


def test_a_revision_is_heard_at_the_loudness_of_what_stands(page: Page) -> None:
    open_demo(page, "lead-voice")
    alone(page)
    play_loop(page, 31, 32)
    then = settled_loop(page)
    gain = (
        "{ stage: 'main-compressor', params: { makeup_db: 9 }, type: 'set_params', whole: false }"
    )
    page.evaluate(f"saltAnvil.work.edit({gain})")
    page.get_by_title("Revisions of this session").click()
    dialog = page.get_by_role("dialog", name="Revisions")
    hear = dialog.get_by_role("button", name="Hear", exact=True).first
    hear.click()
    expect(hear).to_have_attribute("aria-pressed", "true")
    expect(dialog.get_by_text("at the same loudness: what stands is")).to_be_visible()
    heard = settled_loop(page)
    assert abs(loudness(heard) - loudness(then)) < 0.1
    dialog.get_by_role("button", name="Hear what stands").click()
    own = "20 * Math.log10(saltAnvil.live.own.gain.value)"
    page.wait_for_function(f"{own} < -3")
    dialog.get_by_role("button", name="Close").click()
    page.wait_for_function(f"Math.abs({own}) < 0.1")
    page.get_by_role("button", name="Stop", exact=True).click()


def test_a_reference_is_held_at_the_loudness_of_the_mix(page: Page, tmp_path: Path) -> None:
    """A sine of known loudness: what sounds of it is as loud as the mix, by its amplitude."""
    open_demo(page)
    path = tmp_path / "somebody else.wav"
    soundfile.write(path, sine(997, 5, level_db=-6), 48000, subtype="FLOAT")
    page.keyboard.press("v")
    page.keyboard.press("g")
    page.get_by_label("Recording to compare with").set_input_files(path)
    table = page.get_by_role("group", name="Reference")
    expect(table.get_by_role("row", name="reference")).to_contain_text("−6.0")
    play_loop(page, 31, 35)
    page.wait_for_function("saltAnvil.reference.gains !== null")
    page.evaluate("""() => {
      const { live } = saltAnvil;
      window.peak = (node) => {
        const meter = new AnalyserNode(live.context, { fftSize: 4096 });
        node.connect(meter);
        const data = new Float32Array(4096);
        return () => (meter.getFloatTimeDomainData(data), Math.max(...data.map(Math.abs)));
      };
      window.theirs = peak(live.other);
      window.ours = peak(live.own);
    }""")
    page.wait_for_function("ours() > 0.01 && theirs() === 0", polling=100)
    page.keyboard.down("r")
    wanted = page.evaluate("10 ** ((-6 + saltAnvil.reference.gains.reference) / 20)")
    assert page.evaluate("saltAnvil.reference.gains.mix") == 0
    page.wait_for_function(
        f"Math.abs(theirs() / {wanted} - 1) < 0.02 && ours() < 1e-3", polling=100
    )
    page.keyboard.up("r")
    page.wait_for_function("ours() > 0.01 && theirs() < 1e-4", polling=100)
    page.get_by_role("button", name="take it away").click()
    expect(table).to_contain_text("none yet")
    page.keyboard.press("Control+z")
    expect(table).to_contain_text("somebody else")
    page.get_by_role("button", name="Stop", exact=True).click()
