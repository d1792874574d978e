"""Takes the documentation's pictures from a fresh demo: `python3 run.py shots`."""

import tempfile
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from tests.e2e.conftest import CHROMIUM, ROOT, free_port, start, wait_until_ready

DESK, PHONE = {"width": 1280, "height": 800}, {"width": 390, "height": 844}
SHOTS = (
    ("hangar", "/", DESK, "light"),
    ("craft-dark", "/craft/1/", DESK, "dark"),
    ("flight", "/craft/1/flights/1/", DESK, "light"),
    ("flight-phone", "/craft/1/flights/1/", PHONE, "light"),
    ("traces", "/craft/1/flights/9/traces/?from=11.5&to=17&a=12.9&b=13.4&spectrum=gyro_raw.roll", DESK, "light"),
    ("meanings", "/logs/13/meanings/", DESK, "light"),
    ("slip", "/slips/2/", DESK, "light"),
    ("slip-form", "/craft/1/slips/new/?group=pd.roll", DESK, "light"),
    ("tune", "/craft/1/tune/", DESK, "light"),
    ("report", "/craft/1/tune/report/", DESK, "light"),
    ("wing", "/craft/3/flights/8/wing/", DESK, "light"),
    ("return", "/craft/3/flights/9/return/", DESK, "light"),
    ("card-phone", "/cards/response/", PHONE, "light"),
    ("noise", "/craft/1/flights/17/noise/", DESK, "light"),
    ("response", "/craft/1/flights/8/response/", DESK, "light"),
    (
        "filters",
        "/craft/1/flights/8/filters/?tried=1&chip.kind=lowpass_2&chip.hz=550&chip.q=0.707&chip.orders=&gyro.kind=notch&gyro.hz=148"
        "&gyro.q=8&gyro.orders=&d_term.kind=lowpass_2&d_term.hz=77&d_term.q=0.707&d_term.orders=",
        DESK,
        "light",
    ),
    ("gains", "/craft/1/flights/8/gains/?axis=roll&p=52&d=42", DESK, "light"),
    ("vibration", "/craft/1/flights/1/vibration/", DESK, "light"),
)


def live(page: Page, address: str) -> None:
    """The live page while the stand-in flies."""
    page.goto(f"{address}/craft/3/live/")
    page.get_by_role("button", name="Start the stand-in").click()
    page.get_by_role("button", name="Fly the card").click()
    page.wait_for_timeout(40_000)
    page.screenshot(path=ROOT / "docs" / "screenshots" / "live.png")
    page.get_by_role("button", name="Stop the stand-in").click()


def main() -> None:
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as playwright:
        process = start("demo", Path(folder), free_port())
        try:
            address = wait_until_ready(process)
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
            for name, path, viewport, theme in SHOTS:
                page = browser.new_page(viewport=viewport, color_scheme=theme)
                page.goto(address + path)
                page.wait_for_load_state("networkidle")
                page.wait_for_timeout(500)
                page.screenshot(path=ROOT / "docs" / "screenshots" / f"{name}.png")
                page.close()
            live(browser.new_page(viewport=DESK, color_scheme="light"), address)
        finally:
            process.terminate()
            process.wait(15)


if __name__ == "__main__":
    main()
