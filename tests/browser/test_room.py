"""The Room stop in a real browser: drag, type, keys, mirror, undo, findings, modes, subs, zoom and print."""

import base64
import io
import json

import pypdf
import pytest
from pages import Page
from selenium.webdriver import ActionChains
from selenium.webdriver.common.keys import Keys

from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import barn


@pytest.fixture
def room(driver, address):
    """The barn on its Room page, with the services behind it."""
    place, services = address
    job_id = services.jobs.create(JobDetails(name="Barn"), plan=barn()).id
    page = Page(driver, place).open(f"/jobs/{job_id}/room")
    yield page, services, job_id
    assert page.faults_in_console(expected=("422",)) == []


def plan_of(room):
    return room[1].jobs.get(room[2]).plan


def scale(page, which="xy"):
    """Pixels on the screen per metre."""
    drawing = page.find(f"[data-plan={which}]")
    box = [float(v) for v in drawing.get_dom_attribute("viewBox").split()]
    shown = drawing.rect
    return float(drawing.get_attribute("data-scale")) * min(shown["width"] / box[2], shown["height"] / box[3])


def test_dragging_shows_what_would_follow_and_leaves_a_ghost(room):
    page, _, _ = room
    before = plan_of(room)
    speaker = page.find("[data-plan=xy] [data-thing=L]")
    speaker.click()
    page.wait(lambda: page.text("#room-live h2").startswith("L"))
    page.ready()
    first = page.text("[data-notch='front wall']")
    speaker = page.find("[data-plan=xy] [data-thing=L]")
    ActionChains(page.driver).click_and_hold(speaker).move_by_offset(30, 20).move_by_offset(30, 20).perform()
    page.wait(lambda: "Would move" in page.text("#room-live"))
    page.wait(lambda: page.text("[data-notch='front wall']") != first)
    assert page.all(".ghost-now")
    assert plan_of(room) == before  # nothing is kept while it is held
    ActionChains(page.driver).release().perform()
    page.wait(lambda: "Moved" in page.text("#room-live"))
    page.ready()
    after = plan_of(room)
    by = after.speaker("L").place.x_m - before.speaker("L").place.x_m
    assert by == pytest.approx(60 / scale(page), abs=0.03)
    # The barn moves pairs mirrored, and both old places stay to be seen.
    assert after.speaker("R").place.x_m == pytest.approx(before.size.width_m - after.speaker("L").place.x_m)
    assert len(page.all("[data-plan=xy] .ghost")) == 2
    page.press("Put back")
    assert plan_of(room) == before
    page.press("Redo moving L")
    assert plan_of(room) == after


def test_escape_ends_a_drag_and_keeps_the_place(room):
    page, _, _ = room
    before = plan_of(room)
    ActionChains(page.driver).click_and_hold(page.find("[data-plan=xy] [data-thing=C]")).move_by_offset(
        20, 30
    ).send_keys(Keys.ESCAPE).release().perform()
    page.ready()
    assert plan_of(room) == before
    assert not page.all(".ghost-now")


def test_heights_are_dragged_in_the_elevation_and_stepped_by_keys(room):
    page, _, _ = room
    before = plan_of(room).speaker("C").place
    ActionChains(page.driver).drag_and_drop_by_offset(page.find("[data-plan=yz] [data-thing=C]"), 0, -14).perform()
    page.wait(lambda: plan_of(room).speaker("C").place != before)
    page.ready()
    raised = plan_of(room).speaker("C").place
    assert raised.z_m - before.z_m == pytest.approx(14 / scale(page, "yz"), abs=0.03)
    assert raised.x_m == before.x_m
    thing = page.find("[data-plan=xy] [data-thing=C]")
    thing.send_keys(Keys.ARROW_LEFT)
    thing.send_keys(Keys.SHIFT + Keys.ARROW_DOWN)
    thing.send_keys(Keys.NULL + Keys.PAGE_UP)
    page.wait(lambda: plan_of(room).speaker("C").place != raised)
    page.ready()
    stepped = plan_of(room).speaker("C").place
    assert (stepped.x_m, stepped.y_m, stepped.z_m) == pytest.approx(
        (raised.x_m - 0.01, raised.y_m + 0.10, raised.z_m + 0.01), abs=1e-3
    )
    # A burst of keys is one step.
    page.press("Undo moving C")
    assert plan_of(room).speaker("C").place == raised


def test_layouts_places_and_properties_are_typed(room):
    page, _, _ = room
    page.fill("Layout", "5.1.4")
    page.press("Set layout")
    assert "Lrs" not in plan_of(room).channels
    page.fill("Ls x", "0.5")
    page.press("Set place of Ls")
    assert plan_of(room).speaker("Ls").place.x_m == 0.5
    assert plan_of(room).speaker("Rs").place.x_m == pytest.approx(5.7)
    page.fill("Ls y", "77")
    page.press("Set place of Ls")
    assert "lies outside the room" in page.text("#picked")
    page.press("C")
    page.click("#picked summary")
    page.fill("Aim", "Straight")
    page.press("Set C")
    assert plan_of(room).speaker("C").aim == "straight"
    page.type_into("body", Keys.CONTROL + "z")
    page.wait(lambda: plan_of(room).speaker("C").aim == "main seat")
    page.ready()


def test_findings_are_set_aside_with_a_reason_and_come_back_when_things_move(room):
    page, _, _ = room
    page.press("Findings 12")
    title = page.text(".finding h3")
    page.click(".finding summary")
    page.fill(f"Reason for {title}", "behind the screen")
    page.press(f"Set aside: {title}")
    assert page.text(".aside-list li").startswith(f"{title}: behind the screen")
    assert page.text(".finding h3") != title
    before = plan_of(room)
    page.type_into("[data-plan=xy] [data-thing=C]", Keys.SHIFT + Keys.ARROW_DOWN)
    page.wait(lambda: plan_of(room) != before)
    page.ready()
    page.wait(lambda: "the geometry has changed since" in page.text("#finding-list"))
    page.ready()
    assert not page.all(".aside-list li")


def test_modes_are_shown_over_the_plan(room):
    page, _, _ = room
    page.press("Modes")
    assert page.text(".key-line strong").startswith("96.8 Hz")  # 2000 sqrt(0.45 / 192)
    first = page.attribute(".shades", "innerHTML")
    page.press("39.8")
    assert page.attribute(".shades", "innerHTML") != first
    page.press("Bench middle")
    assert page.find("[aria-label=Seat] [aria-current]").text == "Bench middle"
    page.fill("At low frequencies", "0.9")
    page.press("Set")
    assert page.text(".key-line strong").startswith("137 Hz")  # twice the time: sqrt(2)


def test_subs_are_ranked_and_put_where_they_serve(room):
    page, _, _ = room
    page.press("Subs")
    page.fill("Subs", "2")
    page.press("Rank the places")
    assert "120 choices" in page.text(".sheet")  # 16 over 2
    assert len(page.all("[data-plan-state], figure[data-plot-state=drawn]")) == 2
    best = page.text(".ranking tr.picked th")
    page.press(f"Use places {best}")
    assert len(plan_of(room).subs) == 2
    page.press("Undo places of the subs")
    assert len(plan_of(room).subs) == 3


def test_zoom_stays_over_changes_until_the_whole_room_is_asked_for(room):
    page, _, _ = room
    whole = page.dom_attribute("[data-plan=xy]", "viewBox")
    page.press("Zoom in")
    near = page.dom_attribute("[data-plan=xy]", "viewBox")
    assert float(near.split()[2]) == pytest.approx(0.7 * float(whole.split()[2]), abs=0.1)
    page.press("Seats and spots")
    page.fill("Pattern", "Flat cluster, all at ear height")
    page.press("Lay out")
    assert page.dom_attribute("[data-plan=xy]", "viewBox") == near
    page.press("Whole room")
    shown = page.dom_attribute("[data-plan=xy]", "viewBox")
    assert [float(v) for v in shown.split()] == [float(v) for v in whole.split()]


def test_outline_is_drawn_by_its_corners(room):
    page, _, _ = room
    page.press("Shape, files")
    page.press("Draw another shape")
    page.press("3")
    page.press("Add a corner behind it")
    assert len(plan_of(room).outline) == 5
    corner = page.find("[data-plan=xy] [data-thing=corner-3]")
    ActionChains(page.driver).drag_and_drop_by_offset(corner, 0, -40).perform()
    page.wait(lambda: plan_of(room).outline[2][1] < 8.5)
    page.ready()
    page.press("A plain box again")
    assert plan_of(room).outline == ()


def test_spot_sheet_prints_on_one_page(room):
    page, _, job_id = room
    page.driver.get(f"{page.address}/jobs/{job_id}/room/spot-sheet")
    for landscape in (False, True):
        pdf = base64.b64decode(page.driver.execute_cdp_cmd("Page.printToPDF", {"landscape": landscape})["data"])
        document = pypdf.PdfReader(io.BytesIO(pdf))
        assert len(document.pages) == 1
        text = document.pages[0].extract_text()
        assert "Bench middle" in text
        assert "24" in text


def test_a_room_goes_out_and_comes_in_again(room, downloads, tmp_path):
    page, _, _ = room
    page.press("Shape, files")
    page.press_at_once("Room as JSON")
    page.wait(lambda: any(path.stat().st_size for path in downloads.glob("Barn room*.json")))
    values = json.loads(next(downloads.glob("Barn room*.json")).read_text())
    values["room"]["height_m"] = 4.0
    changed = tmp_path / "changed.json"
    changed.write_text(json.dumps(values))
    page.type_into("input[name=file]", str(changed))
    page.press("Use file")
    assert plan_of(room).size.height_m == 4.0
    page.press("Undo file changed.json")
    assert plan_of(room).size.height_m == 3.6
