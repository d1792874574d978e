"""The log desk's journey by mouse, keyboard and touch: any table in, understood, checked, explored, given out."""

import re
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from nembrit.core.formats.registry import read_log
from tests.dialects import DIALECTS
from tests.e2e.conftest import drawn, offer, swapped, until
from tests.flying import flown


@pytest.fixture(scope="module")
def tables(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """Two dialects, one of them without its rate."""
    folder = tmp_path_factory.mktemp("tables")
    contents = {
        "german": DIALECTS["german"](flown(5)).content,
        "norate": DIALECTS["spanish"](flown(6)).content.replace(b"frecuencia de muestreo: 2000 Hz\n", b""),
    }
    for name, content in contents.items():
        (folder / f"{name}.csv").write_bytes(content)
    return {name: folder / f"{name}.csv" for name in contents}


def shown(page: Page) -> list[float]:
    return [float(edge) for edge in page.evaluate("document.documentElement.dataset.shown").split(":")]


def view_changed(page: Page, before: list[float]) -> list[float]:
    until(page, "old => document.documentElement.dataset.shown !== old", arg=":".join(f"{edge:.4f}" for edge in before))
    return shown(page)


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_from_any_table_to_a_flight_by_mouse(page: Page, tables: dict[str, Path]) -> None:
    page.goto("/inbox/")
    page.locator("#files").set_input_files([tables["german"], tables["norate"]])
    page.get_by_role("button", name="Read them").click()
    german = page.locator("article", has_text="german.csv")
    expect(german).to_contain_text("30 s at 2000 Hz", timeout=40_000)
    german.get_by_label("Where german.csv belongs").select_option(label="a new flight of Juniper")
    german.get_by_role("button", name="Attach to flight").click()
    expect(page.get_by_role("status")).to_contain_text("belongs to flight")
    expect(page.get_by_role("heading", level=1)).to_have_text(re.compile(r"answers \d of 10 questions in full"))
    expect(page.locator("main")).to_contain_text("decimal commas")

    # the other one asks for its rate; a wrong answer keeps what was typed
    page.get_by_role("link", name="Inbox").click()
    page.locator("article", has_text="norate.csv").get_by_role("link", name="Answer").click()
    rate = page.get_by_label("Rate, if the clock is wrong")
    rate.fill("brisk")
    page.get_by_role("button", name="Save meanings").click()
    expect(page.get_by_role("alert")).to_contain_text("a rate in Hz should be a number")
    expect(rate).to_have_value("brisk")
    rate.fill("2000")
    page.get_by_label("Name of the profile").fill("Box of the club")
    page.get_by_role("button", name="Save meanings").click()
    expect(page.get_by_role("heading", level=1)).to_have_text(re.compile(r"answers \d of 10"), timeout=40_000)
    expect(page.locator("main")).to_contain_text("Box of the club")


def test_a_job_that_ends_does_not_take_away_the_page_that_a_form_asked_for(page: Page) -> None:
    page.goto("/inbox/")
    page.evaluate(
        """() => {
            const form = document.createElement("form");
            form.dataset.sent = "1"; // as page.js marks a form on its way
            document.body.append(form);
            window.stayed = true;
        }"""
    )
    told = {"HX-Trigger-After-Swap": "nembrit:job-done"}
    page.route("**/ended/", lambda route: route.fulfill(status=200, headers=told, body="<p>done</p>"))
    ended = "void htmx.ajax('GET', '/ended/', {target: 'main', swap: 'none'})"
    page.evaluate("document.querySelector('#content h1').textContent = 'as it was'")
    page.evaluate(ended)
    page.wait_for_timeout(400)
    expect(page.get_by_role("heading", level=1)).to_have_text("as it was")
    page.evaluate("document.querySelector('form[data-sent]').remove()")
    page.evaluate(ended)
    expect(page.get_by_role("heading", level=1)).to_contain_text(
        re.compile(r"waits?\s+for a flight")
    )  # swapped in, not loaded anew
    assert page.evaluate("window.stayed") is True


def test_the_window_by_keys_and_mouse_and_a_manoeuvre_by_hand(page: Page) -> None:
    page.goto("/logs/2/")
    drawn(page)
    start = page.get_by_role("slider", name="start of the usable window")
    start.focus()
    before = float(page.locator("#window-start").input_value())
    for _ in range(5):
        page.keyboard.press("ArrowRight")
    assert float(page.locator("#window-start").input_value()) == pytest.approx(before + 0.5, abs=0.011)
    box = page.get_by_role("slider", name="end of the usable window").bounding_box()
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + 30)
    page.mouse.down()
    page.mouse.move(box["x"] - 60, box["y"] + 30, steps=5)
    page.mouse.up()
    assert float(page.locator("#window-end").input_value()) < 27.5
    page.get_by_role("button", name="Use this window").click()
    expect(page.get_by_role("status")).to_contain_text("Analyses of flight 2 use")
    expect(page.get_by_role("status")).to_be_in_viewport()
    page.locator("#window-end").fill("0.1")
    page.get_by_role("button", name="Use this window").click()
    expect(page.get_by_role("status")).to_contain_text("The window stays as it was")
    expect(page.get_by_role("status")).to_be_in_viewport()
    with swapped(page):
        page.get_by_role("button", name="Reset").click()
    row = page.locator("#manoeuvre-table tr", has_text="hover").first
    row.get_by_text("Change").click()
    row.get_by_label("from, s").fill("77")
    row.get_by_role("button", name="Save").click()
    expect(page.get_by_role("status")).to_contain_text("a manoeuvre lies within 0.00 to 30.00 s")
    expect(page.get_by_role("status")).to_be_in_viewport()
    page.get_by_text("Add a manoeuvre").click()
    form = page.locator("details[open] .manoeuvre-form").last
    form.get_by_label("kind").select_option("turn")
    form.get_by_label("from, s").fill("3.1")
    form.get_by_label("to, s").fill("4.2")
    form.get_by_role("button", name="Save").click()
    expect(page.locator("#manoeuvre-table")).to_contain_text("set by you")


def test_traces_by_keyboard_views_cursors_spectrum_and_search(page: Page) -> None:
    page.goto("/craft/1/flights/12/traces/")
    drawn(page)
    whole = shown(page)
    page.keyboard.press(".")
    first = view_changed(page, whole)
    assert first[1] - first[0] < 10
    page.keyboard.press("]")
    assert view_changed(page, first)[0] > first[0]
    box = page.locator(".u-over").first.bounding_box()
    page.mouse.click(box["x"] + 100, box["y"] + 40)
    page.keyboard.down("Shift")
    page.mouse.click(box["x"] + 300, box["y"] + 40)
    page.keyboard.up("Shift")
    expect(page.locator("#measures")).to_contain_text("Δt")
    expect(page.locator("#measures")).to_contain_text("gyro, roll, deg/s")
    page.get_by_label("Spectrum of the visible part").select_option(label="raw gyro, roll")
    span = ":".join(str(edge) for edge in shown(page))
    until(page, "document.getElementById('spectrum').dataset.span != null")
    following = page.evaluate("document.getElementById('spectrum').dataset.span").split(":")
    assert [float(edge) for edge in following] == pytest.approx([float(edge) for edge in span.split(":")], abs=1e-3)
    page.get_by_label("Show a channel").fill("motor.3")
    page.keyboard.press("Enter")
    page.wait_for_url(re.compile(r"panes=.*motor\.3"))
    kept = page.url
    page.reload()
    drawn(page)
    assert page.url == kept
    page.get_by_role("button", name="Motors", exact=True).click()
    page.wait_for_url("**view=motors**")
    page.get_by_role("button", name="Previous view").click()
    until(page, "old => location.href === old", arg=kept)
    page.get_by_role("button", name="P and D over the set-point").click()
    page.wait_for_url("**view=stop**")
    drawn(page)
    page.go_back()  # the browser's own button takes back one gesture, too
    until(page, "old => location.href === old", arg=kept)


def test_zooming_to_single_samples_and_back_keeps_the_lines(page: Page) -> None:
    page.goto("/craft/1/flights/12/traces/?view=tracking")
    drawn(page)
    span = shown(page)
    while span[1] - span[0] > 0.3:  # down to single samples lines lose their areas; a script that fails there fails the test
        page.locator("#trace-in").click()
        span = view_changed(page, span)
    page.locator("#trace-all").click()
    assert view_changed(page, span)[1] > 10


def test_the_path_follows_the_cursor_of_the_traces(page: Page) -> None:
    page.goto("/craft/1/flights/12/traces/?view=position")
    page.wait_for_selector("#track[data-drawn]")
    expect(page.locator(".facts-line")).to_contain_text("flown")
    page.get_by_label("Path, coloured by").select_option(label="field-box-12.jsonl: mode")
    expect(page.locator(".legend")).to_contain_text("level")
    picture = "document.querySelector('#track canvas').toDataURL()"
    before = page.evaluate(picture)
    box = page.locator(".u-over").first.bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.6, box["y"] + 40)
    until(page, f"old => {picture} !== old", arg=before)
    for kind, beginning in (("SVG", b"<svg"), ("PNG", b"\x89PNG")):
        with page.expect_download() as download:
            offer(page.locator("#track"), f"{kind}: path flown")
        assert Path(download.value.path()).read_bytes().startswith(beginning)


def test_giving_out_and_laying_over(page: Page) -> None:
    page.goto("/logs/2/export/")
    page.get_by_label("From, s").fill("3")
    page.get_by_label("To, s").fill("4")
    page.get_by_label("Format").select_option("parquet")
    for button, n_left in (("None", 0), ("All", page.locator(".checks input").count())):
        page.get_by_role("button", name=button, exact=True).click()
        expect(page.locator(".checks input:checked")).to_have_count(n_left)
    assert page.locator("#form option[value=gpx]").count() == 0, "a track is made of positions, which this log has not"
    with page.expect_download() as download:
        page.get_by_role("button", name="Export").click()
    assert read_log(Path(download.value.path()).read_bytes()).main.n_samples == 2001
    page.get_by_label("From, s").fill("9")
    page.get_by_role("button", name="Export").click()
    expect(page.get_by_role("alert")).to_contain_text("from before to")
    page.goto("/craft/1/flights/2/aligned/?with=6")
    expect(page.get_by_role("heading", level=1)).to_have_text(re.compile(r"\d+ manoeuvres\s+aligned"))


def test_fingers_move_and_zoom_the_traces(browser: Browser, demo: str) -> None:
    context = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True, base_url=demo)
    phone = context.new_page()
    phone.goto("/craft/1/flights/12/traces/")
    drawn(phone)
    whole = shown(phone)
    phone.get_by_role("button", name="Zoom in").tap()
    view = view_changed(phone, whole)
    box = phone.locator(".u-over").first.bounding_box()
    session = context.new_cdp_session(phone)

    def drag(paths: list[list[float]]) -> None:
        kinds = ["touchStart", *["touchMove"] * (len(paths[0]) - 1)]
        for step, kind in enumerate(kinds):
            points = [{"x": box["x"] + path[step], "y": box["y"] + 40, "id": k} for k, path in enumerate(paths)]
            session.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": points})
        session.send("Input.dispatchTouchEvent", {"type": "touchEnd", "touchPoints": []})

    drag([[200.0, 180.0, 150.0, 120.0]])
    moved = view_changed(phone, view)
    assert moved[0] > view[0]
    assert moved[1] - moved[0] == pytest.approx(view[1] - view[0], abs=0.01)
    drag([[110.0, 90.0, 60.0], [170.0, 190.0, 220.0]])
    closer = view_changed(phone, moved)
    assert closer[1] - closer[0] < 0.6 * (moved[1] - moved[0])
    for path in ("/inbox/", "/logs/2/", "/logs/2/meanings/", "/craft/1/flights/2/aligned/?with=6", "/backup/"):
        phone.goto(path)
        assert phone.evaluate("document.documentElement.scrollWidth") <= 390, path
    context.close()


def test_a_copy_of_the_workshop_is_made_by_keyboard(page: Page) -> None:
    page.goto("/backup/")
    page.wait_for_load_state("networkidle")
    page.keyboard.press("n")  # a key alone starts nothing
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Latest backup:", timeout=40_000)
    page.get_by_role("button", name="Restore", exact=True).click()
    expect(page.get_by_label("Replace the present workshop")).to_be_focused()  # nothing is sent, a chosen file stays chosen
    page.get_by_label("Replace the present workshop").check()
    page.get_by_role("button", name="Restore", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("Choose a backup from the list, or a file; nothing was changed")
