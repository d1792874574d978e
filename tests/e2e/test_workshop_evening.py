"""An evening at the bench: notes, archive, reference, leaving flights out, long work seen and stopped, pictures by touch."""

import re
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.e2e.conftest import drawn


def open_flight(page: Page, number: int = 9, craft: int = 1) -> None:
    page.goto(f"/craft/{craft}/flights/{number}/")
    drawn(page)


def test_notes_of_a_flight_are_kept_and_wrong_numbers_said(page: Page) -> None:
    open_flight(page)
    page.get_by_role("link", name="Edit notes").click()
    page.get_by_label("Wind, m/s").fill("99")
    page.get_by_label("Notes").fill("rough <b>tone</b> on the climb")
    page.get_by_role("button", name="Save notes").click()
    expect(page.get_by_text("goes from 0 to 40, got 99")).to_be_visible()
    expect(page.get_by_label("Notes")).to_have_value("rough <b>tone</b> on the climb")  # nothing typed is lost
    page.get_by_label("Wind, m/s").fill("3")
    page.get_by_label("Motors after landing").select_option("warm")
    page.get_by_role("button", name="Save notes").click()
    expect(page.get_by_text("Notes saved.")).to_be_visible()
    expect(page.locator("aside")).to_contain_text("rough <b>tone</b> on the climb")  # shown as text, never as markup
    expect(page.locator("aside")).to_contain_text("warm")


def test_an_archived_flight_leaves_the_list_and_comes_back(page: Page) -> None:
    open_flight(page, 1, craft=2)
    page.get_by_role("button", name="Archive this flight").click()
    expect(page.get_by_text("This flight is archived")).to_be_visible()
    page.goto("/craft/2/")
    expect(page.get_by_text("1 more is archived.")).to_be_visible()
    page.goto("/craft/2/flights/1/")
    page.get_by_role("button", name="Bring back").click()
    expect(page.get_by_text("is back.")).to_be_visible()


def test_differences_between_any_two_and_one_reference(page: Page) -> None:
    page.goto("/configurations/2/")
    expect(page.locator("#changes")).to_contain_text("smooth d hz")
    expect(page.locator("#changes")).to_contain_text(re.compile(r"×\s+0\.\d+"))
    page.get_by_role("button", name="Make it the reference").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("the reference")
    page.goto("/configurations/1/")
    page.get_by_role("button", name="Make it the reference").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("r1 of Juniper: the reference")


def test_choosing_another_configuration_shows_its_differences_at_once(page: Page) -> None:
    page.goto("/configurations/1/")
    page.get_by_label("compared with").select_option(index=0)
    page.wait_for_url(re.compile("against="))
    expect(page.get_by_role("heading", name="Differences")).to_be_visible()


@pytest.mark.parametrize(
    ("path", "label", "value", "message"),
    [
        ("/craft/1/simulator/", "Wind, m/s", "80", "less than or equal to 25"),
        ("/craft/1/simulator/", "Pack charge, %", "5", "greater than or equal to 10"),
        ("/craft/new/", "Cells", "77", "from 1 to 14, got 77"),
        ("/craft/1/configurations/new/", "Settings, one", "no equals sign", "line 1: expected “name = value”"),
        ("/craft/1/names/", "Scale of p on roll", "lots", "should be a number, not “lots”"),
    ],
)
def test_wrong_input_is_said_beside_the_field_and_kept(page: Page, path: str, label: str, value: str, message: str) -> None:
    page.goto(path)
    for form in page.locator("form").all():
        form.evaluate("form => { form.noValidate = true; }")
    if path == "/craft/new/":
        page.get_by_label("Name", exact=True).fill("Never kept")
    if "simulator" in path:
        page.get_by_text("Wind, pack and repeatability").click()
    field = page.get_by_label(label).first
    field.fill(value)
    field.evaluate("field => field.form.requestSubmit()")
    expect(page.locator("main")).to_contain_text(message)
    page.goto("/")
    expect(page.locator("main")).not_to_contain_text("Never kept")


def test_a_second_slip_waits_for_the_first(page: Page) -> None:
    page.goto("/craft/2/slips/new/?group=idle")
    page.get_by_label("motor floor %").fill("7")
    page.get_by_role("button", name="Save slip").click()
    page.wait_for_url(re.compile(r"/slips/\d+/$"))  # a visit begun before the answer would cut it off
    page.goto("/craft/2/slips/new/?group=i")
    expect(page.get_by_text("is still being flown")).to_be_visible()
    page.get_by_label("i on roll").fill("66")
    page.get_by_role("button", name="Save slip").click()
    expect(page.get_by_role("alert")).to_contain_text("is still open: decide it first")
    expect(page.get_by_label("i on roll")).to_have_value("66")
    page.get_by_role("link", name="Decide it first").click()
    page.get_by_label("Note").fill("idles well")
    page.get_by_role("button", name="Keep this change").dblclick()  # a double click decides once
    expect(page.get_by_text("is kept.")).to_be_visible()
    page.get_by_role("link", name="Tune", exact=True).click()
    expect(page.get_by_role("list").filter(has_text="idles well")).to_contain_text(re.compile(r"Slip \d kept"))


def test_long_work_is_seen_and_can_be_stopped_and_started_again(page: Page) -> None:
    page.goto("/craft/1/simulator/")
    page.get_by_label("Flights, one after another").fill("3")
    page.get_by_role("button", name="Fly this card").click()
    expect(page.get_by_role("progressbar").first).to_be_visible()
    page.get_by_role("button", name=re.compile("Cancel: Flying")).last.click()
    expect(page.get_by_text("Cancelled. Nothing was changed").first).to_be_visible()
    page.reload()  # progress survives it
    page.get_by_role("button", name="Start again").first.click()
    expect(page.get_by_text("is flown")).to_have_count(3, timeout=90_000)


def test_an_uploaded_log_survives_reloading_while_it_is_read(page: Page, logs: dict[str, Path]) -> None:
    page.goto("/craft/2/")
    n_flights = page.locator("tbody tr").count()
    page.locator("#files").set_input_files(logs["loose"])
    page.get_by_role("button", name="Attach").click()
    expect(page.locator(".job").first).to_be_visible()
    page.reload()
    expect(page.locator("tbody tr")).to_have_count(n_flights + 1, timeout=60_000)


def test_charts_are_read_by_touch(browser: Browser, demo: str) -> None:
    context = browser.new_context(base_url=demo, viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True)
    page = context.new_page()
    open_flight(page, 1)
    figure = page.locator("figure.chart").first
    figure.scroll_into_view_if_needed()
    figure.locator(".u-over").tap(position={"x": 120, "y": 60})
    expect(figure.locator(".readout")).to_have_text(re.compile(r"Hz · raw"))
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    context.close()
