"""A correction by each kind of filter, for two seat weightings, with an overruled verdict and a dragged band."""

import pytest
from pages import Page
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from rooms import two_seats_taken


@pytest.fixture
def job(address):
    """A pair at two seats, taken and aligned."""
    _, services = address
    return two_seats_taken(services, layout="2.0", subs=0)


def find(page, services, job_id):
    """Press Find filters and wait for the curves that came of it."""
    before = services.shaping.view(job_id).version
    page.press_at_once("Find filters again" if services.shaping.view(job_id).found else "Find filters")
    page.wait(lambda: services.shaping.view(job_id).version != before and services.finding.searches.of(job_id).done)
    services.finding.searches.wait(job_id)
    version = services.shaping.view(job_id).version
    page.wait(lambda: driver_value(page, ".undo input[name=seen]") == version, why="the page did not follow")
    page.ready()
    agrees(page, services, job_id)


def driver_value(page, css):
    """Value of a field, read in one call."""
    return page.driver.execute_script("return document.querySelector(arguments[0])?.value", css)


def agrees(page, services, job_id, channel="L"):
    """The numbers on the page are the core's."""
    shape = services.shaping.view(job_id, channel).shape
    assert page.text('[data-value="deviation"]') == (
        f"{shape.before_deviation_db:.1f} to {shape.predicted_deviation_db:.1f} dB"
    )
    assert page.text('[data-value="headroom"]') == f"{shape.headroom.gain_db:.1f} dB"
    page.wait(lambda: page.all('[data-value="expected"]'))
    expected = services.shaping.expected(job_id, channel)
    assert page.text('[data-value="expected"]') == f"{expected.after_at_new_spots_db:.1f} dB"


def test_a_correction_by_each_kind_of_filter_for_two_seat_weightings(driver, address, job):
    place, services = address
    page = Page(driver, place).open(f"/jobs/{job}/shape")
    page.faults_in_console()
    find(page, services, job)

    # A band dragged: the curve follows before it is let go, then the band is where it was dropped, on its steps.
    band = services.shaping.correction(job).bands["L"][0]
    handle = page.find(f'[data-handle="{band.id}"]')
    ActionChains(driver).click_and_hold(handle).move_by_offset(14, 20).perform()
    page.wait(lambda: page.attribute("#shape-plot", "data-previews"), why="no preview came")
    assert services.shaping.correction(job).bands["L"][0] == band
    ActionChains(driver).release().perform()
    page.wait(lambda: services.bands.band(job, "L", band.id) != band)
    page.ready()
    moved = services.bands.band(job, "L", band.id).filter
    assert moved.frequency_hz > band.filter.frequency_hz
    assert moved.gain_db < band.filter.gain_db
    assert round(moved.gain_db, 1) == moved.gain_db
    agrees(page, services, job)
    # By keys: half a dB, and Q with Shift.
    page.type_into(f'[data-handle="{band.id}"]', Keys.ARROW_UP)
    higher = pytest.approx(moved.gain_db + 0.5, abs=0.06)
    page.wait(lambda: services.bands.band(job, "L", band.id).filter.gain_db == higher)
    page.ready()

    # A region pressed on the strip, and its verdict overruled.
    page.click(".strip-part[data-at]")
    page.wait(lambda: page.all(".evidence-panel"))
    page.ready()
    page.fill("Rather", "leave")
    page.press("Overrule")
    assert "needs a reason" in page.text(".evidence-panel")
    page.fill("Rather", "leave")
    page.fill("because", "the owner likes it")
    page.press("Overrule")
    assert services.shaping.correction(job).overruled["L"][0].reason == "the owner likes it"
    assert "yours" in page.text(".regions")

    # Every other means.
    for means, message in (("fixed bands", "Graphic equaliser of L"), ("convolution", "minimum phase")):
        if not page.find("#f-method").is_displayed():
            page.click("details:has(#f-method) > summary")
        page.fill("Correct by", means)
        find(page, services, job)
        page.press("Filters")
        assert message in page.text("#shape-card")
        agrees(page, services, job)

    # Another seat weighting beside the first.
    page.press("Seat weightings and versions")
    page.fill("Correction called", "both")
    page.press("Save correction")
    seats = services.jobs.get(job).plan.seats
    page.fill(seats[0].name, "0")
    page.fill("Bench", "0")
    page.press("Correct for this seat weighting")
    assert "no seat has a weight" in page.text(".seat-weighting-forms")
    page.fill("Bench", "1")
    page.press("Correct for this seat weighting")
    find(page, services, job)  # on the sheet where it was asked for
    rows = services.versions.table(job).rows
    assert [row.name for row in rows] == ["as it is now", "both"]
    for row in rows:
        assert f"{row.before_db[1]:.1f} to {row.after_db[1]:.1f}" in page.text(".seat-weightings")
    page.press("Use both")
    assert services.shaping.correction(job).name == "both"
    assert page.faults_in_console(expected=("422",)) == []


def test_a_target_with_two_points_is_told_at_its_field_and_nothing_is_lost(driver, address, job):
    place, services = address
    page = Page(driver, place).open(f"/jobs/{job}/shape")
    page.fill("Follow", "typed points")
    page.fill("Points", "20 6\n200 0")
    page.fill("Tilt", "-0.5")
    page.press("Set target only")
    assert "at least three" in page.text(".only-points")
    assert page.attribute("#f-points", "value") == "20 6\n200 0"
    assert services.shaping.correction(job).target.curve is None
    page.fill("Points", "20 6\n200 0\n16000 -3")
    page.press("Set target only")
    target = services.shaping.correction(job).target
    assert (target.curve.level_db, target.tilt_db_per_octave) == ((6, 0, -3), -0.5)
    assert page.faults_in_console(expected=("422",)) == []


def test_a_point_is_drawn_a_band_heard_and_a_switch_turned(driver, address, job):
    place, services = address
    services.finding.find(job)
    page = Page(driver, place).open(f"/jobs/{job}/shape")
    page.faults_in_console()
    page.fill("Follow", "typed points")
    page.press("Set target only")

    def points():
        curve = services.shaping.correction(job).target.curve
        return list(zip(curve.frequency_hz, curve.level_db, strict=True))

    before = points()
    ActionChains(driver).drag_and_drop_by_offset(page.all(".target-point")[1], 20, -30).perform()
    page.wait(lambda: points() != before)
    page.ready()
    assert points()[1][0] > before[1][0]
    assert points()[1][1] > before[1][1] + 2
    page.all(".target-point")[1].send_keys(Keys.DELETE)
    page.wait(lambda: len(points()) == 5)
    page.ready()
    # The line pressed right beside a point, at its height, sets one there.
    line = page.find(".target-hit")
    box, point = line.rect, page.all(".target-point")[2].rect
    ActionChains(driver).move_to_element_with_offset(
        line,
        round(point["x"] + point["width"] / 2 + 40 - box["x"] - box["width"] / 2),
        round(point["y"] + point["height"] / 2 - box["y"] - box["height"] / 2),
    ).click().perform()
    page.wait(lambda: len(points()) == 6)
    page.ready()

    page.press("Hear band a go in and out of noise")
    page.wait(lambda: "plays noise" in page.text("#hearing"))
    page.wait(lambda: "without the band" in page.text("#hearing"), why="it did not go out by itself")
    page.wait(lambda: "with the band" in page.text("#hearing"), why="it did not come back by itself")
    driver.find_element("tag name", "body").send_keys(Keys.ESCAPE)
    page.wait(lambda: page.text("#hearing") == "")
    assert services.sound.wait(5)

    page.press("Switches")
    page.fill("Model", "Nearfield")
    page.fill("Switch", "Treble")
    page.fill("is a", "high shelf or treble")
    page.press("Add the switch")
    search = services.switching.view(job, "L").search
    page.fill("Treble, shall be", "−6 dB")
    page.press("Set switches")
    assert "Turn Treble from 0 dB to −6 dB" in page.text("#shape-card")
    assert f"{search.before_db:.1f}" in page.text("#shape-card")
    assert page.faults_in_console() == []
