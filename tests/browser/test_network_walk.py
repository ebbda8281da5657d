"""A 5.1 job with two subs, from a chosen correction through a processor on the network to a proven report."""

import pytest
from pages import Page

from dolce.core.geometry import RoomSize
from dolce.core.processor import Crossover, Effects
from dolce.core.room import new_plan
from dolce.core.subs import SearchLimits
from dolce.services.jobs.job_keeping import JobDetails


@pytest.fixture
def job(address):
    """Taken at one seat, subs as one, crossovers and filters chosen: nothing loaded yet."""
    _, services = address
    plan = new_plan(RoomSize(length_m=5.6, width_m=4.2, height_m=2.7), layout="5.1", subs=2, spots=2)
    job_id = services.jobs.create(JobDetails(name="Loft"), plan=plan).id
    services.rigging.set_rig(job_id, pace="fast", sweep_seconds=1.0)
    services.taking.run_rest(job_id)
    services.sound.wait()
    services.aligning.use_proposal(job_id)
    services.workbench.search(job_id, SearchLimits())
    services.workbench.wait(job_id)
    services.workbench.use(job_id, "search")
    services.crossing.set_crossovers(
        job_id, {"fronts": Crossover(frequency_hz=80.0), "surrounds": Crossover(frequency_hz=100.0)}, effects=Effects()
    )
    services.finding.find(job_id)
    return job_id


def test_5_1_is_loaded_over_the_network_taken_through_it_and_proven(driver, address, job):
    place, services = address
    page = Page(driver, place).open(f"/jobs/{job}/rig?sheet=processor")
    page.faults_in_console()
    page.press("Start a stand-in")
    port = services.network.view(job).own_port
    page.wait(lambda: services.network.look_around() or not services.network.view(job).starting, seconds=60)
    page.press("Look for processors")
    page.press(f"Connect Stand-in at 127.0.0.1:{port}")
    page.wait(lambda: f"Stand-in at 127.0.0.1:{port} is the one that Dolce loads" in page.text("main"))
    assert services.network.view(job).mismatches == ()

    page.stop("Load")
    rows = driver.execute_script(
        "return [...document.querySelectorAll('table.outputs tbody tr')].map((r) => r.innerText.trim())"
    )
    assert [row.split()[0] for row in rows] == list(services.jobs.get(job).channels)
    assert "from 80 Hz" in rows[0]
    page.press("Load preset A")
    page.wait(lambda: page.all('[aria-label="Play preset A"]:not([disabled])'))
    page.press("Play preset A")
    page.wait(lambda: "A, Aligned and corrected" in page.text(".top"))

    page.stop("Takes")
    page.press("Start a new round")
    page.press_at_once("Run all that is missing")
    page.wait(lambda: services.taking.board(job).taken == services.taking.board(job).wanted, seconds=60)
    services.sound.wait()
    page.open(f"/jobs/{job}/prove")
    page.wait(lambda: page.text(".verdict-line"))
    view = services.proving.view(job)
    assert view.needs == ""
    assert page.text(".verdict-line").startswith("Proven" if view.passed else "Not proven.")
    assert page.text('[data-proof="L"] [data-value="after"]') == (
        f"{view.channels['L'].proof.outcome.after_range_db:.2f} dB"
    )
    assert "80 Hz" in page.text('[data-proof="L"]')  # the crossover, measured again
    page.press_at_once("Read, print or save it")
    page.wait(lambda: driver.title == "Loft: the report")
    report = page.text("body")
    for message in ("Loft", "80 Hz", "Sub1", "Aligned and corrected"):
        assert message in report
    services.network.stop_stand_in()
    assert page.faults_in_console() == []
