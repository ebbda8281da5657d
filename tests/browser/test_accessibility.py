"""axe-core on every page, in both colour schemes."""

from pathlib import Path

import pytest
from pages import Page

from dolce.services.sample.demo import BARN, NET_LOFT, UNTOUCHED

AXE = (Path(__file__).parent / "vendor" / "axe-core-4.14.1" / "axe.min.js").read_text()
RUN = """const [options, done] = arguments;
axe.run(document, {resultTypes: ['violations'], ...options}).then((r) => done(r.violations))"""
# What a scheme can change: the rules for colours, but for those of level AAA, which are not promised.
OF_COLOUR = """document.documentElement.dataset.theme = 'evening';
return axe.getRules(['cat.color']).filter((r) => !r.tags.includes('wcag2aaa')).map((r) => r.ruleId)"""
STOPS = ("room", "rig", "takes", "read", "align", "shape", "load", "prove")


@pytest.fixture(scope="module", autouse=True)
def axe(driver):
    """Every page that is opened has it."""
    given = driver.execute_cdp_cmd("Page.addScriptToEvaluateOnNewDocument", {"source": AXE})
    yield
    driver.execute_cdp_cmd("Page.removeScriptToEvaluateOnNewDocument", given)


def faults_of(page: Page) -> list[str]:
    """By all rules as the page is; then in the evening's colours, the same page, by those that look at colours."""
    found = page.driver.execute_async_script(RUN, {})
    rules = page.driver.execute_script(OF_COLOUR)
    assert {"color-contrast", "link-in-text-block"} <= set(rules)
    found += page.driver.execute_async_script(RUN, {"runOnly": {"type": "rule", "values": rules}})
    page.driver.execute_script("document.documentElement.dataset.theme = 'light'")
    return [
        f"{v['id']}: {v['help']} at {v['nodes'][0]['target']} {v['nodes'][0].get('failureSummary', '')}" for v in found
    ]


def test_no_fault_on_any_page_of_the_demo_in_either_scheme_minor_ones_included(driver, demo, demo_job, demo_address):
    page = Page(driver, demo_address)
    untouched = next(job.id for job in demo.jobs.all() if job.name == UNTOUCHED)
    found = {}
    net_loft, barn = (next(job.id for job in demo.jobs.all() if job.name == name) for name in (NET_LOFT, BARN))
    loft_sheets, barn_sheets = (
        ("places&pick=L", "modes", "more&pick=corner-3"),
        ("spots&pick=seat-1", "findings", "subs&rank=1&kind=corners&n=2"),
    )
    paths = [
        "/",
        f"/jobs/{demo_job}/edit",
        "/help",
        "/jobs/999/room",
        f"/jobs/{demo_job}/load?sheet=listen",
        f"/jobs/{demo_job}/remote",
        *(f"/jobs/{n}/{stop}" for n in (demo_job, untouched) for stop in STOPS),
        f"/jobs/{barn}/takes",
        *(
            f"/jobs/{barn}/rig?sheet={sheet}"
            for sheet in (
                "microphones",
                "processor",
                "level",
                "lines",
                "noise",
                "reference",
                "subs",
                "meter",
                "spectrum",
                "faults",
            )
        ),
        *(f"/jobs/{net_loft}/room?sheet={sheet}" for sheet in loft_sheets),
        *(f"/jobs/{barn}/room?sheet={sheet}" for sheet in barn_sheets),
    ]
    for path in paths:
        if faults := faults_of(page.open(path)):
            found[path] = faults
    driver.get(f"{demo_address}/jobs/{barn}/room/spot-sheet")  # a sheet of paper, without scripts
    found |= {"spot sheet": faults} if (faults := faults_of(page)) else {}
    assert found == {}
    assert page.faults_in_console(expected=("404",)) == []


def test_no_fault_at_twice_the_size_nor_on_the_remote_in_a_phones_width(driver, demo, demo_job, demo_address):
    """WCAG 2.2, 1.4.10: at 200 % a window of 1280 by 800 has 640 by 400 to show; a phone has 390 by 844."""
    page, found = Page(driver, demo_address), {}
    other = Page(driver, demo_address)
    try:
        screen(driver, 640, 400)
        for stop in STOPS:
            if faults := faults_of(page.open(f"/jobs/{demo_job}/{stop}")):
                found[stop] = faults
            wide = driver.execute_script("return document.documentElement.scrollWidth")
            assert wide <= 640, f"{stop} is {wide} wide: it would have to be read by scrolling sideways"
        screen(driver, 390, 844)
        page.open(f"/jobs/{demo_job}/remote")
        page.fill("Address of this laptop", "127.0.0.1")
        page.fill("Connection", "plain HTTP: anyone on this network can read along and steer it")
        page.press_at_once("Switch it on")
        page.wait(lambda: page.all(".code"))
        code, address = page.text(".code"), page.text("main p strong")
        assert page.text(".code") not in driver.current_url
        driver.get(f"{address}/in/{code}")
        found |= {"door": faults} if (faults := faults_of(other)) else {}
        driver.find_element("css selector", "button").click()
        other.wait(lambda: other.all("#seat"))
        found |= {"seat": faults} if (faults := faults_of(other)) else {}
        # What an arm's length away has to be read is large, and nothing is cut off at the side.
        size = "return parseFloat(getComputedStyle(document.querySelector('.stop')).fontSize)"
        assert driver.execute_script(size) >= 24
        assert driver.execute_script("return document.documentElement.scrollWidth") <= 390
        driver.execute_script("document.querySelector('form[action$=\"/leave\"] button').click()")
        other.wait(lambda: "The remote has ended" in driver.page_source)
    finally:
        screen(driver, 1280, 800)
    assert found == {}


def screen(driver, width: int, height: int) -> None:
    driver.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride",
        {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 500},
    )
