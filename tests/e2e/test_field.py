"""The field on a phone: a flight from go to landing, with the workshop out of reach and the page loaded anew in between."""

import re

from playwright.sync_api import Browser, expect


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
    page.route("**/taps/", lambda route: route.fulfill(status=403, body="Give the passphrase first."))
    page.get_by_role("button", name="shake").tap()
    expect(page.get_by_role("link", name="Give the passphrase again")).to_be_visible()
    expect(page.locator("#unsent")).to_have_text("1 on this phone only")
    page.unroute("**/taps/")
    expect(page.locator("#unsent")).to_have_text("all sent")
    page.get_by_role("button", name="Bad sign: land").tap()
    expect(page.get_by_role("heading", level=1)).to_have_text("Land now")
    page.get_by_role("button", name="I have landed").tap()
    page.get_by_label("hot").first.check()
    page.get_by_label("It ended").select_option("aborted")
    page.get_by_role("button", name="Keep it").tap()
    expect(page.locator("#done-told")).to_have_text("All of it is at the bench, too.")
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    context.close()
