"""axe-core on every page, in both colour schemes."""

from pathlib import Path

import pytest
from pages import Page

from dolce.services.sample.demo import BARN, NET_LOFT, UNTOUCHED

AXE = (Path(__file__).parent / "vendor" / "axe-core-4.14.1" / "axe.min.js").read_text()
RUN = "const done = arguments[0]; axe.run(document, {resultTypes: ['violations']}).then((r) => done(r.violations))"
STOPS = ("room", "rig", "takes", "read", "align", "shape", "load", "prove")


def serious(page: Page) -> list[str]:
    page.driver.execute_script(AXE)
    return [f"{v['id']}: {v['help']} at {v['nodes'][0]['target']} {v['nodes'][0].get('failureSummary', '')}"
            for v in page.driver.execute_async_script(RUN) if v["impact"] in ("serious", "critical")]


@pytest.mark.parametrize("theme", ["light", "evening"])
def test_no_serious_fault_on_any_page_of_the_demo(driver, demo, demo_job, demo_address, theme):
    page = Page(driver, demo_address).open("/")
    driver.execute_script("localStorage.setItem('dolce-theme', arguments[0])", theme)
    untouched = next(job.id for job in demo.jobs.all() if job.name == UNTOUCHED)
    found = {}
    net_loft, barn = (next(job.id for job in demo.jobs.all() if job.name == name) for name in (NET_LOFT, BARN))
    loft_sheets, barn_sheets = ("places&pick=L", "modes", "more&pick=corner-3"), (
        "spots&pick=seat-1", "findings", "subs&rank=1&kind=corners&n=2")
    paths = ["/", "/jobs/999/room", *(f"/jobs/{n}/{stop}" for n in (demo_job, untouched) for stop in STOPS),
             f"/jobs/{barn}/takes",
             *(f"/jobs/{barn}/rig?sheet={sheet}" for sheet in ("microphones", "processor", "level", "lines", "noise",
                                                      "reference", "subs", "meter", "spectrum", "faults")),
             *(f"/jobs/{net_loft}/room?sheet={sheet}" for sheet in loft_sheets),
             *(f"/jobs/{barn}/room?sheet={sheet}" for sheet in barn_sheets)]
    if theme == "evening":
        # The schemes differ in colours alone: the same pages with other data need not be seen twice.
        paths = [p for p in paths if not p.startswith(f"/jobs/{untouched}/") and "/room?sheet" not in p
                 and p not in [f"/jobs/{barn}/{stop}" for stop in STOPS]]
    for path in paths:
        if faults := serious(page.open(path)):
            found[path] = faults
    driver.execute_script("localStorage.setItem('dolce-theme', 'light')")
    driver.get(f"{demo_address}/jobs/{barn}/room/spot-sheet")              # a sheet of paper, without scripts
    found |= {"spot sheet": faults} if (faults := serious(page)) else {}
    assert found == {}
    assert page.faults_in_console(expected=("404",)) == []
