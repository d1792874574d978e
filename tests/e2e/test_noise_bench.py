"""The noise bench by mouse, keyboard and touch: from a log to a finding, a repair, flights and a verdict."""

import re

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.e2e.conftest import drawn, offer, swapped, until


def map_drawn(page: Page) -> None:
    until(page, "document.documentElement.dataset.map === 'drawn'")


def simulated(page: Page, craft: int, condition: str, flights: int) -> None:
    page.goto(f"/craft/{craft}/simulator/")
    page.locator(f"input[name=condition][value={condition}]").check()
    page.get_by_label("Flights, one after another").fill(str(flights))
    page.get_by_role("button", name=re.compile("Fly")).click()
    expect(page.locator(".notification.is-success a")).to_have_count(flights, timeout=120_000)


@pytest.mark.long("its other cases ask the same", only=("chromium-phone",))
@pytest.mark.parametrize("size", [{"width": 1280, "height": 800}, {"width": 390, "height": 844}], ids=["desk", "phone"])
def test_from_a_log_to_a_finding_a_repair_and_what_its_flights_say(browser: Browser, demo: str, size: dict[str, int]) -> None:
    is_phone = size["width"] < 600
    context = browser.new_context(viewport=size, base_url=demo, has_touch=is_phone)
    page = context.new_page()
    press = (lambda target: target.tap()) if is_phone else (lambda target: target.click())
    craft = 2
    simulated(page, craft, "bent_propeller", 1)
    press(page.get_by_role("link", name=re.compile(r"[Ff]light \d+")).first)
    expect(page.get_by_role("heading", level=1)).to_contain_text("Motor 2 shakes", timeout=60_000)  # once it is analysed
    expect(page.locator("article.finding").first).to_contain_text("Fix this first")
    press(page.get_by_role("link", name="Motors & vibration"))
    expect(page.locator("table.motors mark")).to_have_count(1)
    expect(page.get_by_role("row", name=re.compile("motor 2")).locator("mark")).to_be_visible()
    press(page.get_by_role("link", name="Findings", exact=True))
    expect(page).to_have_url(re.compile(r"/flights/\d+/$"))
    # gains are held back while the propeller is bent
    page.goto(f"/craft/{craft}/slips/new/?group=pd.roll")
    expect(page.get_by_text("Mechanics first: flight")).to_be_visible()
    page.go_back()
    press(page.get_by_role("button", name="Record the new propeller on motor 2"))
    expect(page.get_by_text(re.compile(r"^Slip \d+, New propeller")).first).to_be_visible()
    slip = page.url
    simulated(page, craft, "as_built", 1)
    page.goto(slip)
    # one flight a side is no verdict, and the page says so; the demo's first slip shows one of four and four
    expect(page.get_by_role("heading", level=1)).to_have_text(
        re.compile("Not yet: . of 4 flown before, 1 of 4 after"), timeout=30_000
    )
    press(page.get_by_role("button", name=re.compile("^Keep")).first)
    expect(page.get_by_text("flights per side are flown")).to_be_visible()
    page.get_by_label("Note").fill("the old one was bent")
    press(page.get_by_role("button", name=re.compile("^Keep")).first)
    expect(page.get_by_text(re.compile("^Kept"))).to_be_visible()
    context.close()


def test_the_map_is_read_by_mouse_and_keys_and_leads_to_the_traces(page: Page) -> None:
    page.goto("/craft/1/flights/1/noise/")
    map_drawn(page)
    canvas, readout = page.locator(".noise-map canvas"), page.locator(".noise-map .readout")
    expect(canvas).to_have_attribute("aria-label", re.compile("Noise of gyro_raw.roll by frequency and throttle"))
    box = canvas.bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.3, box["y"] + box["height"] * 0.7)
    expect(readout).to_contain_text("Hz · throttle")
    canvas.focus()
    before = readout.text_content()
    page.keyboard.press("ArrowRight")
    expect(readout).not_to_have_text(before)
    offer(page.locator("main"), "Table")
    expect(page.get_by_role("region", name=re.compile("Values: noise map of gyro"))).to_be_visible()
    with swapped(page):
        page.get_by_label("time", exact=True).check()
    expect(page.get_by_label("time", exact=True)).to_be_focused()
    expect(page).to_have_url(re.compile("by=time"))
    map_drawn(page)
    canvas.focus()
    page.keyboard.press("ArrowRight")
    page.get_by_role("link", name=re.compile("in the traces")).click()
    expect(page).to_have_url(re.compile(r"/traces/\?from="))


def test_spectra_of_chosen_stretches_and_wrong_ranges(page: Page) -> None:
    page.goto("/craft/1/flights/1/noise/")
    page.get_by_label("Manoeuvres").select_option("hover")
    page.get_by_label("Compare with").select_option(index=1)
    with swapped(page):
        page.get_by_role("button", name="Show spectra").click()
    drawn(page)
    expect(page.get_by_role("row", name=re.compile("raw"))).to_have_count(2)
    page.get_by_label("Throttle from, %").fill("80")
    page.get_by_label("to, %", exact=True).fill("20")
    page.get_by_role("button", name="Show spectra").click()
    expect(page.get_by_role("alert")).to_contain_text("from a lower to a higher number")
    expect(page.get_by_label("Throttle from, %")).to_have_value("80")


def test_one_correction_of_a_meaning_takes_its_fellows_along(page: Page) -> None:
    page.goto("/logs/13/meanings/")
    page.get_by_label("Meaning of stick.roll").fill("command.roll")
    page.get_by_label("Meaning of stick.roll").press("Tab")
    expect(page.locator("#fellows")).to_contain_text("stick.pitch → command, pitch")
    expect(page.get_by_label("Meaning of stick.yaw")).to_have_value("command, yaw")
    page.get_by_label("Meaning of stick.roll").fill("sprocket")
    page.get_by_label("Meaning of stick.roll").press("Tab")
    expect(page.locator("#fellows")).to_contain_text("is not a known meaning")


def test_a_logarithmic_axis_tells_frequencies(page: Page) -> None:
    page.goto("/craft/1/flights/1/noise/?x=log&show=amplitude")
    drawn(page)
    figure = page.locator("figure.chart[data-src]").first
    figure.locator(".plot").focus()
    page.keyboard.press("Home")
    expect(figure.locator(".readout")).to_contain_text("Hz")
    offer(figure, "Table")
    cells = figure.locator(".table-view tbody tr td:first-child").all_inner_texts()
    assert float(cells[-1]) > 500  # frequencies, not their logarithms
    with page.expect_download() as told:
        offer(figure, "SVG")
    assert ">100</text>" in told.value.path().read_text()  # a decade on the axis


@pytest.mark.parametrize("size", [{"width": 1280, "height": 800}, {"width": 390, "height": 844}], ids=["desk", "phone"])
def test_how_near_the_edge_and_what_was_felt(browser: Browser, demo: str, size: dict[str, int]) -> None:
    context = browser.new_context(viewport=size, base_url=demo, has_touch=size["width"] < 600)
    page = context.new_page()
    page.goto("/craft/1/flights/6/")
    page.get_by_role("link", name="Response", exact=True).click()
    expect(page.get_by_role("heading", level=1)).to_contain_text(re.compile("margin|oscillation|under-damped"), timeout=30_000)
    expect(page.get_by_role("img", name=re.compile("margin"))).to_have_count(3)
    drawn(page)
    if size["width"] < 600:  # folded on a phone
        page.get_by_text("Curves", exact=True).click()
    with swapped(page):
        page.get_by_label("yaw", exact=True).check()
    expect(page).to_have_url(re.compile("axis=yaw"))
    expect(page.get_by_label("yaw", exact=True)).to_be_focused()
    page.get_by_text("What did you feel or hear?").click()
    page.get_by_label("it bounces back after a hard stop").check()
    page.get_by_label("shimmy when the throttle comes back after a float").check()
    with swapped(page):
        page.get_by_role("button", name="Compare with the log").click()
    expect(page.get_by_text("The log disagrees: the log does not show it")).to_be_visible()
    expect(page.get_by_text("Not in the log: no zero throttle in this flight")).to_be_visible()
    page.get_by_text("At low and high throttle").click()
    expect(page.get_by_text("A craft responds more strongly at high")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth") <= size["width"]
    context.close()


def test_motors_are_put_in_their_places(page: Page) -> None:
    page.goto("/craft/2/edit/")
    expect(page.get_by_role("img", name=re.compile("The frame from above: motor 1 front right, clockwise"))).to_be_visible()
    page.get_by_label("Front right", exact=True).select_option("2")
    page.get_by_role("button", name="Save the motors").click()
    expect(page.get_by_role("alert")).to_contain_text("Each motor from 1 to 4 sits at one place")
    page.get_by_label("Rear right", exact=True).select_option("1")
    page.get_by_role("button", name="Save the motors").click()
    expect(page.get_by_role("status")).to_contain_text("are saved; affected results are recomputed")
    page.goto("/craft/2/edit/")
    page.get_by_label("Front right", exact=True).select_option("1")
    page.get_by_label("Rear right", exact=True).select_option("2")
    page.get_by_role("button", name="Save the motors").click()
    expect(page.get_by_role("status")).to_contain_text("are saved")
