"""The field on a phone: a flight from go to landing, with the workshop out of reach and the page loaded anew in between."""

import re

from playwright.sync_api import Browser, Page, expect


def test_a_flight_at_the_field_loses_nothing(browser: Browser, demo: str) -> None:
    context = browser.new_context(viewport={"width": 390, "height": 844}, base_url=demo, has_touch=True, is_mobile=True)
    page = context.new_page()
    page.goto("/craft/2/field/")
    page.get_by_role("button", name="Go", exact=True).tap()
    expect(page.get_by_role("alert")).to_contain_text("no go: Packs full")
    for box in page.get_by_role("checkbox").all():
        box.check()
    page.get_by_role("button", name="Go", exact=True).tap()
    expect(page.get_by_role("heading", level=1)).to_have_text("Stop when")
    for button in page.locator(".tap:visible").all():
        assert button.bounding_box()["height"] >= 48
    context.set_offline(True)
    page.get_by_role("button", name="Take off").tap()
    expect(page.locator("#left")).to_contain_text("s left")
    page.get_by_role("button", name="buzz").tap()
    page.get_by_role("button", name="Next").tap()
    expect(page.locator("#unsent")).to_have_text("3 on this phone only")
    context.set_offline(False)
    page.reload()
    expect(page.locator("#unsent")).to_have_text("all sent")
    expect(page.locator("#clock")).to_contain_text(re.compile(r"0:\d\d"))
    page.route("**/taps/", lambda route: route.fulfill(status=403, body="Enter the passphrase first."))
    page.get_by_role("button", name="shake").tap()
    expect(page.get_by_role("link", name="Enter the passphrase again")).to_be_visible()
    expect(page.locator("#unsent")).to_have_text("1 on this phone only")
    page.unroute("**/taps/")
    expect(page.locator("#unsent")).to_have_text("all sent")
    page.get_by_role("button", name="Bad sign: land").tap()
    expect(page.get_by_role("heading", level=1)).to_have_text("Land now")
    page.get_by_role("button", name="I have landed").tap()
    page.get_by_label("hot").first.check()
    page.get_by_label("Flight ended").select_option("aborted")
    page.get_by_role("button", name="Save note").tap()
    expect(page.locator("#done-told")).to_have_text("All of it is at the bench, too.")
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    context.close()


SET_BY_HAND = """
const real = Date.now.bind(Date);
window.off = Number(sessionStorage.getItem('off') ?? 0);
Date.now = () => real() + window.off;
"""


def test_a_phone_whose_clock_is_set_anew_notes_the_same_times(browser: Browser, demo: str) -> None:
    """Hours off from the start, set three hours on in the air, and five back while the page is closed."""
    context = browser.new_context(viewport={"width": 390, "height": 844}, base_url=demo)
    context.add_init_script(SET_BY_HAND)
    page = context.new_page()
    page.goto("/craft/2/field/")
    page.evaluate("sessionStorage.setItem('off', -7 * 3600e3)")
    for box in page.get_by_role("checkbox").all():
        box.check()
    page.get_by_role("button", name="Go", exact=True).click()
    page.get_by_role("button", name="Take off").click()
    page.evaluate("window.off = -4 * 3600e3; sessionStorage.setItem('off', window.off)")
    page.get_by_role("button", name="buzz").click()
    page.evaluate("sessionStorage.setItem('off', -9 * 3600e3)")
    page.reload()
    page.get_by_role("button", name="shake").click()
    expect(page.locator("#unsent")).to_have_text("all sent")
    times = page.evaluate("JSON.parse(localStorage.getItem(Object.keys(localStorage)[0])).taps.map((one) => one.at_s)")
    assert times == sorted(times)
    assert len(times) == 3
    assert times[-1] - times[0] < 60
    context.close()


def test_field_pages_are_light(browser: Browser, demo: str) -> None:
    """Under 150 kB each beside fonts, as they go over the air."""
    context = browser.new_context(viewport={"width": 390, "height": 844}, base_url=demo)
    page = context.new_page()
    page.goto("/craft/1/field/")
    for box in page.get_by_role("checkbox").all():
        box.check()
    assert weight(page) < 150_000
    page.get_by_role("button", name="Go", exact=True).click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Stop when")
    assert weight(page) < 150_000
    context.close()


def weight(page: Page) -> float:
    """Bytes of the page and all that it loaded, packed, beside fonts."""
    return page.evaluate(
        "[...performance.getEntriesByType('navigation'), ...performance.getEntriesByType('resource')]"
        ".filter((one) => !/[.]woff2?$/.test(one.name)).reduce((sum, one) => sum + one.encodedBodySize, 0)"
    )
