"""A blind comparison in the browser: asked, flown blind, rated before anything is known."""

import re

import pytest
from playwright.sync_api import Page, expect

from tests.e2e.test_journey import new_craft


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_a_blind_question_from_asking_to_the_first_rating(page: Page) -> None:
    new_craft(page, "Sedge")
    page.get_by_role("link", name="Name the settings").click()
    for axis in ("roll", "pitch", "yaw"):
        for term, scale in {"p": "6e-5", "i": "2.5e-4", "d": "1.2e-6", "f": "1e-6"}.items():
            page.get_by_label(f"Scale of {term} on {axis}").fill(scale)
    page.get_by_role("button", name="Save names").click()
    craft = re.search(r"/craft/(\d+)/", page.url)[1]
    page.goto(f"/craft/{craft}/configurations/new/")
    page.get_by_label("Settings, one").fill("d on roll = 24")
    page.get_by_role("button", name="Check settings").click()
    page.get_by_role("button", name="Save these settings").click()
    page.goto(f"/craft/{craft}/comparisons/new/")
    page.get_by_label("The question").fill("Does less D fly as well?")
    page.get_by_role("button", name="Lock the plan and start").click()
    expect(page.get_by_text("choose at least two variants")).to_be_visible()
    expect(page.get_by_label("The question")).to_have_value("Does less D fly as well?")
    for box in page.locator("input[name=configurations]").all():
        box.check()
    page.get_by_role("button", name="Lock the plan and start").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Does less D fly as well?")
    with page.expect_download() as loaded:
        page.get_by_role("link", name=re.compile("Load the file")).click()
    assert re.fullmatch(r"[A-Z0-9]{4}[.]txt", loaded.value.suggested_filename)
    page.get_by_role("button", name="Fly in the simulator").click()
    expect(page.get_by_text("before anything is known of it")).to_be_visible(timeout=60_000)
    expect(page.get_by_role("row", name=re.compile("^1"))).to_contain_text("flown")
    page.goto(f"/craft/{craft}/flights/1/")
    expect(page.get_by_role("heading", level=1)).to_have_text("Sealed")
    page.go_back()
    page.get_by_label("4", exact=True).check()
    page.get_by_role("button", name="Save rating").click()
    expect(page.get_by_text(re.compile("Flight 2 of 8: code"))).to_be_visible()
    page.goto("/")
    expect(page.locator("main")).to_contain_text("Continue “Does less D fly as well?”: 7 flights to go")
