"""Somebody who has never seen the application presses what it says, and nothing else."""

from pages import Page
from selenium.webdriver.common.keys import Keys

from dolce.services.sample.demo import UNTOUCHED

MOST_PRESSES = 30


def line(page: Page) -> str:
    return page.text("#next")


def test_a_newcomer_gets_from_the_start_page_to_a_proven_correction_and_its_report(driver, demo, demo_address):
    # A copy of the practice job, so that other tests find it untouched; its passes as fast as they compute.
    practice = next(job.id for job in demo.jobs.all() if job.name == UNTOUCHED)
    job = demo.jobs.copy(practice, with_takes=False, name="Practised").id
    demo.rigging.set_rig(job, pace="fast", sweep_seconds=1.0)
    page = Page(driver, demo_address).open("/")
    page.faults_in_console()
    page.type_into(f'a[href="/jobs/{job}"]', Keys.ENTER)
    page.ready()
    presses, said = 1, []
    while driver.title != "Practised: the report":
        presses += 1
        assert presses <= MOST_PRESSES, said
        page.wait(lambda: page.all("#next [data-next]"), seconds=60, why=f"nothing to press after {said}")
        before = line(page)
        said.append(before)
        page.type_into("body", "n")  # by the keyboard alone
        # What it began is done when it says something else.
        page.wait(
            lambda before=before: (
                driver.title == "Practised: the report"
                or (
                    driver.execute_script("return document.readyState") == "complete" and line(page) not in (before, "")
                )
            ),
            seconds=60,
            why=f"{before!r} does not go on",
        )
    demo.sound.wait()
    assert presses <= 15, said
    view = demo.proving.view(job)
    assert view.needs == ""
    assert view.after_round.corrects
    assert page.faults_in_console() == []
    demo.jobs.delete(job)
