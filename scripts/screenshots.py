"""Take the pictures of docs/screenshots from a running demo: `.venv/bin/python scripts/screenshots.py ADDRESS`.

The address is the one that `scripts/demo` prints; its data must be fresh, since the picture of a running pass is taken
of the job to practise.
"""

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests" / "browser"))

from pages import Page
from selenium import webdriver
from selenium.webdriver.chrome.service import Service

from conftest import FLAGS

TO = Path(__file__).parents[1] / "docs" / "screenshots"


def main(address: str) -> None:
    """One PNG of 1280x800 per main view."""
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for flag in FLAGS:
        options.add_argument(flag)
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride",
                           {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False})
    page = Page(driver, address)

    def shot(name: str) -> None:
        driver.save_screenshot(str(TO / f"{name}.png"))

    page.open("/")
    shot("jobs")
    for stop in ("room", "rig", "takes", "read", "align", "shape", "load", "prove"):
        page.open(f"/jobs/1/{stop}")
        shot(stop)
    for name, address in (
            ("room-7-1-4", "/jobs/4/room?sheet=spots&pick=Ls"),
            ("room-findings", "/jobs/3/room?sheet=findings&pick=Rs"),
            ("room-modes", "/jobs/4/room?sheet=modes&mode=6"),
            ("room-subs", "/jobs/4/room?sheet=subs&rank=1&n=3&kind=corners&kind=middles&kind=quarters")):
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
    page.press_at_once("It gives 94 dB")
    page.wait(lambda: "120.0 dB SPL" in page.text("main"), seconds=60)
    page.press_at_once("Listen to the room")
    page.wait(lambda: not page.all("[data-busy]") and page.all(".noise-bar"), seconds=60)
    page.ready()
    shot("rig-noise")
    driver.get(f"{page.address}/jobs/4/room/spot-sheet")
    shot("room-spot-sheet")
    page.open("/jobs/2/takes")
    page.press_at_once("Run all that is missing")
    page.wait(lambda: "Now: R at spot 2" in page.text("main"), seconds=60)
    shot("takes-running")
    page.find("[data-stop-sound]").click()
    page.open("/jobs/1/shape")
    page.press("Evening colours")
    page.open("/jobs/1/shape")
    shot("shape-evening")
    driver.quit()


if __name__ == "__main__":
    main(sys.argv[1])
