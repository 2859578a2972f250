"""A press of the mouse counts where it began: the page may move under it, the hand may not."""

from playwright.sync_api import Page, expect

from tests.browser.test_job import open_demo

PUSH = """() => {
    const above = document.createElement('div');
    above.style.height = '90px';
    document.body.prepend(above);
}"""


UNDER = "y => document.elementFromPoint(...y)?.closest('button')?.textContent"


def over_the_button(page: Page) -> list[float]:
    """Go to the middle of the button, when all that would move it has come."""
    expect(page.get_by_text("Nothing was printed yet.")).to_be_visible()
    expect(page.get_by_label("Target").get_by_role("option")).not_to_have_count(0)
    while True:
        box = page.get_by_role("button", name="Print…").bounding_box()
        assert box
        middle = [box["x"] + box["width"] / 2, box["y"] + box["height"] / 2]
        page.mouse.move(*middle)
        if page.evaluate(UNDER, middle) == "Print…":
            return middle


def test_a_press_counts_where_it_began(page: Page) -> None:
    open_demo(page)
    page.keyboard.press("4")
    middle = over_the_button(page)
    sheet = page.get_by_role("dialog", name="Print")
    # Drawn away, it was not meant.
    page.mouse.down()
    page.mouse.move(middle[0] - 200, middle[1] - 60, steps=3)
    page.mouse.up()
    expect(sheet).not_to_be_visible()
    # The page moves, the hand does not.
    middle = over_the_button(page)
    page.mouse.down()
    page.evaluate(PUSH)
    page.wait_for_function(f"y => ({UNDER})(y) !== 'Print…'", arg=middle)
    page.mouse.up()
    expect(sheet).to_be_visible()
