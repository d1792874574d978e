"""The field: how soon its pages are drawn on a slow phone, and twenty phones that tap at once.

`python -m benchmarks.field_pages FOLDER` serves a folder that `demo` made. Drawing: Debian's chromium at 390x844 with a
processor slowed fourfold; reference: the same browser with the same page not slowed. Taps: twenty phones that send one entry
a second each; reference: the style sheet from the same server, asked for by the same twenty.
"""

import http.client
import json
import re
import signal
import statistics
import sys
import threading
import time
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, sync_playwright

from benchmarks.clients import N_CLIENTS, REFERENCE, asked, served

ROUNDS, SECONDS = 7, 20.0


def first_drawn_s(page: Page, address: str, slowed: int) -> float:
    """Seconds from asking for a page to its first drawn words, nothing in the browser's memory."""
    session = page.context.new_cdp_session(page)
    session.send("Network.enable")
    session.send("Network.setCacheDisabled", {"cacheDisabled": True})
    session.send("Emulation.setCPUThrottlingRate", {"rate": slowed})
    page.goto(address)
    page.wait_for_function("performance.getEntriesByName('first-contentful-paint').length > 0")
    return float(page.evaluate("performance.getEntriesByName('first-contentful-paint')[0].startTime")) / 1000


def drawing(port: int) -> str:
    """Both field pages, slowed and not; the address of the outing that was opened."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=["--no-sandbox", "--disable-gpu"])
        page = browser.new_page(viewport={"width": 390, "height": 844}, base_url=f"http://127.0.0.1:{port}")
        page.goto("/craft/1/field/")
        for box in page.get_by_role("checkbox").all():
            box.check()
        page.get_by_role("button", name="Go", exact=True).click()
        page.wait_for_url("**/field/*/")
        outing = page.url.split(str(port))[1]
        for name, address in (("go or no go", "/craft/1/field/"), ("the flight", outing)):
            took = {slowed: statistics.median(first_drawn_s(page, address, slowed) for _ in range(ROUNDS)) for slowed in (1, 4)}
            print(f"{name}: first drawn after {took[4] * 1e3:.0f} ms slowed fourfold, {took[4] / took[1]:.1f} times not slowed")
        browser.close()
    return outing


def tapping(port: int, outing: str) -> None:
    """Twenty phones on one flight; every entry must be kept, and none told of a lock."""
    token, cookie = _opened(port, outing)
    took: list[float] = []
    wrong: list[str] = []
    sent: list[str] = []
    end = time.monotonic() + SECONDS

    def phone(n: int) -> None:
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
        headers = {"Content-Type": "application/json", "X-CSRFToken": token, "Cookie": cookie}
        time.sleep(n / N_CLIENTS)
        k = 0
        while time.monotonic() < end:
            uid = f"{n:06d}-{k:06d}"
            body = json.dumps({"taps": [{"uid": uid, "kind": "marker", "at_s": k, "data": {"what": "buzz"}}]})
            began = time.monotonic()
            connection.request("POST", f"{outing}taps/", body, headers)
            answer = connection.getresponse()
            told = answer.read()
            took.append(time.monotonic() - began)
            sent.append(uid)
            if answer.status != 200 or uid.encode() not in told:
                wrong.append(f"{answer.status} {told[:80]!r}")
            k += 1
            time.sleep(1.0)

    threads = [threading.Thread(target=phone, args=(n,)) for n in range(N_CLIENTS)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    reference, _ = asked(port, REFERENCE, 5, 1.0)
    base = float(np.quantile(reference[REFERENCE[0]], 0.95))
    p50, p95 = np.quantile(took, [0.5, 0.95])
    print(f"{len(sent)} entries of {N_CLIENTS} phones, {len(wrong)} not kept {wrong[:3]}")
    print(f"median {p50 * 1e3:.0f} ms, p95 {p95 * 1e3:.0f} ms, or {p95 / base:.1f} times the reference's p95")


def _opened(port: int, outing: str) -> tuple[str, str]:
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
    connection.request("GET", outing)
    answer = connection.getresponse()
    page = answer.read().decode()
    cookie = (answer.getheader("Set-Cookie") or "").split(";")[0]
    found = re.search(r'data-token="([^"]+)"', page)
    assert found is not None
    return found[1], cookie


def main(folder: str) -> None:
    process, port = served(Path(folder))
    try:
        tapping(port, drawing(port))
    finally:
        process.send_signal(signal.SIGTERM)
        process.wait(20)


if __name__ == "__main__":
    main(*sys.argv[1:])
