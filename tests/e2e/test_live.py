"""Live telemetry in a browser: the stand-in flies, values stand large, an alarm sounds, a marker is kept."""

import pytest
from playwright.sync_api import Browser, expect


@pytest.mark.parametrize("width", [1280, 390])
def test_the_stand_in_is_watched_marked_and_recorded(browser: Browser, demo: str, width: int) -> None:
    context = browser.new_context(viewport={"width": width, "height": 844}, base_url=demo)
    page = context.new_page()
    wrong: list[str] = []
    page.on("pageerror", lambda error: wrong.append(str(error)))
    craft = 2 if width == 1280 else 3
    page.goto(f"/craft/{craft}/live/")
    expect(page.get_by_role("heading", level=1)).to_contain_text("not recording")
    page.get_by_role("button", name="Start the stand-in").click()
    expect(page.locator("#live-age")).to_have_text("receiving", timeout=30_000)
    other = context.new_page()  # a second browser watches the same
    other.goto(f"/craft/{craft}/live/")
    page.get_by_role("button", name="Fly the card").click()
    expect(page.locator("[data-key=mode] b")).not_to_have_text("idle", timeout=60_000)
    expect(other.locator("[data-key=cell_v] b")).to_contain_text(".", timeout=10_000)
    page.get_by_role("button", name="look here").click()
    expect(page.locator("#live-marked")).to_have_text("Marked: look here")
    if width == 1280:
        alarm = page.locator("#live-alarms .notification")
        expect(alarm.first).to_contain_text("Cell voltage", timeout=30_000)
        expect(other.locator("#live-alarms .notification").first).to_contain_text("Cell voltage")
        alarm.first.get_by_role("button", name="Acknowledge").click()
        expect(alarm).to_have_count(0)
        expect(other.locator("#live-alarms .notification")).to_have_count(0)
    else:
        expect(page.locator("#live-map")).to_be_visible(timeout=15_000)
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    page.get_by_role("button", name="Stop recording").click()
    expect(page.get_by_text("marker: look here")).to_be_visible(timeout=15_000)
    page.goto(f"/craft/{craft}/link/")
    page.get_by_role("button", name="Read its settings").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("holds r")
    page.goto(f"/craft/{craft}/live/")
    page.get_by_role("button", name="Stop the stand-in").click()
    expect(page.get_by_role("button", name="Start the stand-in")).to_be_visible()
    assert not wrong
    context.close()
