"""Filters and gains tried in the browser, and the slip that comes of it: by mouse, keys and touch."""

import re

import pytest
from playwright.sync_api import Browser, expect

from tests.e2e.conftest import drawn, swapped


@pytest.mark.long("its other cases ask the same", only=("chromium-desk",))
@pytest.mark.parametrize("size", [{"width": 1280, "height": 800}, {"width": 390, "height": 844}], ids=["desk", "phone"])
def test_a_chain_is_tried_and_gains_by_slider(browser: Browser, demo: str, size: dict[str, int]) -> None:
    context = browser.new_context(viewport=size, base_url=demo, has_touch=size["width"] < 600)
    page = context.new_page()
    title = page.get_by_role("heading", level=1)
    page.goto("/craft/1/flights/6/")
    page.get_by_role("link", name="Filters", exact=True).click()
    expect(title).to_contain_text("of lag at the crossover", timeout=30_000)
    expect(page.locator("#trade figure.chart canvas").first).to_be_visible()
    page.locator("#trade tr", has_text="least lag").get_by_role("link").click()
    expect(title).to_contain_text("less lag at the crossover than the current ones")
    cutoff = page.locator("input[name='d_term.hz']").first
    with swapped(page):
        cutoff.fill("95")
        cutoff.press("Tab")
    expect(page).to_have_url(re.compile("d_term.hz=95"))
    with swapped(page):
        cutoff.fill("viel")
        cutoff.press("Tab")
    expect(page.get_by_role("alert")).to_contain_text("should be a number")
    page.go_back()
    expect(page.locator("input[name='d_term.hz']").first).to_have_value("95")
    drawn(page)
    page.get_by_role("link", name="Gains", exact=True).click()
    expect(title).to_contain_text("Try other gains on roll")
    slider = page.get_by_label("P, from half to double")
    with swapped(page):
        slider.focus()
        for _ in range(6):
            page.keyboard.press("ArrowRight")
    expect(title).to_contain_text("faster")
    expect(page.get_by_label("P, from half to double")).to_be_focused()
    assert float(page.locator("#gain-p").input_value()) > 43
    expect(page.locator("#best table")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth") <= size["width"]
    page.get_by_role("link", name="Slip: P with D of roll").first.click()
    expect(title).to_have_text("Change: P with D, roll")
    assert re.search(r"p on roll 43 → \d+", page.locator("[name=title]").input_value())
    context.close()
