"""The page of a bench in a real browser: hostile text shows as text, nothing is asked of a network,
it fits a phone and a desk, it can be read in light and dark, and it prints.

Run by `make browser-test`, which installs the browser.
"""

import base64
import json
import shutil
import time

import pytest
from selenium import webdriver
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By

from omphalon.bench.bench import make
from omphalon.bench.settings import Taken
from omphalon.report.page import page_of

EVIL = "<img src=x onerror=\"document.title='owned'\"><script>document.title='owned'</script>&amp;"
PIXEL = base64.b64decode(
    "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg=="
)
QUIET = (
    *("--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run"),
    *("--disable-background-networking", "--disable-component-update", "--disable-sync"),
)
CONTRAST = """
function part(c) { c /= 255; return c <= 0.03928 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4 }
function light(c) { return 0.2126 * part(c[0]) + 0.7152 * part(c[1]) + 0.0722 * part(c[2]) }
function rgb(text) { return text.match(/[\\d.]+/g).map(Number) }
function ground(e) {
  while (e) { const c = rgb(getComputedStyle(e).backgroundColor);
    if (c.length < 4 || c[3] > 0) return c; e = e.parentElement }
  return [255, 255, 255] }
return [...document.querySelectorAll('h1, h2, h3, p, td, th, dt, dd, code, pre, li, span')]
  .filter(e => e.textContent.trim())
  .map(e => { const a = light(rgb(getComputedStyle(e).color)), b = light(ground(e));
    return (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05) })
"""


@pytest.fixture(scope="module")
def page(tmp_path_factory):
    """A page with hostile text in every field that a user, a file or a printer fills."""
    folder = tmp_path_factory.mktemp("page")
    bench = make(folder / "b")
    facts = {"printer.name": EVIL[:150], "printer.loaded": "grey<b>"}
    bench.set_facts({**facts, "controller.dialect": "stand-in"})
    for steps in (412.0, 437.3):
        one = Taken(key="steps-e", value={"steps": steps}, spread={"steps": 3.7})
        bench.set_all([(one, None, None)], "adopted")
    (folder / "in<b>.csv").write_text("x")
    (folder / "photo.png").write_bytes(PIXEL)
    (bench.place / "figures" / "f.svg").write_text(
        "<svg xmlns='http://www.w3.org/2000/svg' width='900' height='300'>"
        "<script>document.title='owned'</script><rect width='900' height='300'/></svg>"
    )
    document = {
        "kind": "flow-fit",
        "verdict": "retest",
        "because": EVIL,
        "settings": {},
        "spread": {},
        "evidence": {},
        "lines": [EVIL],
        "warnings": [{"code": "x", "message": EVIL, "remedy": EVIL}],
    }
    inputs = [str(folder / "in<b>.csv")]
    bench.record(document, ["flow", "fit", EVIL], inputs, "f.svg", "grey<b>")
    bench.journal.append("part", "nozzle", {"note": EVIL})
    bench.trial([EVIL], EVIL * 20, 3.0, str(folder / "photo.png"))
    path = folder / "report.html"
    path.write_text(page_of(bench), encoding="utf-8")
    return path


@pytest.fixture(scope="module")
def browser(tmp_path_factory):
    options = Options()
    options.binary_location = shutil.which("chromium") or ""
    for word in (*QUIET, f"--user-data-dir={tmp_path_factory.mktemp('profile')}"):
        options.add_argument(word)
    options.set_capability("goog:loggingPrefs", {"performance": "ALL"})
    one = webdriver.Chrome(options=options, service=Service(shutil.which("chromedriver")))
    yield one
    one.quit()


def shown(browser, page, width=1280, scheme="light"):
    browser.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride",
        {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": width < 500},
    )
    media = [{"name": "prefers-color-scheme", "value": scheme}]
    browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": media})
    browser.get(page.as_uri())
    time.sleep(0.3)


def test_hostile_text_is_text_and_nothing_is_asked_for(browser, page):
    shown(browser, page)
    assert browser.title != "owned" and not browser.find_elements(By.TAG_NAME, "script")
    body = browser.find_element(By.TAG_NAME, "body").text
    assert body.count("<script>document.title='owned'</script>&amp;") >= 5
    events = [json.loads(entry["message"])["message"] for entry in browser.get_log("performance")]
    sent = [
        event["params"]["request"]["url"]
        for event in events
        if event["method"] == "Network.requestWillBeSent"
        and event["params"]["documentURL"] == page.as_uri()
    ]
    assert sent and all(url.startswith(("file:", "data:")) for url in sent), sent


@pytest.mark.parametrize("width", [390, 1280])
def test_it_fits(browser, page, width):
    shown(browser, page, width)
    assert browser.execute_script("return document.documentElement.scrollWidth") <= width


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_text_can_be_read(browser, page, scheme):
    shown(browser, page, scheme=scheme)
    assert min(browser.execute_script(CONTRAST)) >= 4.5


def test_a_screen_reader_finds_its_way(browser, page):
    shown(browser, page)
    levels = browser.execute_script(
        "return [...document.querySelectorAll('h1, h2, h3')].map(e => Number(e.tagName[1]))"
    )
    assert levels[0] == 1 and levels.count(1) == 1
    assert all(b - a <= 1 for a, b in zip(levels, levels[1:], strict=False))
    pictures = browser.find_elements(By.CSS_SELECTOR, "img, svg[role=img]")
    assert len(pictures) == 3
    assert all(p.get_attribute("alt") or p.get_attribute("aria-label") for p in pictures)
    assert browser.find_element(By.TAG_NAME, "html").get_attribute("lang") == "en"
    assert browser.find_elements(By.CSS_SELECTOR, "th[scope]")


def test_it_prints(browser, page, tmp_path):
    shown(browser, page)
    done = browser.execute_cdp_cmd("Page.printToPDF", {"preferCSSPageSize": True})
    pdf = base64.b64decode(done["data"])
    assert pdf.startswith(b"%PDF") and len(pdf) > 10_000
