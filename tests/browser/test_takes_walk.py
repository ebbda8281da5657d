"""A 5.1 job with two subs: a pass with pause and repeat, a take left out, a whole spot from a file, and every view."""

from dataclasses import replace

import numpy as np
from pages import Page

from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import net_loft
from recordings import flac, of_whole_spot


def test_a_job_with_two_subs_is_taken_paused_repeated_imported_and_read(driver, address, tmp_path):
    place, services = address
    plan = net_loft()
    job = services.jobs.create(JobDetails(name="Loft"), plan=replace(plan, spots=plan.spots[:3]))
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    page = Page(driver, place).open(f"/jobs/{job.id}/takes")
    page.faults_in_console()
    first, second, third = (spot.id for spot in job.spots)

    # Rows: another one of two channels at once, and subs averaged.
    page.press("What is taken, and how")
    page.click("fieldset.picks input[value=C]")
    page.click("fieldset.picks input[value=Sub1]")
    page.press("Add this row")
    page.fill("Averaged takes of Subs (Sub1, Sub2)", "2")
    page.press("Save row")
    assert services.jobs.get(job.id).rows.groups["subs"].repeats == 2
    page.press("Back to the board")
    assert "C + Sub1" in page.text(".board")

    # A pass over two columns, held before its first take, paused, and gone on with.
    page.click("details summary")
    page.fill("Wait before each spot", "60")
    for spot in (first, second):
        driver.execute_script("window.scrollTo(0, 0)")  # the header stays on top of what is scrolled
        page.click(f"thead label:has(input[value='{spot}'])")
    page.press_at_once("Run all that is missing")
    page.wait(lambda: "Begins in" in page.text("#pass"))
    page.press_at_once("Pause")
    page.wait(lambda: "Paused" in page.text("#pass"))
    page.press_at_once("Go on")
    for number in (1, 2):
        page.wait(
            lambda n=number: "Begins in" in page.text("#pass") and f"at spot {n}" in page.text("#pass-head"),
            seconds=60,
            why="no wait before the spot",
        )
        page.press_at_once("Begin now")
    page.wait(lambda: services.sound.running() is None, seconds=60)
    page.wait(lambda: "Next: spot 3" in page.text("main"))
    page.ready()
    board = services.taking.board(job.id)
    assert board.taken == 2 * len(services.jobs.get(job.id).feeds)
    assert board.takes["Sub1", first].repeats == 2

    # One cell again, and left out with a reason.
    page.click(f'[data-cell="Ls-{first}"] .cell-open')
    page.wait(lambda: "Ls at spot 1" in page.text("#cell-card"))
    page.press_at_once("Repeat")
    page.wait(lambda: services.taking.board(job.id).takes["Ls", first].attempt == 2)
    page.wait(lambda: services.sound.running() is None)
    page.open(f"/jobs/{job.id}/takes")
    page.click(f'[data-cell="Ls-{first}"] .cell-open')
    page.wait(lambda: "Ls at spot 1" in page.text("#cell-card"))
    page.fill("Why it is left out", "a chair creaked")
    page.press("Leave out of averages")
    page.wait(lambda: "a chair creaked" in page.text("#cell-card"))
    assert services.taking.board(job.id).takes["Ls", first].left_out == "a chair creaked"

    # The third spot from one recording.
    recording = tmp_path / "loft spot 3.flac"
    recording.write_bytes(flac(of_whole_spot(services.jobs.get(job.id), at=2)))
    page.open(f"/jobs/{job.id}/takes/imported")
    page.type_into("#imported-files-form input[type=file]", str(recording))
    page.press("Add files")
    page.wait(lambda: "whole spot" in page.text(".imported-files"), seconds=60)
    assert "by its name" in page.text(".imported-files")
    page.press("Keep what is sorted")
    page.wait(lambda: "9 takes kept" in page.text("#messages"))
    takes = services.taking.board(job.id).takes
    assert {take.source for (_, spot), take in takes.items() if spot == third} == {"file"}
    late = [takes["Rs", spot].arrival_s - takes["L", spot].arrival_s for spot in (second, third)]
    assert np.all(np.abs(late) < 2e-3)
    page.press("Back to the board")
    assert "The board is full" in page.text("main")

    # Every view, rows of several channels too.
    page.open(f"/jobs/{job.id}/read?channel=L&channel=Sub1&channel=C_Sub1&front=L&place=spot-{first}")
    for view in (
        "phase",
        "delay",
        "impulse",
        "step",
        "energy",
        "slices",
        "map",
        "times",
        "distortion",
        "noise",
        "seats",
        "level",
    ):
        page.click(f"label:has(input[value={view}])")
        page.wait(lambda v=view: f"view={v}" in driver.current_url)
        page.ready()
        assert page.all("figure.plot svg .trace, figure.plot svg image"), view
    assert page.faults_in_console() == []
