"""Take the pictures of docs/screenshots, and small ones for the guide, from a running demo.

`.venv/bin/python scripts/screenshots.py ADDRESS`
The address is the one that `scripts/demo` prints; its data must be fresh, since the picture of a running pass is taken
of the job to practise.
"""

import base64
import sys
from pathlib import Path

TESTS = Path(__file__).parents[1] / "tests"
sys.path[:0] = [str(TESTS / "browser"), str(TESTS)]

from pages import Page
from selenium import webdriver
from selenium.webdriver.chrome.service import Service

from conftest import FLAGS
from dolce.web.help.terms import guide_text

TO = Path(__file__).parents[1] / "docs" / "screenshots"
SMALL = Path(__file__).parents[1] / "src/dolce/web/static/guide"


def main(address: str) -> None:
    """One PNG of 1280x800 per main view."""
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for flag in FLAGS:
        options.add_argument(flag)
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    driver.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride", {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    )
    page = Page(driver, address)

    def shot(name: str) -> None:
        driver.save_screenshot(str(TO / f"{name}.png"))
        if f"screenshots/{name}.png" in guide_text():
            small = driver.execute_cdp_cmd(
                "Page.captureScreenshot",
                {
                    "format": "webp",
                    "quality": 60,
                    "clip": {
                        "x": 0,
                        "y": driver.execute_script("return window.scrollY"),
                        "width": 1280,
                        "height": 800,
                        "scale": 0.75,
                    },
                },
            )
            (SMALL / f"{name}.webp").write_bytes(base64.b64decode(small["data"]))

    page.open("/")
    shot("jobs")
    for stop in ("room", "shape", "load"):
        page.open(f"/jobs/1/{stop}")
        shot(stop)
    page.open("/jobs/1/prove")
    page.wait(lambda: page.all("#tolerances table") and page.all("#drift"))
    shot("prove")
    driver.get(f"{address}/jobs/1/report")
    page.wait(lambda: driver.execute_script("return document.readyState === 'complete'"))
    driver.execute_script("document.querySelector('main').scrollIntoView()")
    shot("report")
    for name, address in (
        ("room-7-1-4", "/jobs/4/room?sheet=spots&pick=Ls"),
        ("read", "/jobs/1/read?round=1&channel=L"),
        ("read-channels", "/jobs/4/read?front=C"),
        ("shape-evidence", "/jobs/1/shape?channel=L&sheet=evidence"),
    ):
        page.open(address)
        shot(name)
    page.open("/jobs/4/rig?sheet=faults")
    page.fill("Fault", "Polarity inverted")
    page.fill("Channel", "C")
    page.press("Switch on")
    page.press("Line check")
    page.press_at_once("Check all lines")
    page.wait(lambda: not page.all("[data-busy]") and page.all(".line-word.right"), seconds=90)
    page.ready()
    for channel in ("L", "R", "C"):
        page.press(f"Yes, {channel}")
    shot("rig-lines")
    page.press("Noise and pressure")
    page.press_at_once("Calibrator of 94 dB")
    page.wait(lambda: "120.0 dB SPL" in page.text("main"), seconds=60)
    page.press("Microphones")
    page.press("At the speakers")
    page.press("Meter and sources")
    page.fill("Source", "Pink noise")
    page.fill("on", "L")
    page.fill("Level, RMS", "-30")
    page.press("Use source")
    page.press_at_once("Start")
    page.wait(lambda: page.text("[data-figure]")[:1].isdigit() and "last 8 s" in page.text("main"), seconds=30)
    shot("rig-meter")
    page.press_at_once("Stop")
    page.wait(lambda: not page.all("[data-live]"))
    page.ready()
    page.open("/jobs/4/takes")
    page.find('[data-cell="C-5"] .cell-open').click()
    page.wait(lambda: page.all("#cell-card figure[data-plot-state=drawn]"))
    shot("takes")
    page.open("/jobs/3/align?sheet=subs&shown=kept-1")
    shot("align-subs")
    page.open("/jobs/4/align?sheet=subs")
    page.press_at_once("Search for all seats")
    page.wait(lambda: page.all("svg.trade circle"), seconds=90)
    page.ready()
    page.press("Use these settings")
    page.press("Crossovers")
    page.press("Evening colours")
    page.press("Use these crossovers")
    shot("align-crossover")
    page.press("Day colours")
    page.press("Levels and arrivals")
    shot("align")
    # The same room by convolution, for all seats and for the first alone.
    page.open("/jobs/4/shape?channel=C&sheet=seat_weighting")
    page.find("details:has(#f-method) > summary").click()
    page.fill("Correct by", "convolution")
    for name, seat_weighting in (("every seat", ""), ("the first", "Director only")):
        if seat_weighting:
            page.fill("For", seat_weighting)
            page.wait(lambda: "Director only" in page.text(".seat-weightings .in-front"))
            page.ready()
        page.press_at_once("Find filters again" if seat_weighting else "Find filters")
        page.wait(lambda: page.all("#filter-search progress"), seconds=90)
        page.wait(
            lambda: page.all(".seat-weightings .in-front") and not page.all("#filter-search progress"), seconds=90
        )
        page.ready()
        page.fill("Correction called", name)
        page.press("Save correction")
        if not seat_weighting:
            page.press("Filters")
            driver.execute_script("window.scrollTo(0, 0)")
            page.wait(lambda: page.all("[data-value=expected]"))
            shot("shape-convolution")
            page.press("Seat weightings and versions")
    driver.execute_script("window.scrollTo(0, 0)")
    page.wait(lambda: page.all("[data-value=expected]"))
    shot("shape-seat-weighting")
    page.open("/jobs/3/load?sheet=listen")
    page.press_at_once("Render")
    page.wait(lambda: page.all("[data-player-state=ready]"), seconds=60)
    page.ready()
    shot("listen")
    driver.quit()


if __name__ == "__main__":
    main(sys.argv[1])
