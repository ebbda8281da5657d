"""Presets compared by ear in the browser: rendered, switched while they play, turned, heard blind, noted."""

import pytest
from pages import Page
from selenium.webdriver.common.keys import Keys


@pytest.fixture
def job(shaped_address):
    _, services = shaped_address
    services.loading.load(1, "A", "corrected")
    services.loading.load(1, "B", "aligned")
    return 1


def player(page: Page) -> str:
    return page.driver.execute_script("return document.querySelector('[data-player]')?.dataset.playerState ?? ''")


def pressed(page: Page) -> list[str]:
    return page.driver.execute_script("return [...document.querySelectorAll('[data-sound]')].map((b) => b.ariaPressed)")


def test_presets_are_heard_switched_turned_and_told_apart_blind(driver, shaped_address, job):
    place, services = shaped_address
    page = Page(driver, place).open(f"/jobs/{job}/load")
    page.faults_in_console()
    page.press("Listen")
    page.press_at_once("Render")
    page.wait(lambda: player(page) == "ready", why="the player has not loaded what was rendered")
    audition = services.listening.view(job).audition
    assert page.text(".loudness tbody tr:nth-child(2) td:nth-child(3)") == (
        f"{abs(audition.match.gain_db[audition.keys[1]]):.1f} dB"
    )

    page.type_into("body", "p")
    page.wait(lambda: player(page) == "playing")
    page.type_into("body", "2")
    assert pressed(page) == ["false", "true"]
    page.wait(lambda: page.text("[data-player-words]").endswith("of 16.0 s"))

    # Preference: heard beside the others at the same place, while it plays.
    page.type_into("#f-bass_db", Keys.ARROW_RIGHT)
    page.wait(lambda: len(pressed(page)) == 3 and player(page) == "playing", why="what was turned is not heard")
    assert services.listening.view(job).audition.turned.bass_db == 0.5
    assert pressed(page)[1] == "true"

    page.press("Begin")
    for trial in range(1, 11):
        page.wait(lambda trial=trial: f"trial {trial} of 10" in page.text(".player-keys"))
        page.wait(lambda: player(page) in ("playing", "ready"))
        hidden = services.listening.view(job).blind.hidden[trial - 1]
        # Nothing on the page tells which one it is.
        assert hidden not in page.attribute("[data-sound]:last-child", "data-sound")
        page.press(f"It is {services.listening.view(job).audition.names[hidden]}")
    page.wait(lambda: "10 of 10 right" in page.text(".player .verdict"))
    assert "you hear the difference" in page.text(".player .verdict")

    page.type_into("#f-text", "A is tighter below 100 Hz.")
    page.press("Add to the logbook")
    assert "A is tighter below 100 Hz." in services.proving.logbook(job, before=10**6)[0].text

    # Stop silences the player as well.
    page.type_into("body", Keys.ESCAPE)
    page.wait(lambda: player(page) == "ready")
    assert page.faults_in_console() == []
