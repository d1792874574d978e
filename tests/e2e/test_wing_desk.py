"""The wing desk by mouse and keyboard: map and traces together, an obstacle set on the map, the plane as the log moves it."""

import re

from playwright.sync_api import Page, expect

from tests.e2e.conftest import swapped

RETURN = "/craft/3/flights/9/return/"


def test_one_cursor_for_traces_and_map(page: Page, clean_page: list[str]) -> None:
    page.goto("/craft/3/flights/8/path/")
    expect(page.locator("#path-map[data-drawn]")).to_be_visible()
    told = page.locator("#path-map .facts-line")
    expect(told).to_contain_text("Wind")
    page.locator("figure[data-trace] .u-over").first.hover(position={"x": 300, "y": 40})
    expect(told).to_contain_text(re.compile(r"s · .* from home · (track|hold)"))
    figure = page.get_by_role("group", name=re.compile("^Bank"))
    figure.focus()
    before = told.text_content()
    for _ in range(5):
        page.keyboard.press("ArrowRight")
    expect(told).not_to_have_text(before or "")
    assert clean_page == []


def marked(page: Page, name: str, height: str) -> None:
    page.get_by_label("What it is").fill(name)
    page.get_by_label("Its top above the ground").fill(height)
    with swapped(page):
        page.get_by_role("button", name="Mark obstacle").click()
    expect(page.get_by_text(f"Marked: {name}, {height} m.")).to_be_visible()


def test_a_return_is_judged_by_what_is_set_on_its_map(page: Page, clean_page: list[str]) -> None:
    page.goto(RETURN)
    expect(page.get_by_role("heading", level=1)).to_contain_text("Passed: all")
    canvas = page.locator("#path-map[data-drawn] canvas")
    box = canvas.bounding_box()
    assert box is not None
    home = page.evaluate("async () => (await (await fetch(document.querySelector('#path-map').dataset.src)).json()).home")
    canvas.click(position={"x": box["width"] / 2, "y": box["height"] / 2})
    expect(page.get_by_label("Places")).to_have_value(re.compile(r"^51\.50\d+, -1\.\d+$"))
    marked(page, "far mast", "10")
    page.get_by_text("Mark an obstacle", exact=True).click()
    # by keys: a mast at home itself, which the plane circles around and comes over
    page.get_by_label("It is", exact=True).select_option("LineString")
    page.locator("#path-map[data-drawn] canvas").focus()
    for key in ("ArrowUp", "ArrowDown"):
        page.keyboard.press(key)
    for _ in range(3):
        page.keyboard.press("Shift+ArrowLeft")
    page.keyboard.press("Enter")
    for _ in range(6):
        page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("Enter")
    lines = page.get_by_label("Places").input_value().splitlines()
    assert [round(float(line.split(",")[0]), 4) for line in lines] == [round(home["latitude"], 4)] * 2
    marked(page, "wires", "75")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Failed: ")
    expect(page.get_by_role("row", name=re.compile("wires.*75")).first).to_be_visible()
    page.get_by_role("link", name="All obstacles and files").click()
    for name in ("wires", "far mast"):
        page.get_by_role("button", name=f"Remove: {name}", exact=True).click()
        expect(page.get_by_text(f"“{name}” is no longer marked.")).to_be_visible()
    assert clean_page == []


def test_the_plane_moves_with_the_log(page: Page, clean_page: list[str]) -> None:
    page.goto("/craft/3/flights/3/wing/")
    expect(page.locator("#plane[data-drawn]")).to_be_visible()
    told = page.locator("#plane-told")
    slider = page.get_by_label("Time")
    slider.focus()
    before = told.text_content()
    page.keyboard.press("End")
    expect(told).not_to_have_text(before or "")
    page.keyboard.press("Home")
    page.get_by_role("button", name="Play").click()
    expect(page.get_by_role("button", name="Stop")).to_be_visible()
    expect(told).not_to_have_text(before or "")
    page.get_by_role("button", name="Stop").click()
    assert clean_page == []
