"""The chart module and the trace view, by mouse and keyboard; accessibility of every page in both themes."""

import json
import re
from pathlib import Path
from xml.etree import ElementTree

import pytest
from playwright.sync_api import Page, expect

from tests.e2e.conftest import drawn, offer, until

AXE = Path(__file__).parent / "vendor" / "axe-core-4.14.1" / "axe.min.js"
PAGES = {
    "hangar": "/", "craft": "/craft/1/", "tune": "/craft/1/tune/", "slip": "/slips/1/", "flight": "/craft/1/flights/1/", "traces": "/craft/1/flights/1/traces/",
    "simulator": "/craft/1/simulator/", "slip form": "/craft/1/slips/new/?group=pd.roll", "configuration": "/configurations/2/",
    "paste": "/craft/1/configurations/new/", "names": "/craft/3/names/", "new craft": "/craft/new/", "edit": "/craft/1/flights/1/edit/",
    "cards": "/cards/", "card": "/cards/response/", "style": "/style/", "about": "/about/", "missing": "/nowhere/", "attach": "/craft/2/logs/attach/",
    "inbox": "/inbox/", "log": "/logs/13/", "meanings": "/logs/2/meanings/", "give": "/logs/2/export/", "lay over": "/craft/1/flights/2/aligned/?with=6",
    "profiles": "/import-profiles/", "backup": "/backup/", "track": "/craft/1/flights/12/traces/?view=position", "noise": "/craft/1/flights/1/noise/", "vibration": "/craft/1/flights/1/vibration/",
    "sensors": "/craft/1/flights/1/sensors/", "response": "/craft/1/flights/1/response/",
    "preflight": "/craft/1/field/",
    "filters": "/craft/1/flights/6/filters/?tried=1&gyro.kind=notch&gyro.hz=150&gyro.q=4&gyro.orders=", "gains": "/craft/1/flights/6/gains/?axis=pitch&p=58",
    "packs": "/packs/", "pack": "/packs/1/", "compose": "/cards/new/?kind=multirotor&question=wash", "report": "/craft/1/tune/report/",
    "question": "/craft/1/comparisons/new/", "questions": "/craft/1/comparisons/", "sessions": "/craft/1/sessions/", "archive": "/archive/",
    "two groups": "/craft/1/slips/new/?group=pd.roll&also=pd.pitch",
    "craft edit": "/craft/1/edit/", "simulator, scales unknown": "/craft/2/simulator/",
    "wing": "/craft/3/flights/3/wing/", "Tap on the map of a plane’s": "/craft/3/flights/2/", "surfaces": "/craft/3/surfaces/",
    "path": "/craft/3/flights/8/path/", "return": "/craft/3/flights/9/return/", "gains of a plane": "/craft/3/flights/10/wing/",
    "rule of a return": "/craft/3/return/",
    "returns": "/craft/3/returns/", "return card": "/craft/3/return/card/", "live": "/craft/1/live/", "source": "/craft/1/live/source/",
    "alarms": "/craft/1/live/alarms/", "link": "/craft/1/link/", "obstacles": "/ground/", "line of sight": "/ground/sight/",
    "route": "/craft/2/route/", "step up": "/craft/2/route/step-up/", "starting values": "/craft/2/route/starting-values/?source=table",
    "automatic tune": "/craft/2/route/automatic/", "sums": "/craft/1/sums/?cap_mohm=60",
}  # fmt: skip


OTHER_PAGES = (
    "chromium-about", "chromium-archive", "chromium-attach", "chromium-backup", "chromium-card", "chromium-cards",
    "chromium-compose", "chromium-configuration", "chromium-craft edit", "chromium-edit",
    "chromium-flight of a plane", "chromium-gains", "chromium-gains of a plane", "chromium-give", "chromium-inbox",
    "chromium-lay over", "chromium-line of sight", "chromium-log", "chromium-meanings", "chromium-missing",
    "chromium-names", "chromium-new craft", "chromium-obstacles", "chromium-pack", "chromium-paste",
    "chromium-preflight", "chromium-profiles", "chromium-questions", "chromium-report", "chromium-rule of a return",
    "chromium-sensors", "chromium-sessions", "chromium-simulator", "chromium-simulator, scales unknown",
    "chromium-slip form", "chromium-style", "chromium-surfaces", "chromium-track", "chromium-two groups",
    "chromium-vibration",
)  # fmt: skip


@pytest.mark.long("pages of less use; the main ones are checked always", only=OTHER_PAGES)
@pytest.mark.parametrize("name", PAGES)
def test_pages_keep_wcag_2_2_aa_in_both_themes_and_fit_a_phone(page: Page, clean_page: list[str], name: str) -> None:
    page.emulate_media(reduced_motion="reduce", color_scheme="light")
    page.goto(PAGES[name])
    page.wait_for_load_state("networkidle")
    assert clean_page == []
    page.evaluate(AXE.read_text())
    for theme in ("light", "dark"):
        page.emulate_media(color_scheme=theme, reduced_motion="reduce")
        until(page, "theme => document.documentElement.dataset.theme === theme", arg=theme)
        # what the other theme can change is its colours
        only = (
            "['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']"
            if theme == "light"
            else "{type: 'rule', values: ['color-contrast']}"
        )
        found = page.evaluate(f"axe.run({{runOnly: {only}, resultTypes: ['violations']}})")
        broken = [(rule["id"], [node["html"][:160] for node in rule["nodes"]][:3]) for rule in found["violations"]]
        assert broken == [], theme + json.dumps(broken, indent=1)
    assert too_long(page) == []
    page.set_viewport_size({"width": 390, "height": 844})
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    clean_page.clear()  # the checker styles elements while it looks, against the page's rules


def too_long(page: Page, most: int = 28) -> list[str]:
    """Sentences of the page that nobody reads in one breath."""
    texts = page.evaluate(
        "[...document.querySelectorAll('#content :is(p, li, dd, h1, h2)')].map(one => one.textContent.replace(/\\s+/g, ' ').trim())"
    )
    sentences = [one for text in texts for one in re.split(r"(?<=[.!?:;])\s+", text)]
    return [one for one in sentences if sum(bool(re.search("[A-Za-z]", word)) for word in one.split()) > most]


def test_a_term_is_explained_where_it_stands_first(page: Page, clean_page: list[str]) -> None:
    page.goto("/craft/1/flights/8/response/")
    term = page.get_by_role("button", name="Stability margin", exact=True)
    expect(term).to_have_count(1)
    term.focus()
    page.keyboard.press("Enter")
    note = page.locator("#term-note")
    expect(note).to_contain_text("0 % oscillates")
    page.get_by_role("button", name="crossover", exact=True).click()
    expect(note).to_contain_text("corrects errors")
    page.keyboard.press("Escape")
    expect(note).to_be_hidden()
    assert clean_page == []


def range_of(page: Page) -> list[float]:
    return page.evaluate(
        "(() => { const u = document.querySelector('figure.chart').chart.u; return [u.scales.x.min, u.scales.x.max]; })()"
    )


def drag(page: Page, selector: str, start: float, end: float) -> None:
    box = page.locator(selector).first.bounding_box()
    page.mouse.move(box["x"] + start * box["width"], box["y"] + box["height"] / 2)
    page.mouse.down()
    page.mouse.move(box["x"] + end * box["width"], box["y"] + box["height"] / 2, steps=6)
    page.mouse.up()


def test_a_chart_zooms_reads_and_gives_its_table_and_files(page: Page) -> None:
    page.goto("/craft/1/flights/1/")
    drawn(page)
    figure = page.locator("figure.chart").first
    assert range_of(page) == [0, 600]
    drag(page, "figure.chart .u-over", 0.1, 0.4)
    low, high = range_of(page)
    assert 50 < low < 70
    assert 230 < high < 250
    figure.get_by_role("button", name="All").click()
    assert range_of(page) == [0, 600]
    figure.locator(".plot").focus()
    for _ in range(3):
        page.keyboard.press("ArrowRight")
    expect(figure.locator(".readout")).to_have_text(re.compile(r"\d+ Hz · raw .+ · filtered .+"))
    page.keyboard.press("+")
    assert range_of(page)[1] < 600
    page.keyboard.press("0")
    page.keyboard.press("Enter")  # one stop a picture: its menu opens from there, and Escape leads back
    expect(figure.get_by_role("button", name="Table")).to_be_focused()
    page.keyboard.press("ArrowDown")
    expect(figure.get_by_role("button", name="CSV")).to_be_focused()
    page.keyboard.press("Escape")
    expect(figure.locator(".plot")).to_be_focused()
    page.keyboard.press("Tab")
    expect(page.locator("figure.chart").nth(1).locator(".plot")).to_be_focused()
    offer(figure, "Table")
    expect(figure.get_by_role("region")).to_contain_text("frequency [Hz]")
    contents = {}
    for name in ("CSV", "SVG", "PNG"):
        with page.expect_download() as download:
            offer(figure, name)
        contents[name] = Path(download.value.path()).read_bytes()
    rows = contents["CSV"].decode().strip().splitlines()
    assert rows[0].startswith('"frequency [Hz]","raw [dB')
    assert len(rows) > 400
    paths = ElementTree.fromstring(contents["SVG"]).findall(".//{http://www.w3.org/2000/svg}path[@stroke]")
    assert len([path for path in paths if path.get("d", "").count("L") > 250]) == 2
    assert contents["PNG"].startswith(b"\x89PNG")


def test_traces_zoom_together_go_back_and_keep_the_view_in_the_address(page: Page) -> None:
    page.goto("/craft/1/flights/1/traces/")
    drawn(page)
    drag(page, "#panes .u-over", 0.4, 0.5)
    page.wait_for_url(re.compile(r"from=1[12]\.\d+"))
    kept = page.url
    expect(page.locator("#trace-span")).to_contain_text(re.compile(r"1[12]\.\d+ to 1[45]\.\d+ s"))
    page.reload()
    drawn(page)
    assert page.url == kept
    page.get_by_role("button", name="later").click()
    until(page, "old => location.href !== old", arg=kept)
    page.get_by_role("button", name="Previous view").click()
    until(page, "old => location.href === old", arg=kept)
    page.get_by_role("button", name="All", exact=True).click()
    page.wait_for_url(re.compile(r"from=0\.0000"))
    page.locator("#panes .plot").first.focus()
    page.keyboard.press("+")
    until(page, "!location.search.includes('from=0.0000&to=29.99')")


def test_help_and_theme(page: Page) -> None:
    page.goto("/")
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_contain_text("zoom in, out, show all")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Switch between light and dark").click()
    assert page.locator("html").get_attribute("data-theme") == "dark"
    page.goto("/about/")
    assert page.locator("html").get_attribute("data-theme") == "dark"
    page.keyboard.press("k")
    expect(page.get_by_role("heading", level=1)).to_have_text("Fly the same card every time")
    page.keyboard.press("?")
    page.get_by_label("Keyboard shortcuts on").uncheck()
    page.keyboard.press("Escape")
    page.keyboard.press("h")
    page.wait_for_timeout(300)
    expect(page.get_by_role("heading", level=1)).to_have_text("Fly the same card every time")
    page.get_by_role("button", name="Keys").click()
    page.get_by_label("Keyboard shortcuts on").check()
    page.get_by_role("button", name="Close").click()
    page.goto("/craft/1/simulator/")
    page.keyboard.press("n")  # a step that would write something is only pointed at
    expect(page.get_by_role("button", name="Fly this card")).to_be_focused()
    expect(page).to_have_url(re.compile("/craft/1/simulator/$"))
