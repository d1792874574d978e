"""A video beside the traces: made by the browser itself, lined up, stepped, scrubbed, marked, and known again."""

import base64
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.e2e.conftest import until

MADE = """async () => {
    const canvas = document.createElement("canvas");
    canvas.width = 160; canvas.height = 90;
    const pen = canvas.getContext("2d");
    const recorder = new MediaRecorder(canvas.captureStream(30), { mimeType: "video/webm;codecs=vp8" });
    const parts = [], begun = performance.now();
    recorder.ondataavailable = (event) => parts.push(event.data);
    recorder.start();
    await new Promise((done) => {
        const step = () => {
            const t = (performance.now() - begun) / 1000;
            pen.fillStyle = `hsl(${t * 60} 60% 50%)`;
            pen.fillRect(0, 0, 160, 90);
            if (t < 5) requestAnimationFrame(step); else done();
        };
        step();
    });
    await new Promise((done) => { recorder.onstop = done; recorder.stop(); });
    const bytes = new Uint8Array(await new Blob(parts).arrayBuffer());
    return btoa(bytes.reduce((text, byte) => text + String.fromCharCode(byte), ""));
}"""


@pytest.fixture
def webm(page: Page, tmp_path: Path) -> Path:
    page.goto("/")
    (made := tmp_path / "flight.webm").write_bytes(base64.b64decode(page.evaluate(MADE)))
    return made


def opened(page: Page, file: Path) -> None:
    page.goto("/craft/1/flights/1/traces/")
    until(page, "() => document.documentElement.dataset.charts === 'drawn'")
    page.get_by_text("Video and marks").click()
    page.locator("#video-file").set_input_files(file)


def now(page: Page) -> float:
    return float(page.evaluate("document.querySelector('#video video').currentTime"))


def test_picture_and_cursor_move_together(page: Page, webm: Path, tmp_path: Path) -> None:
    sent: list[str] = []
    page.on("request", lambda request: sent.append(request.post_data or "") if request.method == "POST" else None)
    opened(page, webm)
    until(page, "() => document.getElementById('video').dataset.ready === '1'")
    pane = page.locator("#panes .u-over").first.bounding_box()
    assert pane is not None
    page.mouse.click(pane["x"] + 0.3 * pane["width"], pane["y"] + 40)
    until(page, "() => new URLSearchParams(location.search).has('a')")
    page.evaluate("document.querySelector('#video video').currentTime = 1.0")
    until(page, "() => Math.abs(document.querySelector('#video video').currentTime - 1) < 0.05")
    page.get_by_role("button", name="This is cursor A").click()
    expect(page.locator("#video")).to_contain_text("Lined up by 1 moment")
    # the cursor over the traces scrubs the picture, within one frame
    page.wait_for_timeout(300)
    for share in (0.36, 0.33):
        page.mouse.move(pane["x"] + share * pane["width"], pane["y"] + 60)
        # a pixel is 0.04 s, and A was set to one, too
        follows = "wanted => Math.abs(document.querySelector('#video video').currentTime - wanted) < 0.1"
        until(page, follows, arg=1 + (share - 0.3) * 30)
    before = now(page)
    page.get_by_role("button", name="One frame on").click()
    until(page, "before => document.querySelector('#video video').currentTime > before", arg=before)
    assert now(page) - before < 0.08
    # a mark set in the video is a marker of the flight
    page.get_by_label("Mark this moment").fill("wobble")
    page.get_by_role("button", name="Set mark").click()
    expect(page.locator("#video [data-part=marks]")).to_contain_text("wobble")
    assert all(len(body) < 2000 for body in sent)  # the film itself is never sent
    # choosing the same file again is enough
    opened(page, webm)
    expect(page.locator("#video")).to_contain_text("Lined up by 1 moment")
    page.get_by_role("button", name="Remove mark m1: wobble").click()
    expect(page.locator("#video [data-part=marks] li")).to_have_count(0)
    # what is no video is said, and goes nowhere
    (other := tmp_path / "other.webm").write_bytes(b"no film at all" * 500)
    page.locator("#video-file").set_input_files(other)
    expect(page.locator("#video [role=alert]")).to_contain_text("Nothing was uploaded")
