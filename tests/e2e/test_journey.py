"""What a tuner does, with real mouse and keyboard."""

import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from nembrit.demo.texts import JUNIPER_SETTINGS
from tests.e2e.conftest import drawn

PHONE = {"width": 390, "height": 844}


def craft_at(page: Page, name: str) -> None:
    page.goto("/")
    page.get_by_role("link", name=name, exact=True).click()
    page.wait_for_url("**/craft/*/")
    page.wait_for_load_state("networkidle")  # its keys work once its script has run


def new_craft(page: Page, name: str) -> None:
    """A craft with the demo's settings, and scales for its gains."""
    page.goto("/craft/new/")
    page.get_by_label("Name", exact=True).fill(name)
    page.get_by_label("Motors or control surfaces").select_option("hex")
    page.get_by_label("Propeller diameter, inches").fill("6")
    page.get_by_role("button", name="Add this craft").click()
    page.get_by_role("link", name="Save settings").click()
    page.get_by_label("Settings, one").fill(JUNIPER_SETTINGS)
    page.get_by_role("button", name="Check settings").click()
    page.get_by_role("button", name="Save these settings").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("r1 of " + name)


def test_from_the_demo_to_a_verdict_by_mouse(page: Page) -> None:
    craft_at(page, "Juniper")
    expect(page.get_by_role("heading", level=1)).to_contain_text("17 flights recorded")
    page.get_by_role("link", name="1", exact=True).click()
    drawn(page)
    expect(page.get_by_role("heading", level=1)).to_contain_text("probably loose")
    page.go_back()
    page.get_by_role("link", name="Tune", exact=True).click()
    expect(page.locator(".next-step")).to_contain_text("Locked in")
    page.get_by_role("link", name=re.compile("^Slip 2: smooth d hz 110")).click()
    drawn(page)
    expect(page.get_by_role("heading", level=1)).to_have_text(re.compile(r"Better: motor roughness fell by .* \(at least"))
    expect(page.get_by_role("img", name=re.compile("motor roughness. before: flight 5 .* after: flight 9"))).to_be_visible()
    expect(page.locator("#metrics details[open]").first).to_contain_text("motor roughness")
    expect(page.get_by_text("Motors only hand-warm after the same card.")).to_be_visible()
    page.go_back()
    page.get_by_role("link", name="Juniper").click()
    page.get_by_role("link", name="Report").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Juniper: First tune")
    expect(page.get_by_text(re.compile("Verified against the baseline: motion noise on roll")).first).to_be_visible()
    expect(page.locator(".report polyline")).to_have_count(12)


def test_own_log_from_drop_to_evidence(page: Page, logs: dict[str, Path]) -> None:
    new_craft(page, "Sorrel")
    page.get_by_role("link", name="Back to Sorrel").click()
    transfer = page.evaluate_handle(
        "([name, text]) => { const t = new DataTransfer(); t.items.add(new File([text], name)); return t; }",
        ["loose.csv", logs["loose"].read_text()],
    )
    page.locator(".drop").dispatch_event("drop", {"dataTransfer": transfer})
    expect(page.locator(".chosen")).to_have_text("loose.csv")
    page.get_by_role("button", name="Attach").click()
    page.get_by_role("link", name="1", exact=True).click(timeout=40_000)
    drawn(page)
    expect(page.get_by_role("heading", level=1)).to_contain_text("probably loose")


def test_wrong_files_and_the_same_file_twice(page: Page, logs: dict[str, Path]) -> None:
    new_craft(page, "Teasel")
    page.get_by_role("link", name="Back to Teasel").click()
    page.locator("#files").set_input_files([logs["picture"], logs["slip"]])
    page.get_by_role("button", name="Attach").click()
    expect(page.get_by_text("picture.csv was rejected.")).to_be_visible()
    expect(page.get_by_text("row 4, column 2 (gyro.roll): expected a number, found “oops”")).to_be_visible()
    page.locator("#files").set_input_files(logs["sound"])
    page.get_by_role("button", name="Attach").click()
    expect(page.get_by_role("link", name="1", exact=True)).to_be_visible(timeout=40_000)
    page.locator("#files").set_input_files(logs["sound"])
    page.get_by_role("button", name="Attach").click()
    expect(page.get_by_text("exists already")).to_be_visible()
    page.get_by_role("button", name="Dismiss").click()
    expect(page.get_by_text("slip.csv is dismissed.")).to_be_visible()


def test_simulator_slip_and_undo_by_keyboard_alone(page: Page) -> None:
    craft_at(page, "Bramble")
    page.keyboard.press("n")
    expect(page.get_by_role("heading", level=1)).to_have_text("Change: P with D, roll")  # what is advised
    page.get_by_label("Group").focus()
    page.keyboard.type("Gyro")
    page.wait_for_url("**group=gyro_filters**")
    page.get_by_label("smooth gyro hz").focus()
    page.keyboard.press("ControlOrMeta+a")
    page.keyboard.type("200")
    page.keyboard.press("Enter")
    # this craft's margins are low: the gate asks for a reason, and keeps what was typed
    expect(page.get_by_role("alert")).to_contain_text("allowed)")
    page.get_by_label("Reason to go beyond the limit").focus()
    page.keyboard.type("One short hover, close and low")
    page.keyboard.press("Enter")
    expect(page.get_by_text(re.compile(r"is written, r\d is saved"))).to_be_visible()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Not yet:")
    page.get_by_role("link", name="Fly in the simulator").focus()
    page.keyboard.press("Enter")
    page.get_by_label("Card").select_option("first_hover")
    page.get_by_label("Flights, one after another").press("Enter")
    expect(page.get_by_text("is flown")).to_be_visible(timeout=60_000)
    page.go_back()
    page.go_back()
    page.reload()
    page.get_by_role("button", name="Undo this change").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_text("is undone.")).to_be_visible()
    page.get_by_role("link", name="Bramble").click()
    expect(page.locator("main")).to_contain_text(re.compile(r"undo of slip \d"))


@pytest.mark.parametrize("viewport", [PHONE], ids=["phone"])
def test_the_loop_on_a_phone(page: Page, viewport: dict[str, int], logs: dict[str, Path]) -> None:
    page.set_viewport_size(viewport)
    new_craft(page, "Vetch")
    page.get_by_role("link", name="Back to Vetch").click()
    page.locator("#files").set_input_files([logs["sound"], logs["loose"]])
    page.get_by_role("button", name="Attach").click()
    expect(page.get_by_role("link", name="2", exact=True)).to_be_visible(timeout=60_000)
    page.get_by_role("link", name="2", exact=True).click()
    drawn(page)
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    page.get_by_role("link", name="Record another repair").click()
    page.get_by_label("Part").fill("Tray")
    page.get_by_label("Title").fill("New foam")
    page.get_by_role("button", name="Save slip").click()
    expect(page.get_by_text("Slip 1 is written")).to_be_visible()


def test_an_unknown_meaning_is_assumed_and_can_be_told(page: Page) -> None:
    new_craft(page, "Yarrow")
    page.get_by_role("link", name="Back to Yarrow").click()
    page.get_by_role("link", name="Fly in the simulator").click()
    page.get_by_role("button", name="Fly this card").click()
    expect(page.get_by_text("is flown")).to_be_visible(timeout=60_000)
    page.get_by_role("link", name="Name the settings").click()
    scales = {"p": "6e-5", "i": "2.5e-4", "d": "1.2e-6", "f": "1e-6"}
    for axis in ("roll", "pitch", "yaw"):
        for term, scale in scales.items():
            page.get_by_label(f"Scale of {term} on {axis}").fill(scale)
    page.get_by_role("button", name="Save names").click()
    expect(page.get_by_text("Setting names saved.")).to_be_visible()
    page.get_by_role("link", name="Yarrow").click()
    page.get_by_role("link", name="Fly in the simulator").click()
    page.get_by_role("button", name="Fly this card").click()
    expect(page.get_by_text("is flown")).to_be_visible(timeout=60_000)
