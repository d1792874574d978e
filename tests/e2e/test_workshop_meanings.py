"""A plane's log in a dialect of its own: units typed while the page answers, modes named, found again."""

import re
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.newdialects import PLANES


def test_units_are_typed_and_modes_named_while_the_page_answers(page: Page, tmp_path: Path) -> None:
    (tmp_path / "plane.csv").write_bytes(PLANES["per cent of a throw"].written()[0])
    page.goto("/inbox/")
    page.locator("#files").set_input_files(tmp_path / "plane.csv")
    page.get_by_role("button", name="Read them").click()
    entry = page.locator("article", has_text="plane.csv")
    expect(entry).to_contain_text("at 50 Hz", timeout=40_000)
    entry.get_by_role("link", name="plane.csv").first.click()
    page.get_by_role("link", name="Check the meanings").first.click()
    typed = {"out_1": "% of ±400 around 1512", "out_2": "% of ±400 around 1487", "out_3": "% of ±390 around 1510"}
    page.get_by_label("Meaning of out_1", exact=True).fill("servo.1")
    for name, scale in typed.items():  # without waiting: answers arrive while the next unit is typed
        field = page.get_by_label(f"Unit or factor of {name}", exact=True)
        field.click()
        field.press("ControlOrMeta+a")  # what followed the column before is typed over
        field.press_sequentially(scale)
        field.press("Tab")
    expect(page.get_by_label("Meaning of out_3", exact=True)).to_have_value("servo 3")
    page.get_by_label("Unit or factor of out_4", exact=True).fill("% of ±400 around 1494")
    page.get_by_label("Name of mode 21", exact=True).fill("return")
    page.get_by_role("button", name="Save meanings").click()
    expect(page.get_by_role("heading", level=1)).to_have_text(re.compile(r"answers \d+ of \d+"), timeout=40_000)
    page.get_by_role("link", name="Check the meanings").first.click()
    for name, scale in typed.items():
        expect(page.get_by_label(f"Unit or factor of {name}", exact=True)).to_have_value(scale)
    expect(page.get_by_label("Name of mode 21", exact=True)).to_have_value("return")


def test_a_column_called_the_mode_shows_its_numbers_and_a_left_unit_gives_way(page: Page, tmp_path: Path) -> None:
    rows = "".join(
        f"{k * 0.02:.2f}\t{3 if k < 900 else 7}\t{1500 + k % 90}\t{k % 50 / 10}\t{k % 40 / 10}\t{k % 30 / 10}\n"
        for k in range(1500)
    )
    (tmp_path / "odd.txt").write_text("seconds\tflightstate\tpwm in A\tp (deg/s)\tq (deg/s)\tr (deg/s)\n" + rows)
    page.goto("/inbox/")
    page.locator("#files").set_input_files(tmp_path / "odd.txt")
    page.get_by_role("button", name="Read them").click()
    entry = page.locator("article", has_text="odd.txt")
    expect(entry).to_contain_text("at 50 Hz", timeout=40_000)
    entry.get_by_role("link", name="odd.txt").first.click()
    page.get_by_role("link", name="Check the meanings").first.click()
    expect(page.get_by_label("Name of mode 7", exact=True)).to_have_count(0)
    # Tab moves on to the unit, which takes the answer while it has the cursor
    page.get_by_label("Meaning of pwm", exact=True).fill("stick.roll")
    page.keyboard.press("Tab")
    expect(page.get_by_label("Unit or factor of pwm", exact=True)).not_to_have_value("A")
    page.get_by_label("Meaning of flightstate", exact=True).fill("mode")
    page.keyboard.press("Tab")
    page.get_by_label("Name of mode 7", exact=True).fill("return")
    page.get_by_role("button", name="Save meanings").click()
    expect(page.get_by_role("heading", level=1)).to_have_text(re.compile(r"answers \d+ of \d+"), timeout=40_000)
    page.get_by_role("link", name="Check the meanings").first.click()
    expect(page.get_by_label("Name of mode 7", exact=True)).to_have_value("return")
    expect(page.get_by_label("Meaning of pwm", exact=True)).to_have_value("stick, roll")
