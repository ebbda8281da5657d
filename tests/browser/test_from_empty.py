"""Somebody who has never seen the application makes a job and presses what it says, and nothing else."""

import pytest
from pages import Page


def line(page: Page) -> str:
    return page.text("#next")


@pytest.mark.parametrize(
    ("layout", "subs", "most"),
    [("2.0", "by layout", 22), ("7.1.4", "3", 36), pytest.param("5.1", "2", 32, marks=pytest.mark.slow)],
)
def test_an_empty_job_gets_to_its_report_by_the_next_line_alone(driver, demo, demo_address, layout, subs, most):
    page = Page(driver, demo_address).open("/")
    page.faults_in_console()
    page.fill("Name", "First try")
    page.fill("Layout", layout)
    page.fill("Subs", subs)
    page.press("Create job")
    presses, message = 1, [line(page)]
    job = max(job.id for job in demo.jobs.all())
    # What a person waits for here is not the matter: sweeps are short, and spots few.
    demo.rigging.set_rig(job, pace="fast", sweep_seconds=1.0)
    demo.room.lay_out_spots(job, "cluster", seat_id=1, count=3 if layout == "2.0" else 2, spacing_m=0.25)
    while driver.title != "First try: the report":
        presses += 1
        assert presses <= most, message
        if "Say where the microphone points" in message[-1] and not page.all("#next [data-next]"):
            page.press("At the ceiling")
        else:
            page.wait(lambda: page.all("#next [data-next]"), seconds=90, why=f"nothing to press after {message}")
            message[-1] = line(page)
            page.type_into("body", "n")  # by the keyboard alone
        # What it began is done when it says something else.
        page.wait(
            lambda before=message[-1]: (
                driver.title == "First try: the report"
                or (
                    driver.execute_script("return document.readyState") == "complete" and line(page) not in (before, "")
                )
            ),
            seconds=90,
            why=f"{message[-1]!r} does not go on",
        )
        message.append(line(page))
    demo.sound.wait()
    print(layout, presses, *message, sep="\n  ")
    view = demo.proving.view(job)
    assert view.needs == ""
    assert view.after_round.corrects
    assert page.faults_in_console() == []
    demo.jobs.delete(job)
