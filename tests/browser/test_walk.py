"""The whole way on a new job, in a real browser; what stands on the screen is compared with the core."""

import io
import re
import zipfile

import numpy as np
import pytest
import soundfile
from pages import Page, serving
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from dolce.core.correction import deviation_db
from dolce.core.filters import chain_level_db
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.read.options import ReadOptions
from dolce.services.wiring import open_services


def number(text: str) -> float:
    return float(re.search(r"[+−-]?\d+(\.\d+)?", text)[0].replace("−", "-"))


def test_a_new_job_from_nothing_to_proven(driver, address, downloads, tmp_path):
    place, services = address
    page = Page(driver, place).open("/")
    assert "No job yet" in page.text("main")

    page.press("Create job")  # without a name
    assert "needs a name" in page.text("main")
    page.fill("Name", "Ropewalk studio")
    page.press("Create job")
    assert "Ropewalk studio" in page.text("header")
    job_id = services.jobs.all()[0].id

    # Room: size, a typed place, a fault, a drag, keys, spots.
    page.fill("Length", "5,2")
    page.press("Set size")
    assert services.jobs.get(job_id).room.length_m == pytest.approx(5.2)
    page.fill("L x", "9")
    page.press("Set place of L")
    assert "lies outside the room" in page.text("main")
    page.fill("L x", "1.05")
    page.press("Set place of L")
    assert services.jobs.get(job_id).speaker("L").place.x_m == pytest.approx(1.05)
    before = services.jobs.get(job_id).speaker("R").place
    scale = float(page.attribute("[data-plan]", "data-scale"))
    zoom = page.find("[data-plan] .walls").rect["width"] / (services.jobs.get(job_id).room.width_m * scale)
    ActionChains(driver).drag_and_drop_by_offset(page.find('[data-thing="R"]'), 20, 12).perform()
    page.wait(lambda: services.jobs.get(job_id).speaker("R").place != before)
    page.ready()
    moved = services.jobs.get(job_id).speaker("R").place
    assert moved.x_m - before.x_m == pytest.approx(20 / zoom / scale, abs=0.02)
    page.type_into('[data-thing="seat-1"]', Keys.ARROW_DOWN)
    page.wait(lambda: services.jobs.get(job_id).seat.place.y_m == pytest.approx(0.42 * 4.6 + 0.01, abs=0.006))
    page.ready()
    page.press("Seats and spots")
    page.fill("How many", "3")
    page.press("Lay out")
    assert len(page.all("[data-plan=xy] .thing.spot")) == 3

    # Rig: pace, faulty and good calibration file, level.
    page.stop("Rig")
    page.fill("Pace", "as fast as it computes")
    page.press("Save")
    page.press("Level")
    page.fill("Sweep length", "2")
    page.press("Save")
    page.press("Microphones")
    page.press("At the speakers")
    page.fill("Name", "Stand microphone")
    page.press("Add and use")
    faulty = tmp_path / "faulty.txt"
    faulty.write_text("20 0\nwords here\n")
    page.type_into("input[name=curve]", str(faulty))
    page.press("Read curve for 0° of Stand microphone")
    assert "line 2" in page.text("main")
    good = tmp_path / "microphone.txt"
    good.write_bytes(services.microphones.rehearsal_curve())
    page.type_into("input[name=curve]", str(good))
    page.press("Read curve for 0° of Stand microphone")
    assert page.attribute("#mic-curve", "data-plot-state") == "drawn"
    page.press("Level")
    page.press("Check the level")
    page.wait(lambda: "good" in page.text('[data-level="R"]'))
    page.ready()

    # Takes: one spot, then a stop in the middle, then the rest.
    page.stop("Takes")
    page.press_at_once("Run spot 1")
    page.wait(lambda: "Next: spot 2" in page.text("main"))
    assert page.text('[data-cell="L-1"] .word') == "clean"
    page.stop("Rig")
    page.fill("Pace", "as long as a real one")
    page.press("Save")
    page.stop("Takes")
    page.press_at_once("Run spot 2")
    page.wait(lambda: "Now: L at spot 2" in page.text("main"))
    page.type_into("body", Keys.ESCAPE)
    page.wait(lambda: "Stopped by hand" in page.text("main"))
    assert services.taking.board(job_id).taken >= 2
    page.stop("Rig")
    page.fill("Pace", "as fast as it computes")
    page.press("Save")
    page.stop("Takes")
    page.press_at_once("Run all that is missing")
    page.wait(lambda: "The board is full" in page.text("main"), seconds=40)
    page.ready()

    # A recording made elsewhere, put on a cell: unknown delay is said.
    third = services.jobs.get(job_id).spots[2].id
    take = services.taking.board(job_id).takes[("R", third)]
    data, _ = services.recordings.original(job_id, take.id)
    samples, rate = soundfile.read(io.BytesIO(data))
    soundfile.write(tmp_path / "recorder.wav", samples, rate, subtype="PCM_16")
    page.click(f'[data-cell="R-{third}"] .cell-open')
    page.wait(lambda: page.all("#cell-card input[type=file]"))
    page.type_into("#cell-card input[type=file]", str(tmp_path / "recorder.wav"))
    page.press("Use it")
    page.wait(lambda: "absolute delay is not known" in page.text("#messages"))
    assert page.text(f'[data-cell="R-{third}"] .word') == "clean, file"

    # Read: the plot's read-out says what the core says.
    page.stop("Read")
    page.type_into("#plot svg", Keys.ARROW_RIGHT)
    text = page.text("#plot .readout")
    view = services.reading.view(job_id, ReadOptions())
    at = float(re.match(r"([\d.]+)", text)[1]) * (1000 if "kHz" in text.split(":")[0] else 1)
    k = int(np.argmin(np.abs(ANALYSIS_GRID_HZ - at)))
    left = number(re.search(r"Left, average of 3 ([−\d.]+)", text)[1])
    assert left == pytest.approx(view.curves[0].average.level_db[k], abs=0.06)
    page.click("label:has(input[value=impulse])")
    page.wait(lambda: page.attribute("#plot", "data-plot") == "impulse")
    page.ready()

    # Align: the proposal on the screen is the core's.
    page.stop("Align")
    alignment_table = services.aligning.view(job_id).alignment_table
    for channel_row in alignment_table.channel_rows:
        row = f'[data-row="{channel_row.reading.channel}"]'
        assert number(page.text(f'{row} [data-value="level"]')) == pytest.approx(
            channel_row.reading.level_db, abs=0.006
        )
        shown = page.attribute(f"{row} input[name^=trim]", "value")
        assert float(shown) == pytest.approx(channel_row.trim_db, abs=0.01)
    page.press("Use the proposal")
    assert services.aligning.view(job_id).chosen is not None

    # Shape: limits with a fault, the fit, an edit, undo and redo.
    page.stop("Shape")
    page.fill("Range from", "900")
    page.press("Find filters")
    assert "upside down" in page.text("main")
    page.fill("Range from", "40")
    page.fill("Bass lift", "2")
    page.press_at_once("Find filters")
    page.wait(lambda: page.all("table.bands tbody tr"), why="no filters were found")
    page.ready()
    left = services.shaping.view(job_id, "L").shape
    assert len(page.all("table.bands tbody tr")) == len(left.bands) > 3
    correction = chain_level_db([b.filter for b in left.bands], at_hz=ANALYSIS_GRID_HZ, sample_rate_hz=48_000)
    predicted = deviation_db(ANALYSIS_GRID_HZ, left.before_db + correction, left.target_db, band_hz=(40, 500))
    assert page.text('[data-value="deviation"]').endswith(f"to {predicted:.1f} dB")
    gain = '[data-band="1"] input[name=gain_db]'
    before = page.attribute(gain, "value")
    page.fill("Band a, gain in dB", "-9" + Keys.TAB)  # leaving the field is enough
    page.wait(lambda: services.shaping.view(job_id).correction.bands["L"][0].filter.gain_db == -9)
    page.ready()
    assert services.shaping.view(job_id).correction.bands["L"][0].filter.gain_db == -9
    headroom = page.text('[data-value="headroom"]')
    assert headroom == f"{services.shaping.view(job_id, 'L').shape.headroom.gain_db:.1f} dB"
    driver.execute_script("document.activeElement.blur()")
    ActionChains(driver).key_down(Keys.CONTROL).send_keys("z").key_up(Keys.CONTROL).perform()
    page.wait(lambda: services.shaping.view(job_id).correction.bands["L"][0].filter.gain_db != -9)
    page.ready()
    assert page.attribute(gain, "value") == before
    page.press("Band a is on, switch off")
    assert not services.shaping.view(job_id).correction.bands["L"][0].on
    page.press("Undo switch of band 1, L")

    # Load: a preset, playing it, the package.
    page.stop("Load")
    page.press("Load preset A")
    page.press("Play preset A")
    assert "A, Aligned and corrected" in page.text("#top-state")
    page.press_at_once("Save all as ZIP")
    target = downloads / "dolce-ropewalk-studio.zip"
    page.wait(lambda: target.exists() and zipfile.is_zipfile(target))  # its name stands there before it is whole
    assert "README.txt" in zipfile.ZipFile(target).namelist()

    # Prove: a new round through the processor.
    page.stop("Prove")
    assert "Measure again" in page.text("main")
    page.press("Go to the takes")
    assert "mixing them would spoil both" in page.text("main")
    page.press("Start a new round")
    page.press_at_once("Run all that is missing")
    page.wait(lambda: "The board is full" in page.text("main"), seconds=40)
    page.stop("Prove")
    for state in ("before", "predicted", "after", "target"):  # each label shows the line that it names
        assert len(page.all(f"#prove-plot .label-line.{state}")) == 1
    proof = services.proving.view(job_id)
    for name, channel in proof.channels.items():
        after = f"{channel.proof.outcome.after_range_db:.2f} dB"
        assert page.text(f'[data-proof="{name}"] [data-value="after"]') == after
        assert channel.proof.outcome.predicted_against_measured_db < 0.5
    assert page.text(".verdict-line").startswith("Proven"), proof.against
    assert page.faults_in_console(expected=("422",)) == []


def test_close_in_the_middle_and_go_on(driver, tmp_path):
    first = open_services(tmp_path)
    server, thread, address = serving(first)
    page = Page(driver, address).open("/")
    page.fill("Name", "Attic")
    page.press("Create job")
    page.stop("Rig")
    page.fill("Pace", "as fast as it computes")
    page.press("Save")
    page.press("Level")
    page.fill("Sweep length", "1")
    page.press("Save")
    page.stop("Takes")
    page.press_at_once("Run spot 1")
    page.wait(lambda: "Next: spot 2" in page.text("main"))
    server.close()
    thread.join(0.1)
    first.close()

    again = open_services(tmp_path)
    server, thread, address = serving(again)
    page = Page(driver, address).open("/jobs/1")  # opens where the job goes on
    page.open("/jobs/1/takes")
    assert page.text('[data-cell="L-1"] .word') == "clean"
    assert "Next: spot 2" in page.text("main")
    server.close()
    thread.join(0.1)
    again.close()


def test_deleting_asks_and_can_be_undone(driver, address):
    place, services = address
    page = Page(driver, place).open("/")
    page.fill("Name", "Barn")
    page.press("Create job")
    page.open("/")
    page.press("Copy Barn")
    page.press("Delete Barn, copy")
    assert "Delete Barn, copy?" in page.text("#messages")
    page.press("Delete")
    assert len(services.jobs.all()) == 1
    page.press("Restore it")
    assert len(services.jobs.all()) == 2


def test_a_recording_can_be_dropped_on_a_cell(driver, demo, demo_job, demo_address):
    copy = demo.jobs.copy(demo_job)
    page = Page(driver, demo_address).open(f"/jobs/{copy.id}/takes")
    driver.execute_script("""
      const files = new DataTransfer();
      files.items.add(new File([new Uint8Array(200)], 'notes.wav'));
      document.querySelector('[data-cell="L-4"]').dispatchEvent(
        new DragEvent('drop', {bubbles: true, cancelable: true, dataTransfer: files}))""")
    page.wait(lambda: "not a WAV" in page.text(".cell-fault"))
    assert demo.taking.board(copy.id).takes[("L", 4)].quality.word == "clean"
    demo.jobs.delete(copy.id)


def test_zoom_and_back_keep_the_vertical_scale(driver, demo_job, demo_address):
    page = Page(driver, demo_address).open(f"/jobs/{demo_job}/read")
    ticks = "return [...document.querySelectorAll('#plot .tick')].map((t) => t.textContent)"
    before = driver.execute_script(ticks)
    svg = page.find("#plot svg")
    ActionChains(driver).move_to_element_with_offset(svg, -200, 0).click_and_hold().move_by_offset(
        150, 5
    ).release().perform()
    zoomed = driver.execute_script(ticks)
    assert zoomed != before
    levels = [t for t in before if t == "0" or t[0] in "+−"]
    assert len(levels) > 2
    assert [t for t in zoomed if t == "0" or t[0] in "+−"] == levels
    svg.send_keys(Keys.HOME)
    page.wait(lambda: driver.execute_script(ticks) == before)


def test_evening_colours_are_kept(driver, demo_address):
    page = Page(driver, demo_address).open("/")
    page.press("Evening colours")
    page.open("/")
    assert page.attribute("html", "data-theme") == "evening"
    page.press("Day colours")


def test_stop_button_ends_sound_within_the_pass(driver, address):
    place, services = address
    job = services.jobs.create(JobDetails(name="Hall"))
    page = Page(driver, place).open(f"/jobs/{job.id}/takes")
    page.press_at_once("Run all that is missing")
    page.wait(lambda: "sounding" in page.text('[data-cell="L-1"]'))
    page.click("[data-stop-sound]")
    page.wait(lambda: services.sound.running() is None)
    page.wait(lambda: "Stopped by hand" in page.text("main"))
    assert services.taking.board(job.id).taken < 18


def test_every_view_of_the_curves_is_drawn_and_keeps_the_choice(driver, demo_job, demo_address):
    page = Page(driver, demo_address).open(f"/jobs/{demo_job}/read?front=R")
    page.faults_in_console()  # those that tests before this one asked for
    for view in (
        "seats",
        "phase",
        "delay",
        "impulse",
        "step",
        "early",
        "energy",
        "slices",
        "map",
        "times",
        "distortion",
        "noise",
        "level",
    ):
        page.click(f"label:has(input[value={view}])")
        page.wait(lambda v=view: f"view={v}" in driver.current_url)
        page.ready()
        assert page.all("figure.plot svg .trace, figure.plot svg image")
        assert "front=R" in driver.current_url
    # A scale stays until another is asked for; small plots share it.
    scale = page.attribute("[data-scale]", "value")
    page.fill("Smoothing", "1/3 octave")
    page.wait(lambda: "smoothing=1%2F3" in driver.current_url)
    page.ready()
    assert page.attribute("[data-scale]", "value") == scale
    page.fill("Plots", "one each")
    page.wait(lambda: len(page.all(".pair-plots figure")) == 2)
    page.ready()
    levels = [
        [tick.text for tick in figure.find_elements("css selector", ".tick") if tick.text[0] in "+−0"]
        for figure in page.all(".pair-plots figure")
    ]
    assert levels[0] == levels[1]
    assert len(levels[0]) > 2
    assert page.faults_in_console() == []
